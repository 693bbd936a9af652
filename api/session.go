package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"time"

	"github.com/alexedwards/argon2id"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// sessionLife is how long a console session lasts: one watch.
const sessionLife = 12 * time.Hour

// loginTokenLife is how long a token lasts that genarch login asks for.
const loginTokenLife = 30 * 24 * time.Hour

func (h *Handler) registerSession() {
	register(h, op{method: "POST", path: "/session", id: "sign-in", summary: "Sign in with name and password", public: true, status: http.StatusCreated}, h.signIn)
	register(h, op{method: "GET", path: "/session", id: "show-session", summary: "Who is signed in"}, func(ctx context.Context, _ *empty) (*body[wire.Session], error) {
		who := from(ctx)
		return answer(wire.Session{Operator: renderOperator(who.Operator), CSRF: who.csrf, Version: h.Version}), nil
	})
	register(h, op{method: "DELETE", path: "/session", id: "sign-out", summary: "Sign out", status: http.StatusNoContent}, h.signOut)
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

// signIn checks name and password. Whether the name or the password is wrong
// is not told.
func (h *Handler) signIn(ctx context.Context, in *struct{ Body wire.SignIn }) (*signedIn, error) {
	name, address := in.Body.Name, from(ctx).address
	if wait, ok := h.signIns.allow(name, address); !ok {
		h.Log.WarnContext(ctx, "too many sign-ins", "name", name, "address", address)
		return nil, &Problem{Status: http.StatusTooManyRequests, Code: "sign_in.slow", Detail: "too many attempts to sign in",
			Next: fmt.Sprintf("try again in %d s", int(math.Ceil(wait.Seconds())))}
	}
	operator, hash, err := h.Records.Operator(ctx, name)
	unknown := errors.Is(err, record.ErrNotFound) || err == nil && hash == ""
	if err != nil && !unknown {
		return nil, err
	}
	if unknown {
		hash = nobody()
	}
	var match bool
	if err := h.signIns.hash(ctx, func() { match, err = argon2id.ComparePasswordAndHash(in.Body.Password, hash) }); err != nil {
		return nil, err
	}
	if err != nil || !match || unknown || operator.Disabled {
		h.Log.WarnContext(ctx, "sign-in refused", "name", name, "address", address)
		h.note(ctx, journal.Entry{Operator: "genarch", Action: "sign_in.refused", Subject: shortened(name)})
		return nil, &Problem{Status: http.StatusUnauthorized, Code: "sign_in.refused", Detail: "name or password is wrong"}
	}
	h.signIns.forget(name, address)
	if in.Body.Token != "" {
		return h.signInForToken(ctx, operator, in.Body.Token)
	}
	cookie, cookieHash := newSecret()
	csrf, _ := newSecret()
	s := record.Session{Operator: name, CSRF: csrf, Expires: time.Now().UTC().Add(sessionLife)}
	if err := h.Records.AddSession(ctx, s, cookieHash, journal.Entry{Operator: name, Action: "sign_in", Subject: name}); err != nil {
		return nil, err
	}
	return &signedIn{SetCookie: h.cookie(cookie, int(sessionLife.Seconds())),
		Body: wire.Session{Operator: renderOperator(operator), CSRF: csrf, Version: h.Version}}, nil
}

func (h *Handler) signInForToken(ctx context.Context, o policy.Operator, title string) (*signedIn, error) {
	t, err := h.addToken(ctx, o.Name, o.Name, title, loginTokenLife)
	if err != nil {
		return nil, err
	}
	return &signedIn{Body: wire.Session{Operator: renderOperator(o), Token: t.Secret, Version: h.Version}}, nil
}

func (h *Handler) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: h.cookieName(), Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: h.Secure, SameSite: http.SameSiteStrictMode}
}

type signedOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (h *Handler) signOut(ctx context.Context, _ *empty) (*signedOut, error) {
	who := from(ctx)
	if who.session != "" {
		if err := h.Records.EndSession(ctx, who.session, journal.Entry{Operator: who.Name, Action: "sign_out", Subject: who.Name}); err != nil {
			return nil, err
		}
	}
	return &signedOut{h.cookie("", -1)}, nil
}

// note writes to the journal what must not fail the call that it tells of.
func (h *Handler) note(ctx context.Context, e journal.Entry) {
	if err := h.Records.Append(ctx, e); err != nil {
		h.Log.ErrorContext(ctx, "the journal could not be written", "action", e.Action, "error", err)
	}
}

// shortened keeps what a stranger sent within bounds.
func shortened(text string) string {
	r := []rune(text)
	return string(r[:min(len(r), 64)])
}
