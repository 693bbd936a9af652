// Package policy holds who may do what in Genarch and how careful it is.
package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Permission is one thing that an operator may do.
type Permission string

// The permissions. None implies another.
const (
	View    Permission = "view"    // read servers, changes and the journal
	Request Permission = "request" // make changes as drafts
	Run     Permission = "run"     // let a change run
	Admin   Permission = "admin"   // register servers, manage operators and tokens
)

// Permissions lists them all.
var Permissions = []Permission{View, Request, Run, Admin}

// Operator is a person or a program that signs in to Genarch.
type Operator struct {
	Name        string
	Permissions []Permission
	// Program: signs in with a token, not with a password.
	Program  bool
	Disabled bool
	Created  time.Time
}

// May reports whether the operator has the permission.
func (o Operator) May(r Permission) bool { return !o.Disabled && slices.Contains(o.Permissions, r) }

// ParsePermissions reads "view,request,run"; "all" stands for all of them.
func ParsePermissions(text string) ([]Permission, error) {
	if text == "all" {
		return slices.Clone(Permissions), nil
	}
	var out []Permission
	for word := range strings.SplitSeq(text, ",") {
		r := Permission(strings.TrimSpace(word))
		if !slices.Contains(Permissions, r) {
			return nil, fmt.Errorf("there is no permission %q; there are view, request, run, admin, or all", word)
		}
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	return out, nil
}

// DraftLife is how long a draft can be run after it was made.
const DraftLife = 24 * time.Hour

// WaitLife is how long a change waits for somebody to let it run.
const WaitLife = 7 * 24 * time.Hour

// SecretLife is how long generated passwords are kept for whoever asked for
// the change; they are forgotten as soon as they were shown.
const SecretLife = WaitLife + 3*24*time.Hour

// SessionLife is how long a console session lasts: one watch. SessionIdle is how
// long it lasts without being used: a page that is open uses it.
const (
	SessionLife = 12 * time.Hour
	SessionIdle = 45 * time.Minute
)

// TokenLife is how long a program's token lasts when nothing else was said.
const TokenLife = 90 * 24 * time.Hour

// MinPassword is the fewest characters of an operator's password.
const MinPassword = 12

// MaxPassword bounds what is hashed, in bytes.
const MaxPassword = 256

// MinStrength is the least strength of an operator's password, in bits: 2 to
// this power tries, at the rate that the sign-in and argon2id leave.
const MinStrength = 60

// CheckPassword says why an operator's password is refused, or nil. bits is
// the estimate of its strength.
func CheckPassword(password string, bits float64) error {
	switch n := utf8.RuneCountInString(password); {
	case n < MinPassword:
		return fmt.Errorf("a password has at least %d characters, this one has %d", MinPassword, n)
	case len(password) > MaxPassword:
		return fmt.Errorf("a password has at most %d bytes", MaxPassword)
	case bits < MinStrength:
		return fmt.Errorf("this password is too easily guessed (about %.0f bits, %d are asked); take several unrelated words", bits, MinStrength)
	}
	return nil
}

// Service is who acts in the journal where nobody does.
const Service = "genarch"

// CheckOperatorName says why a name cannot be an operator's, or nil.
func CheckOperatorName(name string) error {
	if name == "" || len(name) > 64 {
		return fmt.Errorf("an operator's name has 1 to 64 characters")
	}
	if name == Service {
		return fmt.Errorf("%s is what the service itself is called in the journal; choose another name", Service)
	}
	for _, c := range name {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && !strings.ContainsRune("._-@", c) {
			return fmt.Errorf("an operator's name has lower-case letters, digits and . _ - @ only, not %q", c)
		}
	}
	return nil
}
