package postgres

import (
	"net/url"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
)

// hostilePassword is a password with everything that some form reads as its own.
const hostilePassword = `p@ss:/?#[]!$&'()*+,;="\ %` + "`ü"

func forms(l handover.Login) map[string]string {
	out := map[string]string{}
	for _, f := range (Engine{}).Connections(l) {
		out[f.Name] = f.Text
	}
	return out
}

func TestConnections(t *testing.T) {
	l := handover.Login{Host: "db1.ossavik.example", Port: 5432, Database: "lounges prod", Account: "lounges_app",
		Password: hostilePassword, TLS: catalog.TLSVerified}
	f := forms(l)
	u, err := url.Parse(f["url"])
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	if u.Scheme != "postgresql" || password != hostilePassword || u.Path != "/lounges prod" ||
		u.Query().Get("sslmode") != "verify-full" {
		t.Errorf("url %s reads as %q %q", f["url"], password, u.Path)
	}
	jdbc, err := url.Parse(strings.TrimPrefix(f["jdbc"], "jdbc:"))
	if err != nil || jdbc.Query().Get("password") != hostilePassword || jdbc.Query().Get("user") != "lounges_app" {
		t.Errorf("jdbc %s: %v", f["jdbc"], err)
	}
	for form, want := range map[string]string{"dsn": `password='p@ss:/?#[]!$&\'()*+,;="\\ %` + "`ü'",
		"passwords": `:lounges prod:lounges_app:p@ss\:/?`, "env": `PGPASSWORD='p@ss:/?#[]!$&'\''()`,
		"options": "[lounges prod]\nhost=db1"} {
		if !strings.Contains(f[form], want) {
			t.Errorf("%s lacks %q:\n%s", form, want, f[form])
		}
	}
	l.Password, l.Database, l.TLS, l.Host = "", "", catalog.TLSOff, "::1"
	f = forms(l)
	for form, text := range f {
		if strings.Contains(text, "p@ss") {
			t.Errorf("%s has a password that is not to be shown", form)
		}
	}
	if !strings.Contains(f["url"], "@[::1]:5432/") ||
		!strings.HasPrefix(f["passwords"], `\:\:1:5432:*:lounges_app:PASSWORD`) {
		t.Errorf("without password and database: %s %s", f["url"], f["passwords"])
	}
}
