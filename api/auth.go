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
	address string // of the client
}

type callerKey struct{}

// from gives the caller of an authorised operation.
func from(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

func (h *Handler) cookieName() string {
	if h.Secure {
		return "__Host-genarch_session"
	}
	return "genarch_session"
}

// authenticate finds out who calls; it refuses nobody. A cookie counts for
// what alters something only together with the session's CSRF token.
func (h *Handler) authenticate(c *gin.Context) {
	ctx := c.Request.Context()
	who := caller{address: c.RemoteIP()}
	var err error
	if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
		var t record.Token
		t, who.Operator, err = h.known.find(ctx, h.Records, hashOf(token))
		if err == nil && !t.Valid(time.Now()) {
			err = record.ErrNotFound
		}
	} else if cookie, cookieErr := c.Cookie(h.cookieName()); cookieErr == nil {
		var s record.Session
		who.session = hashOf(cookie)
		s, who.Operator, err = h.Records.SessionByHash(ctx, who.session)
		who.csrf = s.CSRF
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
		writeProblem(c, &Problem{Status: http.StatusForbidden, Code: "csrf", Detail: "the request does not come from a page of this console", Next: "load the page again"})
		return
	}
	// The description is registered by the library, past our own check.
	if who.Name == "" && strings.HasPrefix(c.Request.URL.Path, prefix+"/openapi") {
		writeProblem(c, notSignedIn())
		return
	}
	c.Set("operator", who.Name)
	c.Request = c.Request.WithContext(context.WithValue(ctx, callerKey{}, who))
}

func (h *Handler) requireSignIn(c *gin.Context) {
	if from(c.Request.Context()).Name == "" {
		writeProblem(c, notSignedIn())
	}
}

func notSignedIn() *Problem {
	return &Problem{Status: http.StatusUnauthorized, Code: "sign_in", Detail: "nobody is signed in, or the session or token has ended",
		Next: "sign in again; for the CLI: genarch login"}
}

// authorise refuses whoever has not the operation's remit.
func (h *Handler) authorise(ctx huma.Context, next func(huma.Context)) {
	meta := ctx.Operation().Metadata
	if public, _ := meta["public"].(bool); public {
		next(ctx)
		return
	}
	who := from(ctx.Context())
	remit, _ := meta["remit"].(policy.Remit)
	switch {
	case who.Name == "":
		writeHuma(ctx, notSignedIn())
	case remit != "" && !who.May(remit):
		writeHuma(ctx, forbidden(who, remit))
	default:
		next(ctx)
	}
}

func forbidden(who caller, remit policy.Remit) *Problem {
	return &Problem{Status: http.StatusForbidden, Code: "remit.missing", Detail: who.Name + " has not the remit " + string(remit),
		Next: "an operator with the remit govern can give it: genarch operator edit " + who.Name}
}

// writeHuma answers a problem from within huma's middleware.
func writeHuma(ctx huma.Context, p *Problem) { writeProblem(unwrapGin(ctx), p) }
