package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// tokenPrefix marks a token, so that one that leaks is recognised.
const tokenPrefix = "genarch_"

// newSecret makes 32 random bytes as text, and the hash that is kept.
func newSecret() (text, hash string) {
	raw := make([]byte, 32)
	rand.Read(raw) // never fails
	text = base64.RawURLEncoding.EncodeToString(raw)
	return text, hashOf(text)
}

// hashOf is how a random secret is kept. It needs no salt and no slow hash: it
// cannot be guessed.
func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// caller is who makes a call, and how they are signed in.
type caller struct {
	policy.Operator
	csrf    string // of a console session; "" when signed in by token
	session string // hash of the console session's cookie
	token   string // hash of the token
	tokenID uint64
	login   bool      // the token was got by signing in
	since   time.Time // when session or token began
	address string    // of the client
}

// freshTime is how long after a person has signed in they may do what would let a
// thief of their session or token stay: make operators, tokens, passwords.
const freshTime = 15 * time.Minute

// fresh reports whether the caller has just shown a password. Programs have none.
func (c caller) fresh() bool {
	return c.Program || (c.session != "" || c.login) && time.Since(c.since) < freshTime
}

type callerKey struct{}

// from gives the caller of an authorised operation.
func from(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

func (h *Handler) cookieName() string {
	if h.secure {
		return "__Host-genarch_session"
	}
	return "genarch_session"
}

// authenticate finds out who calls; it refuses nobody. A cookie counts for
// what alters something only together with the session's CSRF token.
func (h *Handler) authenticate(c *gin.Context) {
	ctx := c.Request.Context()
	who := caller{address: c.ClientIP()}
	var err error
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		who.token = hashOf(token)
		err = h.byToken(ctx, &who)
	} else if cookie, cookieErr := c.Cookie(h.cookieName()); cookieErr == nil {
		var s record.Session
		who.session = hashOf(cookie)
		s, who.Operator, err = h.Records.SessionByHash(ctx, who.session)
		who.csrf, who.since = s.CSRF, s.Created
	}
	if err != nil {
		who.Operator = policy.Operator{}
		if !errors.Is(err, record.ErrNotFound) {
			p := h.problem(ctx, err)
			writeProblem(c, p)
			return
		}
	}
	if who.Disabled {
		who.Operator = policy.Operator{}
	}
	safe := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	if who.Name != "" && who.csrf != "" && !safe &&
		subtle.ConstantTimeCompare([]byte(c.GetHeader("X-Genarch-CSRF")), []byte(who.csrf)) != 1 {
		writeProblem(c, &Problem{Status: http.StatusForbidden, Code: "csrf",
			Detail: "The request does not come from a page of this console.", Next: "Load the page again."})
		return
	}
	// The description is registered by the library, past our own check.
	if who.Name == "" && strings.HasPrefix(c.Request.URL.Path, prefix+"/openapi") {
		writeProblem(c, notSignedIn())
		return
	}
	c.Set("operator", who.Name)
	c.Request = c.Request.WithContext(record.WithToken(context.WithValue(ctx, callerKey{}, who), who.tokenID))
}

// byToken finds whose token it is, and what they may with it from where they are.
func (h *Handler) byToken(ctx context.Context, who *caller) error {
	t, operator, err := h.known.find(ctx, h.Records, who.token)
	if err != nil {
		return err
	}
	if !t.Valid(time.Now()) || !comesFrom(who.address, t.From) {
		return record.ErrNotFound
	}
	if len(t.Permissions) > 0 {
		operator.Permissions = slices.DeleteFunc(slices.Clone(operator.Permissions),
			func(r policy.Permission) bool { return !slices.Contains(t.Permissions, string(r)) })
	}
	who.Operator, who.tokenID, who.login, who.since = operator, t.ID, t.Login, t.Created
	return nil
}

// comesFrom reports whether an address is in one of the networks; none: all.
func comesFrom(address string, networks []string) bool {
	ip, err := netip.ParseAddr(address)
	return len(networks) == 0 || err == nil && slices.ContainsFunc(networks, func(n string) bool {
		p, err := parseNetwork(n)
		return err == nil && p.Contains(ip.Unmap().WithZone(""))
	})
}

// parseNetwork reads 10.0.3.0/24 or a single address.
func parseNetwork(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	ip, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(ip, ip.BitLen()), nil
}

// still reports whether a caller of a while ago is signed in as then.
func (h *Handler) still(ctx context.Context, who caller) bool {
	switch {
	case who.token != "":
		again := caller{token: who.token, address: who.address}
		return h.byToken(ctx, &again) == nil && !again.Disabled && again.May(policy.View)
	case who.session != "":
		_, operator, err := h.Records.SessionByHash(ctx, who.session)
		return err == nil && !operator.Disabled && operator.May(policy.View)
	}
	return false
}

func (h *Handler) requireSee(c *gin.Context) {
	switch who := from(c.Request.Context()); {
	case who.Name == "":
		writeProblem(c, notSignedIn())
	case !who.May(policy.View):
		writeProblem(c, forbidden(who, policy.View))
	}
}

func notSignedIn() *Problem {
	return &Problem{Status: http.StatusUnauthorized, Code: "sign_in",
		Detail: "Nobody is signed in, or the session or token has ended.",
		Next:   "Sign in again.", Actions: do("login", "")}
}

// authorise refuses whoever has not the operation's permission.
func (h *Handler) authorise(ctx huma.Context, next func(huma.Context)) {
	meta := ctx.Operation().Metadata
	if public, _ := meta["public"].(bool); public {
		next(ctx)
		return
	}
	who := from(ctx.Context())
	permission, _ := meta["permission"].(policy.Permission)
	switch {
	case who.Name == "":
		writeHuma(ctx, notSignedIn())
	case permission != "" && !who.May(permission):
		h.refused.note(ctx.Context(), refusal{who.Name, "call.refused", ctx.Operation().OperationID, who.address})
		writeHuma(ctx, forbidden(who, permission))
	case meta["fresh"] == true && !who.fresh():
		writeHuma(ctx, &Problem{Status: http.StatusForbidden, Code: "sign_in.stale",
			Detail: "This asks for a password that was given a short while ago.",
			Next:   "Sign in again, then repeat it.", Actions: do("login", "")})
	default:
		next(ctx)
	}
}

func forbidden(who caller, permission policy.Permission) *Problem {
	return &Problem{Status: http.StatusForbidden, Code: "permission.missing",
		Detail:  who.Name + " lacks the permission " + string(permission),
		Next:    "An operator with the permission admin can give it.",
		Actions: do("operator.edit", who.Name)}
}

// writeHuma answers a problem from within huma's middleware.
func writeHuma(ctx huma.Context, p *Problem) { writeProblem(unwrapGin(ctx), p) }
