package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// loginTokenLife is how long a token lasts that genarch login asks for.
const loginTokenLife = 30 * 24 * time.Hour

func (h *Handler) registerSession() {
	register(h, op{method: "POST", path: "/session", id: "sign-in", summary: "Sign in with name and password",
		public: true, status: http.StatusCreated}, h.signIn)
	register(h, op{method: "GET", path: "/session", id: "show-session", summary: "Who is signed in"},
		func(ctx context.Context, _ *empty) (*body[wire.Session], error) {
			who := from(ctx)
			return answer(wire.Session{Operator: renderOperator(who.Operator), CSRF: who.csrf, Version: h.Version}), nil
		})
	register(h, op{method: "PUT", path: "/session/password", id: "set-own-password", summary: "Set one's own password",
		status: http.StatusNoContent}, h.setOwnPassword)
	register(h, op{method: "GET", path: "/session/all", id: "list-own-sessions",
		summary: "The consoles that one is signed in to"}, h.listOwnSessions)
	register(h, op{method: "DELETE", path: "/session/others", id: "end-other-sessions",
		summary: "Sign out everywhere else", status: http.StatusNoContent}, h.endOtherSessions)
	register(h, op{method: "DELETE", path: "/session", id: "sign-out", summary: "Sign out",
		status: http.StatusNoContent}, h.signOut)
}

type signedIn struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

// signInRequest is name and password, and the mark of a browser that has signed in
// before.
type signInRequest struct {
	Device string `cookie:"genarch_device"`
	Body   wire.SignIn
}

// signIn checks name and password. Whether the name or the password is wrong
// is not told.
func (h *Handler) signIn(ctx context.Context, in *signInRequest) (*signedIn, error) {
	name, address := in.Body.Name, from(ctx).address
	device := h.knownDevice(in.Device, name)
	if wait, ok := h.signIns.allow(name, address, device); !ok {
		h.Log.WarnContext(ctx, "too many sign-ins", "address", address)
		return nil, &Problem{Status: http.StatusTooManyRequests, Code: "sign_in.slow",
			Detail: "Too many attempts to sign in.",
			Next:   fmt.Sprintf("Try again in %d s.", int(math.Ceil(wait.Seconds())))}
	}
	operator, hash, err := h.Records.Operator(ctx, name)
	unknown := errors.Is(err, record.ErrNotFound) || err == nil && hash == ""
	if err != nil && !unknown {
		return nil, err
	}
	// What stands where a name should may be a password: only names are noted.
	said := name
	if errors.Is(err, record.ErrNotFound) {
		said = fmt.Sprintf("unknown name (%d characters)", utf8.RuneCountInString(name))
	}
	match, err := h.matches(ctx, in.Body.Password, hash, unknown)
	if err != nil {
		return nil, err
	}
	if !match || operator.Disabled {
		h.signIns.failed(name)
		h.Log.WarnContext(ctx, "sign-in refused", "name", said, "address", address)
		h.refused.note(ctx, refusal{policy.Service, "sign_in.refused", said, address})
		return nil, &Problem{Status: http.StatusUnauthorized, Code: "sign_in.refused",
			Detail: "Name or password is wrong."}
	}
	h.signIns.forget(name, address, device)
	notices, err := h.notices(ctx, name)
	if err != nil {
		return nil, err
	}
	if in.Body.Token != "" {
		return h.signInForToken(ctx, operator, in.Body.Token, notices)
	}
	cookie, cookieHash := newSecret()
	csrf, _ := newSecret()
	s := record.Session{Operator: name, CSRF: csrf, Expires: time.Now().UTC().Add(policy.SessionLife), Address: address}
	if err := h.Records.AddSession(ctx, s, cookieHash, signInEntry(ctx, name, "sign_in")); err != nil {
		return nil, err
	}
	out := &signedIn{SetCookie: []http.Cookie{h.cookie(h.cookieName(), cookie, int(policy.SessionLife.Seconds()))},
		Body: wire.Session{Operator: renderOperator(operator), CSRF: csrf, Version: h.Version, Notices: notices}}
	if device == "" {
		if mark, err := h.newDevice(name); err == nil {
			out.SetCookie = append(out.SetCookie, h.cookie(deviceCookie, mark, int(deviceLife.Seconds())))
		}
	}
	return out, nil
}

// matches checks a password; where there is none to check, it takes as long.
func (h *Handler) matches(ctx context.Context, password, hash string, unknown bool) (match bool, err error) {
	if unknown {
		hash = nobody()
	}
	var compared error
	if err := h.signIns.hash(ctx, func() {
		match, compared = argon2id.ComparePasswordAndHash(password,
			hash)
	}); err != nil {
		if errors.Is(err, errBusy) {
			return false, &Problem{Status: http.StatusServiceUnavailable, Code: "sign_in.busy", Detail: err.Error(),
				Next: "Try again in a moment."}
		}
		return false, err
	}
	return match && compared == nil && !unknown, nil
}

