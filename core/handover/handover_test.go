package handover

import (
	"net/url"
	"strings"
	"testing"
)

// Whatever a name, a host or a password holds, a form says it in its own way of writing.
func TestForms(t *testing.T) {
	l := Login{Host: "::1", Port: 5432, Database: "a b/c?d", Account: "o'neil@x", Password: "p:@/#?' %"}
	text := l.URL("postgresql", "sslmode", "verify-full")
	u, err := url.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	password, _ := u.User.Password()
	if u.Host != "[::1]:5432" || u.Path != "/"+l.Database || u.User.Username() != l.Account || password != l.Password ||
		u.Query().Get("sslmode") != "verify-full" {
		t.Errorf("the URL %s reads as %+v", text, u)
	}
	jdbc, err := url.Parse(strings.TrimPrefix(l.JDBC("mariadb", "sslMode", "trust"), "jdbc:"))
	if err != nil || jdbc.Query().Get("user") != l.Account || jdbc.Query().Get("password") != l.Password {
		t.Errorf("the JDBC address reads as %+v, %v", jdbc, err)
	}
	l.Password = ""
	if text := l.URL("postgresql", "a", "b"); strings.Contains(text, ":@") {
		t.Errorf("without a password: %s", text)
	}
	if text := l.JDBC("x", "a", "b"); strings.Contains(text, "password") {
		t.Errorf("without a password: %s", text)
	}
	if text := Environment([][2]string{{"A", "it's"}, {"B", ""}}); text != `A='it'\''s'`+"\n" {
		t.Errorf("the environment is written %q", text)
	}
}
