// Package fleet knows the registered servers and holds them open: registering,
// checking, accepting another instance, forgetting, and handing out access that
// always belongs to the registration as it is now.
package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
)

// Store is what the fleet needs of the records.
type Store interface {
	AddServer(ctx context.Context, s catalog.Server, password secret.Text, e journal.Entry) (catalog.Server, error)
	Server(ctx context.Context, name string) (catalog.Server, error)
	Servers(ctx context.Context) ([]catalog.Server, error)
	Secret(ctx context.Context, name string) (secret.Text, error)
	UpdateServer(ctx context.Context, s catalog.Server, password *secret.Text, e journal.Entry) error
	ForgetServer(ctx context.Context, name string, e journal.Entry) error
}

// Fleet is the registered servers. It may be used by many goroutines.
type Fleet struct {
	store   Store
	engines map[catalog.Engine]engine.Engine

	mu   sync.Mutex // guards open
	open map[string]opened
}

// freshTime is how long a registration is taken as read. An edit through this
// service is seen at once, one through another copy of it after this time.
const freshTime = time.Second

type opened struct {
	server     engine.Server
	registered catalog.Server
	read       time.Time
}

// current reports whether access belongs to a registration as it is now.
func (o opened) current(s catalog.Server) bool {
	return o.registered.ID == s.ID && o.registered.Version == s.Version
}

// New makes a fleet of the engines given.
func New(store Store, engines ...engine.Engine) *Fleet {
	f := &Fleet{store: store, engines: map[catalog.Engine]engine.Engine{}, open: map[string]opened{}}
	for _, e := range engines {
		f.engines[e.Describe().ID] = e
	}
	return f
}

// Engines are what the engines say of themselves, by their titles.
func (f *Fleet) Engines() []*engine.Description {
	var out []*engine.Description
	for _, e := range f.engines {
		out = append(out, e.Describe())
	}
	slices.SortFunc(out, func(a, b *engine.Description) int { return strings.Compare(a.Title, b.Title) })
	return out
}

// Engine finds an engine by name.
func (f *Fleet) Engine(name catalog.Engine) (engine.Engine, error) {
	e, found := f.engines[name]
	if !found {
		var names []string
		for _, d := range f.Engines() {
			names = append(names, string(d.ID))
		}
		return nil, fmt.Errorf("there is no engine %q; there are %s", name, strings.Join(names, ", "))
	}
	return e, nil
}

// Open gives access to a registered server, for its present registration.
func (f *Fleet) Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error) {
	f.mu.Lock()
	o, there := f.open[name]
	f.mu.Unlock()
	srv := o.registered
	if !there || time.Since(o.read) > freshTime {
		var err error
		if srv, err = f.store.Server(ctx, name); err != nil {
			return srv, nil, nil, fmt.Errorf("server %s: %w", name, err)
		}
	}
	eng, err := f.Engine(srv.Engine)
	if err != nil {
		return srv, nil, nil, err
	}
	if there && o.current(srv) {
		f.mu.Lock()
		if o, there := f.open[name]; there && o.current(srv) {
			f.open[name] = opened{o.server, srv, time.Now()}
		}
		f.mu.Unlock()
		return srv, eng, o.server, nil
	}
	password, err := f.store.Secret(ctx, name)
	if err != nil {
		return srv, nil, nil, err
	}
	access, err := eng.Open(engine.Target{Server: srv, Password: password, Sealer: f.sealer()})
	if err != nil {
		return srv, nil, nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if o, there := f.open[name]; there {
		if o.current(srv) { // another call was quicker
			access.Close()
			return srv, eng, o.server, nil
		}
		retire(o.server)
	}
	f.open[name] = opened{access, srv, time.Now()}
	return srv, eng, access, nil
}

// sealer makes and checks seals with the key of the records, where they have one.
func (f *Fleet) sealer() journal.Sealer {
	s, _ := f.store.(journal.Sealer)
	return s
}

// retireTime is how long calls in progress keep an outdated access.
const retireTime = time.Minute

func retire(s engine.Server) { time.AfterFunc(retireTime, s.Close) }

// Close ends all access.
func (f *Fleet) Close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	for name, o := range f.open {
		o.server.Close()
		delete(f.open, name)
	}
}

// List lists the registered servers.
func (f *Fleet) List(ctx context.Context) ([]catalog.Server, error) { return f.store.Servers(ctx) }

// Get reads one registration.
func (f *Fleet) Get(ctx context.Context, name string) (catalog.Server, error) {
	return f.store.Server(ctx, name)
}

// inspectTime bounds a look at a server.
const inspectTime = 8 * time.Second

// look connects to a registration, whoever answers, and inspects it.
func (f *Fleet) look(ctx context.Context, srv catalog.Server, password secret.Text) (catalog.Instance, error) {
	eng, err := f.Engine(srv.Engine)
	if err != nil {
		return catalog.Instance{}, err
	}
	access, err := eng.Open(engine.Target{Server: srv, Password: password, SkipIdentityCheck: true})
	if err != nil {
		return catalog.Instance{}, err
	}
	defer access.Close()
	ctx, cancel := context.WithTimeout(ctx, inspectTime)
	defer cancel()
	return access.Inspect(ctx)
}