// signInEntry tells of a sign-in, and where it came from.
func signInEntry(ctx context.Context, name, action string) journal.Entry {
	detail, _ := json.Marshal(map[string]any{"address": from(ctx).address})
	return journal.Entry{Operator: name, Action: action, Subject: name, Detail: string(detail)}
}

// notices takes what was done to a person's account and is to be told.
func (h *Handler) notices(ctx context.Context, name string) ([]wire.Notice, error) {
	list, err := h.Records.Notices(ctx, name)
	return each(list, func(n record.Notice) wire.Notice { return wire.Notice(n) }), err
}

// deviceCookie marks a browser that has signed in before: strangers who try the
// same name from the same address do not use up its tries.
const deviceCookie = "genarch_device"

// deviceLife is how long the mark lasts.
const deviceLife = 180 * 24 * time.Hour

func (h *Handler) newDevice(name string) (string, error) {
	text, _ := newSecret()
	seal, err := h.Records.Seal("device " + name + " " + text)
	return text + "." + seal, err
}

// knownDevice is the mark of a browser that has signed in with this name; empty:
// it has not.
func (h *Handler) knownDevice(mark, name string) string {
	text, seal, found := strings.Cut(mark, ".")
	if !found || !h.Records.Sealed("device "+name+" "+text, seal) {
		return ""
	}
	return hashOf(text)
}

// setOwnPassword asks for the old password and ends the other sessions. A token
// is not enough: who stole it could stay.
func (h *Handler) setOwnPassword(ctx context.Context, in *struct{ Body wire.PasswordChange }) (*empty, error) {
	who := from(ctx)
	if who.Program || who.tokenID != 0 && !who.login {
		return nil, &Problem{Status: http.StatusForbidden, Code: "password.by_token",
			Detail: "A password is not set by a token.", Next: "Sign in with a password.", Actions: do("login", "")}
	}
	if wait, ok := h.signIns.allow(who.Name, who.address, ""); !ok {
		return nil, &Problem{Status: http.StatusTooManyRequests, Code: "sign_in.slow", Detail: "Too many attempts.",
			Next: fmt.Sprintf("Try again in %d s.", int(math.Ceil(wait.Seconds())))}
	}
	operator, hash, err := h.Records.Operator(ctx, who.Name)
	if err != nil {
		return nil, err
	}
	match, err := h.matches(ctx, in.Body.Old, hash, hash == "")
	if err != nil {
		return nil, err
	}
	if !match {
		h.signIns.failed(who.Name)
		h.refused.note(ctx, refusal{who.Name, "password.refused", who.Name, who.address})
		return nil, problemField("old", "The present password is another one.")
	}
	fresh, err := HashPassword(in.Body.New, who.Name)
	if err != nil {
		return nil, problemField("new", err.Error())
	}
	_, err = h.Records.UpdateOperator(ctx, operator, fresh, who.session, signInEntry(ctx, who.Name, "password.own"))
	h.known.forget()
	return &empty{}, err
}

func (h *Handler) listOwnSessions(ctx context.Context, _ *empty) (*body[[]wire.ConsoleSession], error) {
	who := from(ctx)
	list, err := h.Records.Sessions(ctx, who.Name)
	return answer(each(list, func(s record.Session) wire.ConsoleSession {
		return wire.ConsoleSession{ID: s.ID, Created: s.Created, Used: s.Used, Address: s.Address,
			Current: who.csrf != "" && s.CSRF == who.csrf}
	})), err
}

func (h *Handler) endOtherSessions(ctx context.Context, _ *empty) (*empty, error) {
	who := from(ctx)
	err := h.Records.EndOtherSessions(ctx, who.Name, who.session, signInEntry(ctx, who.Name, "sign_out.others"))
	h.known.forget()
	return &empty{}, err
}

func (h *Handler) signInForToken(ctx context.Context, o policy.Operator, title string,
	notices []wire.Notice) (*signedIn, error) {
	t, err := h.addToken(ctx, o.Name, record.Token{Operator: o.Name, Title: title, Login: true}, loginTokenLife)
	if err != nil {
		return nil, err
	}
	return &signedIn{Body: wire.Session{Operator: renderOperator(o), Token: t.Secret, Version: h.Version,
		Notices: notices}}, nil
}

func (h *Handler) cookie(name, value string, age int) http.Cookie {
	return http.Cookie{Name: name, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: h.secure,
		SameSite: http.SameSiteStrictMode}
}

type signedOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

func (h *Handler) signOut(ctx context.Context, _ *empty) (*signedOut, error) {
	who := from(ctx)
	if who.session != "" {
		if err := h.Records.EndSession(ctx, who.session,
			journal.Entry{Operator: who.Name, Action: "sign_out", Subject: who.Name}); err != nil {
			return nil, err
		}
	}
	return &signedOut{h.cookie(h.cookieName(), "", -1)}, nil
}

// note writes to the journal what must not fail the call that it tells of.
func (h *Handler) note(ctx context.Context, e journal.Entry) {
	if err := h.Records.Append(ctx, e); err != nil {
		h.Log.ErrorContext(ctx, "the journal could not be written", "action", e.Action, "error", err)
	}
}
