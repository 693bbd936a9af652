package server

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/standin/sqlserver/tsql"
)

// fileOf is a new file as a statement asks for it.
func fileOf(s tsql.File) *File {
	f := &File{Name: s.Name, Path: s.Path, Group: s.Group, Log: s.Log, Size: 8 << 20, Max: -1, Growth: 64 << 20,
		GUID: uuid(), Used: 1 << 20}
	if s.HasSize {
		f.Size = s.Size
	}
	if s.HasMax && s.Max != 0 {
		f.Max = s.Max
	}
	if s.HasGrowth {
		f.Growth, f.Percent = s.Growth, s.Percent
	}
	return f
}

// files: Long: the rules of one statement, in the order in which the server looks at them.
func (x *exec) files(d *Database, specs []tsql.File) {
	var data, logs []*File
	broken := func(p *Problem) {
		p.Also = append(
			p.Also,
			&Problem{
				Number: 1802,
				Class:  16,
				State:  4,
				Text:   "CREATE DATABASE failed. Some file names listed could not be created. Check related errors.",
			},
		)
		panic(p)
	}
	for _, s := range specs {
		f := fileOf(s)
		if !s.Log && !slices.ContainsFunc(d.Groups, func(g string) bool { return x.inst.same(g, s.Group) }) {
			d.Groups = append(d.Groups, s.Group)
		}
		if s.Path == "" {
			fail(153, 15, 1, "Invalid usage of the option FILENAME in the CREATE/ALTER DATABASE statement.")
		}
		for _, o := range x.inst.dbs {
			for _, g := range o.Files {
				if strings.EqualFold(g.Path, f.Path) {
					broken(
						&Problem{
							Number: 5170,
							Class:  16,
							State:  1,
							Text: fmt.Sprintf(
								"Cannot create file '%s' because it already exists. Change the file path or the file "+
									"name, and retry the operation.",
								f.Path,
							),
						},
					)
				}
			}
		}
		if !strings.HasPrefix(f.Path, x.inst.DataPath) && !strings.HasPrefix(f.Path, "/data/") {
			broken(
				&Problem{
					Number: 5133,
					Class:  16,
					State:  1,
					Text: fmt.Sprintf(
						"Directory lookup for the file \"%s\" failed with the operating system error 2(The system "+
							"cannot find the file specified.).",
						f.Path,
					),
				},
			)
		}
		for _, g := range append(slices.Clone(data), logs...) {
			if x.inst.same(g.Name, f.Name) {
				fail(1828, 16, 4, "The logical file name \"%s\" is already in use. Choose a different name.", f.Name)
			}
		}
		if s.Log {
			logs = append(logs, f)
		} else {
			data = append(data, f)
		}
	}
	if len(data) > 0 && data[0].Size < x.inst.dbs[3].Files[0].Size {
		fail(
			1803,
			16,
			1,
			"The CREATE DATABASE statement failed. The primary file must be at least %d MB to accommodate a copy of "+
				"the model database.",
			x.inst.dbs[3].Files[0].Size>>20,
		)
	}
	if len(data) == 0 {
		data = d.Files[:1]
	}
	if len(logs) == 0 {
		logs = d.Files[1:]
	}
	d.Files = nil
	id := 1
	for k, f := range append(append([]*File{}, data[0]), append(logs, data[1:]...)...) {
		_ = k
		f.ID = id
		id++
		d.Files = append(d.Files, f)
	}
}