// Check looks at a registered server afresh, on a connection of its own. When
// another instance answers, it returns what that says together with an
// [*engine.IdentityError].
func (f *Fleet) Check(ctx context.Context, name string) (catalog.Server, catalog.Instance, error) {
	srv, err := f.store.Server(ctx, name)
	if err != nil {
		return srv, catalog.Instance{}, err
	}
	password, err := f.store.Secret(ctx, name)
	if err != nil {
		return srv, catalog.Instance{}, err
	}
	in, err := f.look(ctx, srv, password)
	if err == nil && len(srv.Identity.Differences(in.Identity)) > 0 {
		err = &engine.IdentityError{Server: name, Known: srv.Identity, Found: in.Identity}
	}
	return srv, in, err
}

// Add registers a server after having connected to it: what answers now is the
// instance that it will be known by. A server that is registered already under
// another name is refused, for then one database would have two addresses.
func (f *Fleet) Add(ctx context.Context, operator string, srv catalog.Server, password secret.Text) (catalog.Server,
	catalog.Instance, error) {
	if err := f.validate(&srv); err != nil {
		return srv, catalog.Instance{}, err
	}
	in, err := f.look(ctx, srv, password)
	if err != nil {
		return srv, in, err
	}
	srv.Identity = in.Identity
	others, err := f.store.Servers(ctx)
	if err != nil {
		return srv, in, err
	}
	for _, o := range others {
		if o.Engine == srv.Engine && o.Name != srv.Name && o.Identity.Known() &&
			len(o.Identity.Differences(in.Identity)) == 0 {
			return srv, in, fmt.Errorf("%w: this instance is registered already, as %s", record.ErrInvalid, o.Name)
		}
	}
	added, err := f.store.AddServer(ctx, srv, password, entry(operator, "server.add", srv))
	return added, in, err
}

// Edit writes an altered registration back; password nil keeps the secret. What
// decides to whom the secret is sent (host, port, login, TLS) is altered only with
// the secret beside it: else whoever may edit could have it sent to themselves.
// Before anything is written the new address is tried, and the same instance must
// answer there.
func (f *Fleet) Edit(ctx context.Context, operator string, srv catalog.Server, password *secret.Text) (catalog.Server,
	error) {
	if err := f.validate(&srv); err != nil {
		return srv, err
	}
	was, err := f.store.Server(ctx, srv.Name)
	if err != nil {
		return srv, err
	}
	moved := !sameWay(was, srv)
	if moved && password == nil {
		return srv, record.ErrSecretNeeded
	}
	if moved || password != nil {
		if srv, err = f.tryEdited(ctx, was, srv, *password); err != nil {
			return srv, err
		}
	}
	return srv, f.update(ctx, srv, password, entry(operator, "server.edit", srv))
}

// sameWay reports whether the secret goes to the same place in the same manner.
func sameWay(a, b catalog.Server) bool {
	return a.Host == b.Host && a.Port == b.Port && a.Admin == b.Admin && a.TLS == b.TLS && a.CA == b.CA &&
		reflect.DeepEqual(a.Options, b.Options) &&
		a.Identity.Marks[catalog.MarkTLSKey] == b.Identity.Marks[catalog.MarkTLSKey]
}

// tryEdited connects with an altered registration. The known instance must answer;
// the marks that follow its address are noted as they are now.
func (f *Fleet) tryEdited(ctx context.Context, was, srv catalog.Server, password secret.Text) (catalog.Server, error) {
	in, err := f.look(ctx, srv, password)
	if err != nil {
		return srv, err
	}
	eng, err := f.Engine(srv.Engine)
	if err != nil {
		return srv, err
	}
	known := catalog.Identity{Key: srv.Identity.Key, Marks: maps.Clone(srv.Identity.Marks)}
	for _, mark := range eng.Describe().AddressMarks {
		delete(known.Marks, mark)
		// A key that is only such a mark goes with it.
		if strings.HasPrefix(known.Key, mark+" ") && was.Port != srv.Port {
			known.Key = in.Identity.Key
		}
	}
	if len(known.Differences(in.Identity)) > 0 {
		return srv, &engine.IdentityError{Server: srv.Name, Known: srv.Identity, Found: in.Identity}
	}
	srv.Identity = in.Identity
	return srv, nil
}

// update writes a registration and has the next call read it anew.
func (f *Fleet) update(ctx context.Context, srv catalog.Server, password *secret.Text, e journal.Entry) error {
	err := f.store.UpdateServer(ctx, srv, password, e)
	f.mu.Lock()
	defer f.mu.Unlock()
	if o, there := f.open[srv.Name]; there {
		o.read = time.Time{}
		f.open[srv.Name] = o
	}
	return err
}

