// Package api is Genarch's HTTP interface: it parses, authorises, calls and
// renders, and decides nothing. The OpenAPI document is made from its types.
package api

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"

	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/history"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/script"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/events"
)

// Records is what the API needs of the store.
type Records interface {
	Ping(ctx context.Context) error
	Blueprints(ctx context.Context) ([]blueprint.Kept, error)
	Blueprint(ctx context.Context, name string, version int) (blueprint.Kept, error)
	PutBlueprint(ctx context.Context, k blueprint.Kept, e journal.Entry) (blueprint.Kept, error)
	RemoveBlueprint(ctx context.Context, name string, e journal.Entry) error
	AddOperator(ctx context.Context, o policy.Operator, hash string, e journal.Entry) error
	Operators(ctx context.Context) ([]policy.Operator, error)
	Operator(ctx context.Context, name string) (policy.Operator, string, error)
	UpdateOperator(ctx context.Context, o policy.Operator, hash, keep string, e journal.Entry) (remaining int,
		err error)
	Notices(ctx context.Context, operator string) ([]record.Notice, error)
	AddToken(ctx context.Context, t record.Token, hash string, e journal.Entry) (record.Token, error)
	Tokens(ctx context.Context, operator string) ([]record.Token, error)
	TokenByHash(ctx context.Context, hash string) (record.Token, policy.Operator, error)
	RevokeToken(ctx context.Context, id uint64, e journal.Entry) error
	AddSession(ctx context.Context, s record.Session, hash string, e journal.Entry) error
	SessionByHash(ctx context.Context, hash string) (record.Session, policy.Operator, error)
	EndSession(ctx context.Context, hash string, e journal.Entry) error
	EndOtherSessions(ctx context.Context, operator, hash string, e journal.Entry) error
	Sessions(ctx context.Context, operator string) ([]record.Session, error)
	// Seal and Sealed mark what is handed out and comes back.
	Seal(text string) (string, error)
	Sealed(text, seal string) bool
	Append(ctx context.Context, e ...journal.Entry) error
	Journal(ctx context.Context, f journal.Filter) ([]journal.Entry, error)
	VerifyJournal(ctx context.Context, since string) (count uint64, broken, err error)
	Checkpoint(ctx context.Context) (journal.Checkpoint, error)
	Change(ctx context.Context, id uint64) (change.Change, error)
	Kept(ctx context.Context, id uint64) ([]string, error)
	Changes(ctx context.Context, f change.Filter) ([]change.Change, error)
	// History are the points kept of a database, or with an empty name of a server, from a
	// time on, and the one before.
	History(ctx context.Context, server uint64, name string, from time.Time) ([]history.Point, error)
}

// Fleet is what the API needs of the registered servers.
type Fleet interface {
	Engine(name catalog.Engine) (engine.Engine, error)
	Engines() []*engine.Description
	Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error)
	List(ctx context.Context) ([]catalog.Server, error)
	Get(ctx context.Context, name string) (catalog.Server, error)
	Check(ctx context.Context, name string) (catalog.Server, catalog.Instance, error)
	Add(ctx context.Context, operator string, s catalog.Server, password secret.Text) (catalog.Server, catalog.Instance,
		error)
	Edit(ctx context.Context, operator string, s catalog.Server, password *secret.Text) (catalog.Server, error)
	Accept(ctx context.Context, operator, name, found string) (catalog.Server, error)
	Forget(ctx context.Context, operator, name string) error
}

// Changes is what the API needs of the runner.
type Changes interface {
	Brief(ctx context.Context, in change.Intent) (change.Brief, error)
	Draft(ctx context.Context, operator, key string, in change.Intent, given map[string]secret.Text) (change.Change,
		error)
	Run(ctx context.Context, operator string, id uint64, d change.Decision) (change.Change, error)
	Wait(ctx context.Context, id uint64) (change.Change, error)
	Withdraw(ctx context.Context, operator string, id uint64) (change.Change, error)
	Submit(ctx context.Context, operator string, id uint64) (change.Change, error)
	Decline(ctx context.Context, operator string, id uint64, reason string) (change.Change, error)
	Live(id uint64) (change.Change, bool)
	Stop(ctx context.Context, operator string, id uint64) (change.Change, error)
	Reveal(ctx context.Context, operator string, id uint64) ([]change.Secret, error)
}

