package mysqlfamily

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// readOnly is the property of a database whose server can make it so: that nobody alters
// anything in it, whatever privileges they have, nor drops it. Who may read goes on reading.
const readOnly = "read_only"

// readOnlyField is the field of a product that has the property.
var readOnlyField = engine.Field{Name: readOnly, Title: "Read only", Type: engine.Yes, Show: engine.InDetail,
	In: []change.Kind{change.AlterDatabase}, Default: "no",
	Decides: "whether writing to it and altering it is refused to everybody, whatever their privileges; reading goes on"}

// encryption is the property of a database whose new tables are encrypted where nobody says
// otherwise. Genarch shows it, and keeps it where it makes a database again.
const encryption = "encryption"

// encryptionField is the field of a product that has the property.
var encryptionField = engine.Field{Name: encryption, Title: "Encryption", Type: engine.Yes, Show: engine.InDetail,
	Decides: "whether new tables are encrypted, where nobody says otherwise"}

// encrypted is the end of the statement that makes a database like one that is encrypted.
func encrypted(yes bool) string {
	if yes {
		return "\n  DEFAULT ENCRYPTION 'Y'"
	}
	return ""
}

// alterReadOnly makes a database read only, or writable.
func alterReadOnly(name string, on bool) string {
	if on {
		return "ALTER DATABASE " + quoteIdent(name) + " READ ONLY = 1"
	}
	return "ALTER DATABASE " + quoteIdent(name) + " READ ONLY = 0"
}

func readOnlyStep(name string, on bool) change.Step {
	title := "make " + naming.Show(name) + " writable"
	if on {
		title = "make " + naming.Show(name) + " read only"
	}
	return change.Step{Kind: stepAlter, Title: title, Statement: alterReadOnly(name, on),
		Undo: alterReadOnly(name, !on), Args: map[string]string{"name": name, readOnly: catalog.WriteValue(on)}}
}

// planReadOnly stops at a database that is read only, where the change would fail on it.
func planReadOnly(p *change.Brief, d catalog.Database) {
	if d.Properties.Bool(readOnly) {
		p.Find(change.Stop, change.DatabaseReadOnly, "Make it writable first, if it is not so on purpose.",
			"%s is read only, so nothing in it can be altered.", naming.Show(d.Name)).
			Offer(remedy.Command("database.alter", p.Target).With("options."+readOnly, "no"))
	}
}

// planWritable makes a database that is read only writable for its drop: right before it, so
// that nobody writes to it until then; before everything else where events have to be switched
// off, which are part of it.
func planWritable(b *change.Brief, d catalog.Database, impact catalog.DropImpact) (first, last []change.Step) {
	if !d.Properties.Bool(readOnly) {
		return nil, nil
	}
	b.Find(change.Caution, change.DatabaseReadOnly, "Ask whoever made it so, if that was not you.",
		"%s is read only, which somebody may have wanted to keep it. The change makes it writable in order to drop it.",
		naming.Show(d.Name))
	step := []change.Step{readOnlyStep(d.Name, false)}
	if len(dropDetailsOf(impact.Details).Events) > 0 {
		return step, nil
	}
	return nil, step
}

// planSetReadOnly alters whether a database is read only, around whatever else is altered: before
// the steps when it is made writable, after them when it is made read only.
func planSetReadOnly(p *planning.Draft, d catalog.Database, others int) (first, last []change.Step) {
	is, will := d.Properties.Bool(readOnly), p.Settled.Bool(readOnly)
	switch {
	case is && others > 0 && (!p.Asked.Has(readOnly) || will):
		planReadOnly(&p.Brief, d)
	case !p.Asked.Has(readOnly) || is == will:
	case will:
		p.About(readOnly, change.Caution, change.DatabaseReadOnly,
			"Look at the sessions first, and say when it is to be.",
			"It waits for the transactions that are open in %[1]s, and whoever writes there meanwhile waits for it. "+
				"Afterwards every write fails, those of replication alone excepted; a replica of this server stays "+
				"writable.", naming.Show(d.Name)).Offer(remedy.Command("session.list", p.Snap.Server.Name))
		return nil, []change.Step{readOnlyStep(d.Name, true)}
	default:
		return []change.Step{readOnlyStep(d.Name, false)}, nil
	}
	return nil, nil
}
