package fleet_test

import (
	"errors"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest/invented"
	"example.com/genarch/fleet"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil/memrecords"
)

// registration is one of a warehouse.
func registration(name string, at *localdb.Server) catalog.Server {
	return catalog.Server{Name: name, Engine: "invented", Host: at.Host, Port: at.Port, Admin: at.Admin,
		Environment: catalog.Staging, TLS: catalog.TLSOff, Options: catalog.Values{"hall": "main"}}
}

// A server is registered by whoever answers there, and known by it from then on.
func TestRegistering(t *testing.T) {
	ctx := t.Context()
	records := memrecords.New()
	f := fleet.New(records, invented.Engine{})
	defer f.Close()
	_, one := invented.Start(t)
	_, other := invented.Start(t)
	added, in, err := f.Add(ctx, "keeper", registration("cellar", one), one.Password)
	if err != nil || !added.Identity.Known() || in.Identity.Key != added.Identity.Key {
		t.Fatalf("registered as %+v, answering as %+v, %v", added.Identity, in.Identity, err)
	}
	for what, try := range map[string]struct {
		srv      catalog.Server
		password secret.Text
		want     string
	}{
		"the name again":      {registration("cellar", other), other.Password, record.ErrExists.Error()},
		"the instance again":  {registration("attic", one), one.Password, "is registered already, as cellar"},
		"a wrong password":    {registration("attic", other), secret.New("wrong"), "nobody is known by that name"},
		"no name":             {registration("", other), other.Password, "name"},
		"a name with a slash": {registration("a/b", other), other.Password, "name"},
		"no host": {func() catalog.Server { s := registration("attic", other); s.Host = ""; return s }(), other.Password,
			"the host is missing"},
		"no such port": {func() catalog.Server { s := registration("attic", other); s.Port = 70000; return s }(),
			other.Password, "port 70000"},
		"no such environment": {func() catalog.Server { s := registration("attic", other); s.Environment = "x"; return s }(),
			other.Password, "production, staging, development"},
		"no such engine": {func() catalog.Server { s := registration("attic", other); s.Engine = "x"; return s }(),
			other.Password, "invented"},
		"an option too many": {func() catalog.Server {
			s := registration("attic", other)
			s.Options = catalog.Values{"hall": "main", "door": "x"}
			return s
		}(), other.Password, "door"},
	} {
		if _, _, err := f.Add(ctx, "keeper", try.srv, try.password); err == nil ||
			!strings.Contains(err.Error(), try.want) {
			t.Errorf("%s: %v; want %q", what, err, try.want)
		}
	}
	list, err := f.List(ctx)
	if err != nil || len(list) != 1 {
		t.Errorf("%d are registered, %v", len(list), err)
	}
	if _, _, _, err := f.Open(ctx, "attic"); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("one that is not registered: %v", err)
	}
	_, _, access, err := f.Open(ctx, "cellar")
	if err != nil {
		t.Fatal(err)
	}
	if _, _, again, err := f.Open(ctx, "cellar"); err != nil || again != access {
		t.Errorf("opened twice it is two accesses (%v)", err)
	}
	if _, err := access.Inspect(ctx); err != nil {
		t.Errorf("the access: %v", err)
	}
}

// The way to a server is altered with its password only, and only to the same instance;
// another one is accepted by name.
func TestAnotherInstance(t *testing.T) {
	ctx := t.Context()
	records := memrecords.New()
	f := fleet.New(records, invented.Engine{})
	defer f.Close()
	_, one := invented.Start(t)
	_, other := invented.Start(t)
	if _, _, err := f.Add(ctx, "keeper", registration("cellar", one), one.Password); err != nil {
		t.Fatal(err)
	}
	srv, err := f.Get(ctx, "cellar")
	if err != nil {
		t.Fatal(err)
	}
	srv.Environment = catalog.Production
	if srv, err = f.Edit(ctx, "keeper", srv, nil); err != nil {
		t.Fatalf("the environment alone: %v", err)
	}
	if srv, err = f.Get(ctx, "cellar"); err != nil || srv.Environment != catalog.Production {
		t.Fatalf("it is %+v, %v", srv, err)
	}
	moved := srv
	moved.Port = other.Port
	if _, err := f.Edit(ctx, "keeper", moved, nil); !errors.Is(err, record.ErrSecretNeeded) {
		t.Errorf("another port without the password: %v", err)
	}
	password := other.Password
	if _, err := f.Edit(ctx, "keeper", moved, &password); err == nil {
		t.Error("another instance was taken for the same")
	} else if e, ok := errors.AsType[*engine.IdentityError](err); !ok || e.Known.Key == e.Found.Key {
		t.Errorf("another instance: %v", err)
	}
	stale := srv
	stale.Version--
	if _, err := f.Edit(ctx, "keeper", stale, nil); !errors.Is(err, record.ErrStale) {
		t.Errorf("an edit of what somebody else has altered: %v", err)
	}
	// The address stays, and somebody else answers there.
	if err := records.UpdateServer(ctx, moved, &password, journal.Entry{}); err != nil {
		t.Fatal(err)
	}
	_, found, err := f.Check(ctx, "cellar")
	wrong, ok := errors.AsType[*engine.IdentityError](err)
	if !ok || found.Identity.Key != wrong.Found.Key {
		t.Fatalf("the check: %+v, %v", found.Identity, err)
	}
	if _, err := f.Accept(ctx, "keeper", "cellar", "some other key"); !errors.Is(err, record.ErrInvalid) {
		t.Errorf("accepted by a key that nobody has: %v", err)
	}
	accepted, err := f.Accept(ctx, "keeper", "cellar", wrong.Found.Key)
	if err != nil || accepted.Identity.Key != wrong.Found.Key {
		t.Fatalf("accepted as %+v, %v", accepted.Identity, err)
	}
	if _, _, err := f.Check(ctx, "cellar"); err != nil {
		t.Errorf("the check afterwards: %v", err)
	}
	if err := f.RefreshIdentity(ctx, "keeper", "cellar"); err != nil {
		t.Error(err)
	}
	if err := f.Forget(ctx, "keeper", "cellar"); err != nil {
		t.Error(err)
	}
	if err := f.Forget(ctx, "keeper", "cellar"); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("forgotten twice: %v", err)
	}
	if d := f.Engines(); len(d) != 1 || d[0].ID != "invented" {
		t.Errorf("the engines are %v", d)
	}
}
