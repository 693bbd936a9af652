package invented

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// ID names the engine; Version is the only one that there is.
const (
	ID      catalog.Engine = "invented"
	Version string         = "2.1"
)

var table = privilege.NewTable("OPEN", "STORE", "DISCARD", "MANAGE")

var names = naming.Limits{MaxLength: 40, Counted: naming.Characters}

// on are the privileges of each bundle.
var on = map[access.Bundle][]string{access.BundleRead: {"OPEN"}, access.BundleWrite: {"OPEN", "STORE"},
	access.BundleBuild: {"OPEN", "STORE", "DISCARD"}, access.BundleOwn: {"OPEN", "STORE", "DISCARD", "MANAGE"}}

func bundle(name access.Bundle, decides string) engine.Bundle {
	return engine.Bundle{Name: string(name), Decides: decides,
		On: map[catalog.Scope][]string{catalog.ScopeDatabase: on[name]}}
}

func cannot(why, instead string) engine.Form { return engine.Form{Why: why, Instead: instead} }

var description = engine.Description{
	ID: ID, Title: "Invented", Versions: "2 and later", Port: 7007, Releases: map[string]int{"2": 20, "3": 30},
	Nouns: map[engine.Noun]engine.Word{
		engine.NounDatabase: {One: "vault", Many: "vaults"}, engine.NounSchema: {},
		engine.NounTable:   {One: "box", Many: "boxes"},
		engine.NounAccount: {One: "clerk", Many: "clerks"}, engine.NounRole: {},
		engine.NounSession: {One: "visit", Many: "visits"}},
	Choices: map[string]string{"regions": "Regions"},
	Fields: map[change.Part][]engine.Field{
		engine.PartServer: {{Name: "hall", Title: "Hall", Type: engine.Text, Required: true,
			Decides: "which of the halls at that address"}},
		change.PartDatabase: {
			{Name: "region", Title: "Region", Type: engine.Pick, From: "regions", In: engine.AtCreate,
				Show: engine.InList, Default: "the hall's own",
				Decides: "where its boxes are kept", Fixed: "Make a new vault in the other region."},
			{Name: "retention", Title: "Retention", Type: engine.Number, Values: engine.Titled("forever"),
				Min: engine.N(1), Max: engine.N(3650), In: engine.AtBoth,
				Show: engine.InDetail, Default: "forever", Decides: "how many days a box is kept"},
			{Name: "sealed", Title: "Sealed", Type: engine.Yes, In: engine.AtBoth, Show: engine.InDetail, Default: "no",
				Decides: "whether boxes can be opened"},
			{Name: "labels", Title: "Labels", Type: engine.List, In: engine.AtBoth, Show: engine.InDetail,
				Default: "none", Decides: "under what it is found"},
			{Name: "mirror", Title: "Mirror", Type: engine.Yes, In: engine.AtBoth, Show: engine.InDetail, Since: "3",
				Default: "no", Group: engine.More,
				Decides: "whether a second one is kept in step"},
			{Name: "shred", Title: "Shred", Type: engine.Yes, In: []change.Kind{change.DropDatabase}, Default: "no",
				Decides: "whether what was in it is shredded"},
			{Name: "comment", Title: "Comment", Type: engine.Text, In: engine.AtBoth, Show: engine.InDetail,
				Default: "none", Decides: "what people read about it"},
		},
		change.PartAccount: {{Name: "badge", Title: "Badge", Type: engine.Text, In: []change.Kind{change.CreateAccount},
			Show:    engine.InDetail,
			Default: "none", Decides: "what the clerk shows at the door",
			Fixed: "Dismiss the clerk and admit one anew."}},
		change.PartGrant: {{Name: "deny", Title: "Deny", Type: engine.Yes, In: []change.Kind{change.GrantPrivilege},
			Default: "no",
			Decides: "whether the privileges are refused, whatever else is granted"}},
	},
	Intents: map[change.Kind]engine.Form{
		change.CreateDatabase: {Says: "A vault is reserved and then built; nobody can enter one that is only reserved.",
			Undo: "it is emptied"},
		change.AlterDatabase:  {Says: "Each setting is altered by itself.", Undo: "each gets the value that it had"},
		change.FillDatabase:   cannot("A vault takes no scripts.", "put the boxes in one by one"),
		change.SetAside:       cannot("A vault cannot be set aside.", "drop it for good"),
		change.BringBack:      cannot("Nothing is set aside.", "make a new vault"),
		change.Discard:        cannot("Nothing is set aside.", "drop it for good"),
		change.KeepHolding:    cannot("Nothing is set aside.", "nothing has to be done"),
		change.DropDatabase:   {Says: "The vault is emptied, with its clerks and what they may."},
		change.RenameDatabase: cannot("A vault keeps its name.", "make a new one and move the boxes"),
		change.EndSessions:    {Says: "The visitor is shown out."},
		change.MarkServer:     cannot("A warehouse has an identity of its own.", "there is nothing to be done"),
		change.CreateAccount:  {Says: "A clerk is admitted to one vault.", Undo: "the clerk is dismissed"},
		change.AlterAccount: cannot("What a clerk is, is settled when one is admitted.",
			"dismiss the clerk and admit one anew"),
		change.RenameAccount:   cannot("A clerk keeps its name.", "admit a new one"),
		change.SetPassword:     cannot("A clerk keeps its password.", "dismiss the clerk and admit one anew"),
		change.DropAccount:     {Says: "The clerk is dismissed, with what it may."},
		change.SetAsideAccount: cannot("A clerk is here or is not.", "dismiss the clerk for good"),
		change.GrantRole:       cannot("There are no roles.", "permit each clerk by itself"),
		change.RevokeRole:      cannot("There are no roles.", "revoke from each clerk by itself"),
		change.GrantPrivilege: {Says: "A clerk is permitted or denied something in its own vault.",
			Undo: "what it had before is put back"},
		change.RevokePrivilege: {Says: "What was permitted or denied is revoked.",
			Undo: "what it had before is put back"},
	},
	Principals: []engine.Principal{{Kind: "clerk", Title: "clerk", Many: "clerks", SignsIn: true, In: engine.InDatabase,
		Names:   names,
		Decides: "who comes and goes in one vault"}},
	Scopes: []engine.Scope{{Name: catalog.ScopeDatabase, Title: "vault", Parts: []string{"database"}},
		{Name: catalog.ScopeTable, Title: "box", Within: catalog.ScopeDatabase, Parts: []string{"database", "name"}}},
	Table: table,
	Privileges: engine.ParsePrivileges(`
		database table: OPEN, STORE, DISCARD
		database: MANAGE`),
	Granting: engine.Granting{Later: "What is permitted in a vault holds for boxes that come later.",
		AtOnce: "At once."},
	Bundles: []engine.Bundle{bundle(access.BundleRead, "Open every box."),
		bundle(access.BundleWrite, "Open and fill every box."),
		bundle(access.BundleBuild, "Open, fill and discard every box."),
		bundle(access.BundleOwn, "Everything in the vault.")},
	Endings: map[catalog.Ending]engine.Form{catalog.EndSession: {Says: "The visitor is shown out."},
		catalog.EndStatement: cannot("What a visitor does cannot be stopped alone.", "end the visit")},
	Gate: engine.Gate{Keeps: engine.KeepsNobody, Says: "There is no gate.",
		Leaks: "Whoever has a badge can come in until the vault is empty."},
	Team:   cannot("A team needs roles, and there are none.", "make the vault alone, and admit its clerks"),
	Names:  names,
	Script: engine.Script{Comment: "# ", End: "\n", Media: "application/x-ndjson", File: "ndjson", Client: "warehouse"},
}
