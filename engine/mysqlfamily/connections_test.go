package mysqlfamily

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
	for _, f := range (maria{}).Connections(l) {
		out[f.Name] = f.Text
	}
	return out
}

func TestConnections(t *testing.T) {
	l := handover.Login{Host: "10.0.0.7", Port: 3306, Database: "cargo", Account: "o'dd", Password: hostilePassword,
		TLS: catalog.TLSVerified}
	f := forms(l)
	u, err := url.Parse(f["url"])
	if password, _ := u.User.Password(); err != nil || password != hostilePassword || u.User.Username() != "o'dd" {
		t.Errorf("url %s: %v", f["url"], err)
	}
	for form, want := range map[string]string{"options": `password="p@ss:/?#[]!$&'()*+,;=\"\\ %`,
		"env": `DB_USER='o'\''dd'`, "dsn": `password="p@ss:/?#[]!$&'()*+,;=""\ %`, "jdbc": "sslMode=verify-full"} {
		if !strings.Contains(f[form], want) {
			t.Errorf("%s lacks %q:\n%s", form, want, f[form])
		}
	}
	if !strings.Contains(f["options"], "ssl-verify-server-cert") || !strings.Contains(f["options"], "database=cargo") {
		t.Error(f["options"])
	}
	l.Password, l.Database = "", ""
	if f := forms(l); strings.Contains(f["options"], "database") || !strings.Contains(f["options"], "# password=") {
		t.Error(f["options"])
	}
}