// Scripts is what the API needs of whoever keeps scripts.
type Scripts interface {
	Take(ctx context.Context, operator, server, file string, from io.Reader) (script.Kept, error)
	Script(ctx context.Context, id string) (script.Kept, error)
	Remove(ctx context.Context, id string) error
}

// Exports is what the API needs of whoever keeps exports.
type Exports interface {
	List(ctx context.Context) ([]record.File, error)
	Export(ctx context.Context, id string) (record.File, change.Export, error)
	Open(ctx context.Context, id string) (io.ReadCloser, error)
	Remove(ctx context.Context, operator, id string) error
}

// Config is what the API is made of.
type Config struct {
	Records Records
	Fleet   Fleet
	Changes Changes
	// Scripts takes scripts in by which databases are filled; nil: nobody does.
	Scripts Scripts
	// Exports keeps databases that were exported; nil: nobody does.
	Exports Exports
	Watch   Watch
	Events  *events.Hub
	Log     *slog.Logger
	Version string
	// Console serves everything outside the API; nil serves nothing there.
	Console http.Handler
	// TLS: calls come in by TLS. PublicURL is the address by which people reach the
	// service, where that is another one (a proxy); empty: it is as it listens.
	TLS       bool
	PublicURL *url.URL
	// TrustedProxies are the networks whose word on where a call comes from is
	// taken; none: nobody's.
	TrustedProxies []string
	// Collectors are further metrics to be shown.
	Collectors []prometheus.Collector
}

// Handler is the HTTP interface.
type Handler struct {
	Config
	gin     *gin.Engine
	api     huma.API
	signIns *limiter
	refused refusals
	streams streams
	known   known
	totals  totals
	traps   traps
	names   names
	metrics *metrics
	// secure: people reach the service by TLS.
	secure bool
}

// prefix is where the API lives.
const prefix = "/api/v1"

// readTime bounds a call that reads from a server.
const readTime = 15 * time.Second

// New makes the interface. Close stops what it started.
func New(cfg Config) *Handler {
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	gin.SetMode(gin.ReleaseMode)
	h := &Handler{Config: cfg, gin: gin.New(), signIns: newLimiter()}
	h.secure = cfg.TLS || cfg.PublicURL != nil && cfg.PublicURL.Scheme == "https"
	h.refused.append = h.note
	h.metrics = newMetrics(cfg.Collectors)
	// Names may hold slashes. They are unescaped by us, as parts of a path: the
	// library would take a plus for a blank.
	h.gin.UseRawPath, h.gin.UnescapePathValues = true, false
	h.gin.RemoteIPHeaders = []string{"X-Forwarded-For"}
	if err := h.gin.SetTrustedProxies(cfg.TrustedProxies); err != nil {
		cfg.Log.Error("the trusted proxies cannot be read; nobody is trusted", "error", err)
		_ = h.gin.SetTrustedProxies(nil)
	}
	h.gin.HandleMethodNotAllowed = true
	h.gin.Use(h.observe, h.recoverPanic, h.securityHeaders, h.refuseHost, refuseCrossOrigin, unescapePath, tag)
	h.gin.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	h.gin.GET("/readyz", h.ready)
	h.gin.GET("/metrics", h.authenticate, h.requireSee, gin.WrapH(h.metrics.handler()))
	h.gin.NoRoute(h.noRoute)
	h.gin.NoMethod(func(c *gin.Context) {
		writeProblem(c, &Problem{Status: http.StatusMethodNotAllowed, Code: "method.unknown",
			Detail: "This address does not take " + c.Request.Method + "."})
	})
	h.api = newHuma(h.gin, h.gin.Group(prefix, h.authenticate), cfg.Version)
	h.api.UseMiddleware(h.authorise)
	h.registerSession()
	h.registerEngines()
	h.registerServers()
	h.registerSearch()
	h.registerDatabases()
	h.registerHoldings()
	h.registerBlueprints()
	h.registerAccess()
	h.registerScripts()
	h.registerExports()
	h.registerSessions()
	h.registerHistory()
	h.registerAttention()
	h.registerChanges()
	h.registerOperators()
	h.registerJournal()
	h.registerEvents()
	return h
}

