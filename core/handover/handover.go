// Package handover writes the sheet for the team that will use a database: where
// it is and how to connect, in the forms that clients and libraries take.
package handover

import (
	"net/url"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
)

// Login is one account's way into one database.
type Login struct {
	Host     string
	Port     int
	Database string
	Account  string
	// Password is empty when it is not shown (any more): a blank is left for it.
	Password string
	TLS      catalog.TLSMode
}

// Form is one way of writing a login down.
type Form struct {
	// Name is stable: url, dsn, jdbc, env, options, passwords.
	Name  string
	Title string
	// File is where the text belongs; empty for one that is no file.
	File string
	Text string
}

func (l Login) address() string {
	host := l.Host
	if strings.Contains(host, ":") {
		host = "[" + host + "]" // IPv6
	}
	return host + ":" + strconv.Itoa(l.Port)
}

// user is the userinfo of a URL; without a password there is none in it.
func (l Login) user() *url.Userinfo {
	if l.Password == "" {
		return url.User(l.Account)
	}
	return url.UserPassword(l.Account, l.Password)
}

// URL writes a login as a URL with one option.
func (l Login) URL(scheme, option, value string) string {
	u := url.URL{Scheme: scheme, User: l.user(), Host: l.address(), Path: "/" + l.Database,
		RawQuery: url.Values{option: {value}}.Encode()}
	return u.String()
}

// JDBC writes a JDBC address: the account goes into the query there.
func (l Login) JDBC(scheme, option, value string) string {
	q := url.Values{"user": {l.Account}, option: {value}}
	if l.Password != "" {
		q.Set("password", l.Password)
	}
	return "jdbc:" + scheme + "://" + l.address() + "/" + url.PathEscape(l.Database) + "?" + q.Encode()
}

// Environment writes lines for a shell, each value in single quotes.
func Environment(pairs [][2]string) string {
	var b strings.Builder
	for _, p := range pairs {
		if p[1] != "" {
			b.WriteString(p[0] + "='" + strings.ReplaceAll(p[1], "'", `'\''`) + "'\n")
		}
	}
	return b.String()
}
