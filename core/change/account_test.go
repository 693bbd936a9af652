package change

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/secret"
)

func TestIntentChecks(t *testing.T) {
	for _, in := range []Intent{
		{Kind: CreateAccount}, {Kind: GrantRole}, {Kind: GrantRole, Member: &MemberSpec{}}, {Kind: GrantPrivilege},
		{Kind: "account.fly"},
		{Kind: RenameAccount, Account: &AccountSpec{Name: "x"}}, {Kind: SetPassword, Account: &AccountSpec{Name: "x"}},
		{Kind: AlterAccount, Account: &AccountSpec{Name: "x"}},
		{Kind: CreateAccount, Account: &AccountSpec{Name: "x", Role: true, Password: Given}},
		{Kind: GrantPrivilege, Grant: &GrantSpec{Database: "d"}},
		{Kind: GrantPrivilege, Grant: &GrantSpec{Database: "d", Bundle: "all"}},
		{Kind: GrantPrivilege, Grant: &GrantSpec{Database: "d", Bundle: "read", Privileges: []string{"SELECT"}}},
		{Kind: GrantPrivilege, Grant: &GrantSpec{Database: "d", Privileges: []string{"FLY"}}},
	} {
		in.Server = "harbour"
		if in.Check() == nil {
			t.Errorf("%+v passes", in)
		}
	}
	for target, in := range map[string]Intent{
		"harbour/account:x":        {Kind: DropAccount, Account: &AccountSpec{Name: "x"}},
		"harbour/account:x@10.0.%": {Kind: DropAccount, Account: &AccountSpec{Name: "x", Host: "10.0.%"}},
		"harbour/role:crew": {Kind: GrantRole,
			Member: &MemberSpec{Role: "crew", To: catalog.Principal{Name: "x"}}},
		"harbour/d": {Kind: RevokePrivilege,
			Grant: &GrantSpec{Database: "d", To: catalog.Principal{Name: "x"}}},
	} {
		in.Server = "harbour"
		if err := in.Check(); err != nil || in.Target().String() != target {
			t.Errorf("%+v: %v, target %s; want %s", in, err, in.Target(), target)
		}
	}
}

func TestSecretsOfAnIntent(t *testing.T) {
	in := Intent{Kind: CreateDatabase, Database: &DatabaseSpec{Name: "d", Team: &TeamSpec{Name: "spas", Host: "10.%"}}}
	got := in.Secrets()
	if len(got) != 2 || got[0].Account.String() != "spas_app@10.%" || got[0].Given ||
		got[1].Account.Name != "spas_read" {
		t.Errorf("secrets %+v", got)
	}
	if got := (Intent{Kind: CreateAccount,
		Account: &AccountSpec{Name: "x", Password: Given}}).Secrets(); len(got) != 1 || !got[0].Given {
		t.Errorf("a password that was given: %+v", got)
	}
	if got := (Intent{Kind: CreateAccount,
		Account: &AccountSpec{Name: "x", Password: NoPassword}}).Secrets(); len(got) != 0 {
		t.Errorf("no password needs %v", got)
	}
	if p := (TeamSpec{Name: "Spas!"}).CheckTeam(naming.Rule{Suffix: "_prod"},
		naming.Limits{MaxLength: 63}); len(p) == 0 {
		t.Error("a team's name with an exclamation mark passes")
	}
	if p := (TeamSpec{Name: "spas"}).CheckTeam(naming.Rule{Suffix: "_prod"}, naming.Limits{MaxLength: 63}); len(p) > 0 {
		t.Errorf("the rule for databases is asked of a team: %v", p)
	}
}

// TestMask: the secret's place is known by where it is, whatever a name looks like.
func TestMask(t *testing.T) {
	for _, name := range []string{"plain", "'" + secret.Mask + "'", "", `\`} {
		s := Step{Args: map[string]string{"name": name}}.WithSecret(name, "CREATE USER "+name+" USING ", " LOCK")
		if got := s.Filled("'hash'"); got != "CREATE USER "+name+" USING 'hash' LOCK" {
			t.Errorf("filled: %s", got)
		}
		if name != "" && (len(s.SecretsNeeded()) != 1 || s.SecretsNeeded()[0] != name) || s.Args["name"] != name {
			t.Errorf("needs %v", s.SecretsNeeded())
		}
		s.Secrets = map[string]secret.Text{name: secret.New("hunter2")}
		text, err := json.Marshal(s)
		if err != nil || strings.Contains(string(text)+fmt.Sprintf("%v %+v %#v", s, s, s), "hunter2") {
			t.Errorf("the secret comes out: %s", text)
		}
	}
	if got := (Step{Statement: "x", Args: map[string]string{"secret_at": "99"}}).Filled("y"); got != "x" {
		t.Errorf("a place that is not there: %q", got)
	}
}

func TestConfirm(t *testing.T) {
	c := Change{State: Draft, Brief: Brief{Confirm: "tickets_app", Steps: []Step{{Kind: "x"}}}}
	c.Prepare()
	if _, err := c.Start("keeper", Decision{Confirm: "ticket_app"}, time.Unix(1, 0)); err == nil || c.State != Draft {
		t.Errorf("the wrong name: %v, %s", err, c.State)
	}
	if _, err := c.Start("keeper", Decision{Confirm: "tickets_app"}, time.Unix(1, 0)); err != nil ||
		c.State != Running {
		t.Errorf("the right name: %v, %s", err, c.State)
	}
}