// Accept makes the instance that answers now the known one. found is the
// identity key that the operator has seen and means.
func (f *Fleet) Accept(ctx context.Context, operator, name, found string) (catalog.Server, error) {
	srv, in, err := f.Check(ctx, name)
	other, isOther := errors.AsType[*engine.IdentityError](err)
	if err != nil && !isOther {
		return srv, err
	}
	if isOther && found == other.Found.Marks[catalog.MarkTLSKey] && found != srv.Identity.Marks[catalog.MarkTLSKey] {
		return f.acceptKey(ctx, operator, srv, found)
	}
	if in.Identity.Key != found {
		return srv, fmt.Errorf("%w: the instance that answers is %q, not %q: look again and accept that one if it is right", record.ErrInvalid, in.Identity.Key, found)
	}
	srv.Identity = in.Identity
	return srv, f.update(ctx, srv, nil, entry(operator, "server.accept", srv))
}

// acceptKey takes another key of the server's certificate as the known one, if the
// instance behind it is the one that is known.
func (f *Fleet) acceptKey(ctx context.Context, operator string, srv catalog.Server, key string) (catalog.Server,
	error) {
	password, err := f.store.Secret(ctx, srv.Name)
	if err != nil {
		return srv, err
	}
	marks := maps.Clone(srv.Identity.Marks)
	marks[catalog.MarkTLSKey] = key
	srv.Identity = catalog.Identity{Key: srv.Identity.Key, Marks: marks}
	in, err := f.look(ctx, srv, password)
	if err != nil {
		return srv, err
	}
	if len(srv.Identity.Differences(in.Identity)) > 0 {
		return srv, &engine.IdentityError{Server: srv.Name, Known: srv.Identity, Found: in.Identity}
	}
	return srv, f.update(ctx, srv, nil, entry(operator, "server.accept", srv))
}

// RefreshIdentity adds marks that a server shows since it was registered, as long as it
// is the same instance.
func (f *Fleet) RefreshIdentity(ctx context.Context, operator, name string) error {
	srv, in, err := f.Check(ctx, name)
	if err != nil {
		return err
	}
	srv.Identity = in.Identity
	return f.update(ctx, srv, nil, entry(operator, "server.identity", srv))
}

// Forget removes a registration; nothing on the server is touched.
func (f *Fleet) Forget(ctx context.Context, operator, name string) error {
	if err := f.store.ForgetServer(ctx, name,
		entry(operator, "server.forget", catalog.Server{Name: name})); err != nil {
		return err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if o, there := f.open[name]; there {
		retire(o.server)
		delete(f.open, name)
	}
	return nil
}

// validate checks a registration and fills in its defaults.
func (f *Fleet) validate(s *catalog.Server) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s", record.ErrInvalid, fmt.Sprintf(format, args...))
	}
	if err := naming.CheckServerName(s.Name); err != nil {
		return fmt.Errorf("%w: %w", record.ErrInvalid, err)
	}
	eng, err := f.Engine(s.Engine)
	if err != nil {
		return fmt.Errorf("%w: %w", record.ErrInvalid, err)
	}
	if s.Options, err = engine.CheckRegistration(eng.Describe(), s.Options); err != nil {
		return err
	}
	for _, address := range s.Clients {
		if err := catalog.CheckAddress(address); err != nil {
			return fmt.Errorf("%w: %w", record.ErrInvalid, err)
		}
	}
	if s.Port == 0 {
		s.Port = eng.Describe().Port
	}
	switch {
	case s.Host == "":
		return bad("the host is missing")
	case s.Port < 1 || s.Port > 65535:
		return bad("port %d does not exist", s.Port)
	case s.Admin == "":
		return bad("the admin login is missing")
	case len(s.CA) > 1<<20:
		return bad("the CA file is too large")
	case len(s.Labels) > 50:
		return bad("at most 50 labels")
	}
	switch s.Environment {
	case catalog.Production, catalog.Staging, catalog.Development:
	default:
		return bad("the environment is one of production, staging, development, not %q", s.Environment)
	}
	if s.OnSocket() {
		if s.TLS != "" && s.TLS != catalog.TLSOff {
			return bad("a socket of this machine has no TLS: leave the TLS mode out")
		}
		s.TLS = catalog.TLSOff
	}
	switch s.TLS {
	case "":
		s.TLS = catalog.TLSVerified
		if s.OnThisMachine() {
			s.TLS = catalog.TLSOff
		}
	case catalog.TLSOff, catalog.TLSRequired, catalog.TLSVerified:
	default:
		return bad("the TLS mode is one of off, required, verified, not %q", s.TLS)
	}
	return nil
}

// entry is the journal entry of an act on a registration.
func entry(operator, action string, s catalog.Server) journal.Entry {
	detail := ""
	if s.Host != "" {
		text, err := json.Marshal(map[string]any{"engine": s.Engine,
			"address": net.JoinHostPort(s.Host, strconv.Itoa(s.Port)),
			"admin":   s.Admin, "environment": s.Environment, "tls": s.TLS, "options": s.Options,
			"client_addresses": s.Clients, "identity": s.Identity})
		if err == nil {
			detail = string(text)
		}
	}
	return journal.Entry{Operator: operator, Action: action, Subject: s.Name, Detail: detail}
}