// newHuma sets the API description up: no pages of its own, no fields that the
// types do not have, problems without the offending value.
func newHuma(r *gin.Engine, g *gin.RouterGroup, version string) huma.API {
	huma.NewError = newError
	cfg := huma.DefaultConfig("Genarch", version)
	cfg.DocsPath, cfg.SchemasPath, cfg.CreateHooks = "", "", nil
	cfg.OpenAPIPath = "/openapi"
	cfg.RejectUnknownQueryParameters = true
	cfg.Info.Description = "Looks after databases on shared servers. Reads are live; every alteration of a server is a change: POST /changes with an intent answers with a brief, POST /changes/{id}/run lets it run."
	cfg.Servers = []*huma.Server{{URL: prefix}}
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer",
			Description: "For programs: a token made with genarch token create."},
		"session": {Type: "apiKey", In: "cookie", Name: "genarch_session",
			Description: "For the console: the cookie set by signing in."},
	}
	cfg.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return humagin.NewWithGroup(r, g, cfg)
}

// ServeHTTP serves the API, the console and the health pages.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) { h.gin.ServeHTTP(w, r) }

// OpenAPI is the description of the API as JSON.
func (h *Handler) OpenAPI() ([]byte, error) { return h.api.OpenAPI().MarshalJSON() }

// ready answers whether work can be taken on: the records can be reached.
func (h *Handler) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 3*time.Second)
	defer cancel()
	if err := h.Records.Ping(ctx); err != nil {
		text := "the records cannot be reached\n"
		if errors.Is(err, record.ErrFull) {
			text = "the records have no room\n"
		}
		c.String(http.StatusServiceUnavailable, text)
		return
	}
	c.String(http.StatusOK, "ready\n")
}

func (h *Handler) noRoute(c *gin.Context) {
	if h.Console != nil && !isAPI(c.Request.URL.Path) {
		h.Console.ServeHTTP(c.Writer, c.Request)
		return
	}
	writeProblem(c, &Problem{Status: http.StatusNotFound, Code: "address.unknown",
		Detail: "There is nothing at " + c.Request.URL.Path + ".",
		Next:   "The addresses are described at " + prefix + "/openapi.json"})
}

// op describes one operation.
type op struct {
	method, path, id, summary string
	permission                policy.Permission // "" needs only to be signed in
	fresh                     bool              // a person must have signed in a short while ago
	public                    bool              // not even that
	status                    int               // of success; 0 is 200
	maxBody                   int64             // 0 is 64 KiB
}

// register adds an operation whose errors become problems.
func register[I, O any](h *Handler, o op, f func(ctx context.Context, in *I) (*O, error)) {
	huma.Register(h.api, h.describe(o), func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		if err != nil {
			return nil, h.problem(ctx, err)
		}
		return out, nil
	})
}

func (h *Handler) describe(o op) huma.Operation {
	if o.maxBody == 0 {
		o.maxBody = 64 << 10
	}
	d := huma.Operation{Method: o.method, Path: o.path, OperationID: o.id, Summary: o.summary, DefaultStatus: o.status,
		MaxBodyBytes: o.maxBody, BodyReadTimeout: 10 * time.Second,
		Metadata: map[string]any{"permission": o.permission, "public": o.public, "fresh": o.fresh}}
	if o.permission != "" {
		d.Description = "Needs the permission " + string(o.permission) + "."
	}
	if o.public {
		d.Security = []map[string][]string{}
	}
	return d
}

// body is an answer with a JSON body.
type body[T any] struct {
	Body T `nullable:"false"`
}

func answer[T any](v T) *body[T] { return &body[T]{Body: v} }

// empty is an answer without a body, or a question without parameters.
type empty struct{}
