package mysqlfamily

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// A server that takes the former password of an account beside the new one lets programs be
// given the new one one after the other: keepOld is asked for with the new one, and
// secondPassword says that there are two.
const (
	keepOld        = "keep_old"
	secondPassword = "second_password"
)

// secondPasswordFields are those of a product that has it.
var secondPasswordFields = []engine.Field{
	{Name: keepOld, Title: "Keep the former one", Type: engine.Yes, In: []change.Kind{change.SetPassword},
		Show: engine.Nowhere, Default: "no",
		Decides: "whether the password of today is taken beside the new one, until it is discarded"},
	{Name: secondPassword, Title: "Second password", Type: engine.Yes, For: []string{"account"},
		In: []change.Kind{change.AlterAccount}, Show: engine.InDetail, Default: "no",
		Decides: "whether its former password is taken too; no discards that one"},
}

// planKeepOld says what becomes of the password of today, and what the statement ends with.
func planKeepOld(b *change.Brief, spec change.AccountSpec, a catalog.Account, method string) (end string) {
	second := a.Properties.Bool(secondPassword)
	if !spec.Options.Bool(keepOld) {
		if second {
			b.Find(change.Caution, change.SecondPassword, "Discard it, once nobody needs it.",
				"%s has a second password, its former one, which goes on to be taken; the password of today is not.",
				b.Target).Offer(remedy.Command("account.alter", b.Target).With("options."+secondPassword, "no"))
		}
		return ""
	}
	switch {
	case a.Method != method:
		b.Find(change.Stop, change.SecondPassword, "Leave the method as it is, or keep no former password.",
			"Both passwords of an account have the same method, and %s signs in with %s.", b.Target, a.Method)
	case a.Open || a.Password != nil && !*a.Password:
		b.Find(change.Stop, change.SecondPassword, "Set one without keeping anything.",
			"%s has no password that could be kept.", b.Target)
	case second:
		b.Find(change.Caution, change.SecondPassword, "Look whether everybody has the password of today already.",
			"%s has a second password already, which is not taken any more from then on: the password of today "+
				"takes its place.", b.Target)
	default:
		b.Find(change.Note, change.SecondPassword, "",
			"The password of today goes on to be taken, until it is discarded (second_password=no).")
	}
	return "\n  RETAIN CURRENT PASSWORD"
}

// planDiscard takes the former password of an account away.
func planDiscard(b *change.Brief, spec change.AccountSpec, a catalog.Account, want map[string]string) {
	if !spec.Options.Has(secondPassword) {
		return
	}
	keep, has := spec.Options.Bool(secondPassword), a.Properties.Bool(secondPassword)
	was := yesNo(has)
	b.Set(change.Setting{Name: secondPassword, Was: &was, Value: yesNo(keep), Asked: true,
		Decides: "whether its former password is taken too"})
	switch {
	case keep == has:
		b.Find(change.Note, change.SecondPassword, "", "%s has %s password, so nothing is discarded.", b.Target,
			map[bool]string{true: "a second", false: "no second"}[has])
	case keep:
		b.Find(change.Stop, change.SecondPassword, "Set another password, and keep the one of today with it.",
			"%s has one password, and it can be kept only when another one is set.", b.Target).
			Offer(remedy.Command("account.password", b.Target).With("options."+keepOld, remedy.Yes))
	default:
		b.Find(change.Caution, change.SecondPassword, "Make sure that every program has the new one.",
			"Whoever still signs in to %s with the former password is refused from then on.", b.Target)
		want[secondPassword] = "no"
		args := checkOf("account", a.Principal)
		args[secondPassword] = "no"
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Irreversible: true,
			Title:     "discard the former password of " + naming.Show(a.Principal.String()),
			Statement: "ALTER USER " + quotePrincipal(a.Principal) + " DISCARD OLD PASSWORD", Args: args})
	}
}
