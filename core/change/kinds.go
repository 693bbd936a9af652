package change

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
)

// kind is what an intent of one kind is made of. Whatever else stands in one is
// refused, by name: a careful option that was mistyped, or put into the wrong
// place, must not vanish.
type kind struct {
	// part holds what is asked for; empty: nothing does.
	part Part
	// fields of the part that may be given, by their names in JSON, and needed
	// those that must be.
	fields, needed []string
	// clears: it may say how sessions in the way are dealt with.
	clears bool
	// target is what the intent is about.
	target func(in Intent) naming.Address
}

// Part is a part of an intent, by its name in JSON.
type Part string

// The parts.
const (
	PartDatabase Part = "database"
	PartAccount  Part = "account"
	PartMember   Part = "member"
	PartGrant    Part = "grant"
	PartSessions Part = "sessions"
	PartHolding  Part = "holding"
	PartMark     Part = "mark"
	PartClearing Part = "clearing"
)

// PartOf is the part that an intent of a kind is about; empty: there is no such kind.
func PartOf(k Kind) Part { return kinds[k].part }

// Clears reports whether an intent of a kind may say how sessions are dealt with.
func Clears(k Kind) bool { return kinds[k].clears }

func words(text string) []string { return strings.Fields(text) }

// kinds holds every kind of intent. What an engine has not of it, its planner stops.
var kinds = map[Kind]kind{
	CreateDatabase: {part: PartDatabase, target: ofDatabase, clears: true,
		fields: words("name if_not_exists team blueprint options")},
	AlterDatabase: {part: PartDatabase, target: ofDatabase, clears: true, fields: words("name options"),
		needed: words("name options")},
	DropDatabase: {part: PartDatabase, target: ofDatabase, clears: true, fields: words("name if_exists options"),
		needed: words("name")},
	RenameDatabase: {part: PartDatabase, target: ofDatabase, clears: true, fields: words("name new_name"),
		needed: words("name new_name")},
	SetAside: {part: PartDatabase, target: ofDatabase, clears: true,
		fields: words("name if_exists keep_days options"), needed: words("name")},
	FillDatabase: {part: PartDatabase, target: ofDatabase, fields: words("name script options"),
		needed: words("name script")},
	BringBack: {
		part:   PartHolding,
		target: ofHolding,
		clears: true,
		fields: words("id account new_name"),
		needed: words("id"),
	},
	Discard: {part: PartHolding, target: ofHolding, clears: true, fields: words("id account"),
		needed: words("id")},
	KeepHolding: {part: PartHolding, target: ofHolding, fields: words("id account until hold release"),
		needed: words("id")},
	EndSessions: {part: PartSessions, target: ofSessions, clears: true,
		fields: words("ids database account application client class idle_longer older statement_only")},
	MarkServer: {part: PartMark, target: func(in Intent) naming.Address { return naming.ServerAddress(in.Server) }},
	CreateAccount: {part: PartAccount, target: ofAccount,
		fields: words("name host database role if_not_exists password bits options")},
	AlterAccount: {part: PartAccount, target: ofAccount, clears: true,
		fields: words("name host database role options")},
	RenameAccount: {part: PartAccount, target: ofAccount, fields: words("name host database role new_name new_host")},
	SetPassword: {part: PartAccount, target: ofAccount,
		fields: words("name host database role password bits options")},
	DropAccount: {part: PartAccount, target: ofAccount, clears: true,
		fields: words("name host database role if_exists options")},
	SetAsideAccount: {part: PartAccount, target: ofAccount, clears: true,
		fields: words("name host database role if_exists keep_days options")},
	GrantRole: {part: PartMember, target: ofRole, fields: words("role to admin options"),
		needed: words("role to")},
	RevokeRole: {part: PartMember, target: ofRole, fields: words("role to"), needed: words("role to")},
	GrantPrivilege: {part: PartGrant, target: ofGrant,
		fields: words("database to bundle privileges on grant_option options"), needed: words("database to")},
	RevokePrivilege: {part: PartGrant, target: ofGrant, fields: words("database to bundle privileges on options"),
		needed: words("database to")},
}

// Kinds lists every kind of intent, sorted.
func Kinds() []Kind {
	out := make([]Kind, 0, len(kinds))
	for k := range kinds {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func ofDatabase(in Intent) naming.Address {
	return naming.DatabaseAddress(in.Server, in.Database.Name)
}

func ofHolding(in Intent) naming.Address {
	return naming.Address{Server: in.Server, Kind: naming.KindHolding, Name: in.Holding.ID}
}

func ofAccount(in Intent) naming.Address {
	return PrincipalAddress(in.Server, in.Account.Principal())
}

func ofRole(in Intent) naming.Address {
	return naming.Address{Server: in.Server, Kind: naming.KindRole, Name: in.Member.Role,
		Database: in.Member.To.Database}
}

func ofGrant(in Intent) naming.Address {
	return naming.DatabaseAddress(in.Server, in.Grant.Database)
}

func ofSessions(in Intent) naming.Address {
	if len(in.Sessions.IDs) == 1 {
		return naming.Address{Server: in.Server, Kind: naming.KindSession, Name: in.Sessions.IDs[0].String()}
	}
	return naming.ServerAddress(in.Server)
}

// shape checks that an intent has the parts and fields of its kind, and no other.
func (in Intent) shape() error {
	k, known := kinds[in.Kind]
	if !known {
		return errors.New("there is no intent of kind " + string(in.Kind))
	}
	parts := map[Part]any{PartDatabase: in.Database, PartAccount: in.Account, PartMember: in.Member,
		PartGrant: in.Grant, PartSessions: in.Sessions, PartHolding: in.Holding,
		PartClearing: in.Clearing, PartMark: in.Mark}
	for _, name := range []Part{PartDatabase, PartAccount, PartMember, PartGrant, PartSessions, PartHolding,
		PartMark, PartClearing} {
		given := !reflect.ValueOf(parts[name]).IsZero()
		switch {
		case name == k.part && !given:
			return fmt.Errorf("%s needs the part %s", in.Kind, name)
		case given && name != k.part && !(name == PartClearing && k.clears):
			return fmt.Errorf("%s has no part %s", in.Kind, name)
		}
	}
	if k.part == PartMark {
		return nil
	}
	given := map[string]bool{}
	fieldsOf(reflect.ValueOf(parts[k.part]).Elem(), given)
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if !slices.Contains(k.fields, name) {
			return fmt.Errorf("%s has no %s.%s", in.Kind, k.part, name)
		}
	}
	for _, name := range k.needed {
		if !given[name] {
			return fmt.Errorf("%s needs %s.%s", in.Kind, k.part, name)
		}
	}
	return nil
}

// fieldsOf notes, by their names in JSON, the fields of a part that were given.
func fieldsOf(part reflect.Value, given map[string]bool) {
	for i := range part.NumField() {
		f := part.Type().Field(i)
		if f.Anonymous {
			fieldsOf(part.Field(i), given)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if v := part.Field(i); !v.IsZero() &&
			!((v.Kind() == reflect.Slice || v.Kind() == reflect.Map) && v.Len() == 0) {
			given[name] = true
		}
	}
}

// plain reports whether an object names nothing below the database.
func plain(o catalog.Object) bool {
	return (o.Scope == "" || o.Scope == catalog.ScopeDatabase) && o.Schema == "" && o.Name == "" && o.Args == "" &&
		o.Column == ""
}
