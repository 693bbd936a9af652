package server

import (
	"slices"
)

func (x *exec) property(proc string, arg func(int, ...string) any) {
	d := x.s.DB
	if !x.inst.dbHas(x.s.cur, d, "ALTER", 0, 0, 0) {
		fail(15247, 16, 1, "User does not have permission to perform this action.")
	}
	name := text(arg(0, "@name"))
	k := slices.IndexFunc(d.Props, func(p *Prop) bool { return p.Class == 0 && x.inst.same(p.Name, name) })
	before := slices.Clone(d.Props)
	switch proc {
	case "sp_addextendedproperty":
		if k >= 0 {
			fail(15233, 16, 1, "Property cannot be added. Property '%s' already exists for 'object specified'.", name)
		}
		d.Props = append(d.Props, &Prop{Name: name, Value: arg(1, "@value")})
	case "sp_updateextendedproperty":
		if k < 0 {
			fail(
				15217,
				16,
				1,
				"Property cannot be updated or deleted. Property '%s' does not exist for 'object specified'.",
				name,
			)
		}
		d.Props[k] = &Prop{Name: name, Value: arg(1, "@value")}
	default:
		if k < 0 {
			fail(
				15217,
				16,
				1,
				"Property cannot be updated or deleted. Property '%s' does not exist for 'object specified'.",
				name,
			)
		}
		d.Props = slices.Delete(d.Props, k, k+1)
	}
	x.undo(func() { d.Props = before })
	x.finish(0, 0, 0)
}
