package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/remedy"
)

func (h *Handler) registerOperators() {
	register(h, op{method: "GET", path: "/operators", id: "list-operators", summary: "List operators",
		permission: policy.Admin},
		func(ctx context.Context, _ *empty) (*body[[]wire.Operator], error) {
			list, err := h.Records.Operators(ctx)
			return answer(each(list, renderOperator)), err
		})
	register(h, op{method: "POST", path: "/operators", id: "add-operator", summary: "Add an operator",
		permission: policy.Admin, fresh: true, status: http.StatusCreated}, h.addOperator)
	register(h, op{method: "PATCH", path: "/operators/{name}", id: "edit-operator", summary: "Alter an operator",
		permission: policy.Admin, fresh: true}, h.editOperator)
	register(h, op{method: "GET", path: "/tokens", id: "list-tokens",
		summary: "List tokens; all of them with the permission admin, else one's own"},
		func(ctx context.Context, _ *empty) (*body[[]wire.Token], error) {
			who := from(ctx)
			owner := who.Name
			if who.May(policy.Admin) {
				owner = ""
			}
			list, err := h.Records.Tokens(ctx, owner)
			return answer(each(list, renderToken)), err
		})
	register(h, op{method: "POST", path: "/tokens", id: "add-token",
		summary: "Make a token: for a program with the permission admin, else for oneself", fresh: true,
		status: http.StatusCreated}, h.makeToken)
	register(h, op{method: "DELETE", path: "/tokens/{id}", id: "revoke-token",
		summary: "Revoke a token; others' with the permission admin", status: http.StatusNoContent}, h.revokeToken)
}

func problemField(field, text string) *Problem {
	return &Problem{Status: http.StatusUnprocessableEntity, Code: "request.invalid", Detail: text,
		Errors: []wire.ProblemDetail{{Location: "body." + field, Message: text}}}
}

func permissionsOf(words []string) ([]policy.Permission, error) {
	out := []policy.Permission{}
	for _, w := range words {
		r, err := policy.ParsePermissions(w)
		if err != nil {
			return nil, problemField("permissions", err.Error())
		}
		out = append(out, r...)
	}
	return out, nil
}

func (h *Handler) addOperator(ctx context.Context, in *struct{ Body wire.OperatorInput }) (*body[wire.Operator],
	error) {
	b := in.Body
	if err := policy.CheckOperatorName(b.Name); err != nil {
		return nil, problemField("name", err.Error())
	}
	permissions, err := permissionsOf(b.Permissions)
	if err != nil {
		return nil, err
	}
	hash := ""
	if !b.Program {
		if hash, err = HashPassword(b.Password, b.Name); err != nil {
			return nil, problemField("password", err.Error())
		}
	}
	o := policy.Operator{Name: b.Name, Permissions: permissions, Program: b.Program, Created: time.Now().UTC()}
	err = h.Records.AddOperator(ctx, o, hash, operatorEntry(ctx, "operator.add", o, hash != ""))
	return answer(renderOperator(o)), err
}

func (h *Handler) editOperator(ctx context.Context, in *struct {
	Name string `path:"name"`
	Body wire.OperatorPatch
}) (*body[wire.OperatorEdited], error) {
	o, err := h.operator(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if in.Body.Permissions != nil {
		if o.Permissions, err = permissionsOf(*in.Body.Permissions); err != nil {
			return nil, err
		}
	}
	if in.Body.Disabled != nil {
		o.Disabled = *in.Body.Disabled
	}
	who := from(ctx)
	if who.Name == o.Name && !o.May(policy.Admin) {
		return nil, problemField("permissions",
			"You would lock yourself out: another operator with the permission admin has to do this.")
	}
	hash := ""
	if in.Body.Password != nil {
		if who.Name == o.Name {
			return nil, problemField("password",
				"Your own password is set with the present one beside it.")
		}
		if o.Program {
			return nil, problemField("password", "A program has no password: it signs in with a token.")
		}
		if hash, err = HashPassword(*in.Body.Password, o.Name); err != nil {
			return nil, problemField("password", err.Error())
		}
	}
	left, err := h.Records.UpdateOperator(ctx, o, hash, "", operatorEntry(ctx, "operator.edit", o, hash != ""))
	if errors.Is(err, record.ErrLastAdmin) {
		return nil, problemField("permissions", err.Error()+": give that permission to another person first")
	}
	if err == nil && in.Body.RevokeTokens && left > 0 {
		left, err = 0, h.revokeAll(ctx, o.Name)
	}
	h.known.forget()
	return answer(wire.OperatorEdited{Operator: renderOperator(o), TokensLeft: left}), err
}

// operator finds one by name; that there is none names the nearest.
func (h *Handler) operator(ctx context.Context, name string) (policy.Operator, error) {
	o, _, err := h.Records.Operator(ctx, name)
	if !errors.Is(err, record.ErrNotFound) {
		return o, err
	}
	p := &Problem{Status: http.StatusNotFound, Code: "not_found",
		Detail: "No operator is called " + naming.Show(name) + ".", Next: "List them.",
		Actions: do("operator.list", "")}
	if list, err := h.Records.Operators(ctx); err == nil {
		if near, found := naming.Nearest(name, each(list, func(o policy.Operator) string { return o.Name })); found {
			p.Next = "Do you mean " + near + "?"
		}
	}
	return o, p
}

// revokeAll ends every token of an operator.
func (h *Handler) revokeAll(ctx context.Context, operator string) error {
	list, err := h.Records.Tokens(ctx, operator)
	for _, t := range list {
		if err == nil && t.Valid(time.Now()) {
			err = h.Records.RevokeToken(ctx, t.ID,
				journal.Entry{Operator: from(ctx).Name, Action: "token.revoke", Subject: t.Operator + ": " + t.Title})
		}
	}
	return err
}

// makeToken makes a token for a program, or for oneself: one for another person
// would let somebody act, and be shown passwords, in their name.
func (h *Handler) makeToken(ctx context.Context, in *struct{ Body wire.TokenInput }) (*body[wire.Token], error) {
	who, b := from(ctx), in.Body
	o, err := h.operator(ctx, b.Operator)
	if err != nil {
		return nil, err
	}
	switch {
	case o.Name == who.Name && !who.Program:
	case !who.May(policy.Admin):
		return nil, forbidden(who, policy.Admin)
	case !o.Program:
		p := problemField("operator", o.Name+" is a person: they make their own tokens.")
		p.Next = "For a program add an operator of its own."
		p.Actions = []wire.Action{{Do: "operator.add", Option: "program", Value: remedy.Yes}}
		return nil, p
	}
	if _, err := permissionsOf(b.Permissions); err != nil {
		return nil, err
	}
	for _, n := range b.From {
		if _, err := parseNetwork(n); err != nil {
			return nil, problemField("from", fmt.Sprintf("%q is no address and no network such as 10.0.3.0/24.", n))
		}
	}
	life := policy.TokenLife
	if b.Days > 0 {
		life = time.Duration(b.Days) * 24 * time.Hour
	}
	t, err := h.addToken(ctx, who.Name,
		record.Token{Operator: o.Name, Title: b.Title, Permissions: b.Permissions, From: b.From}, life)
	return answer(t), err
}

func operatorEntry(ctx context.Context, action string, o policy.Operator, password bool) journal.Entry {
	detail, _ := json.Marshal(map[string]any{"permissions": o.Permissions, "disabled": o.Disabled, "program": o.Program,
		"password_set": password})
	return journal.Entry{Operator: from(ctx).Name, Action: action, Subject: o.Name, Detail: string(detail)}
}

// addToken makes a token; by is who asked for it.
func (h *Handler) addToken(ctx context.Context, by string, t record.Token, life time.Duration) (wire.Token, error) {
	text, _ := newSecret()
	text = tokenPrefix + text
	t.Created = time.Now().UTC()
	t.Expires = t.Created.Add(life)
	e := signInEntry(ctx, by, "token.create")
	e.Subject = t.Operator + ": " + t.Title
	t, err := h.Records.AddToken(ctx, t, hashOf(text), e)
	out := renderToken(t)
	out.Secret = text
	return out, err
}

func (h *Handler) revokeToken(ctx context.Context, in *struct {
	ID uint64 `path:"id"`
}) (*empty, error) {
	who := from(ctx)
	owner := who.Name
	if who.May(policy.Admin) {
		owner = ""
	}
	list, err := h.Records.Tokens(ctx, owner)
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		if t.ID == in.ID {
			defer h.known.forget()
			return &empty{}, h.Records.RevokeToken(ctx, in.ID,
				journal.Entry{Operator: who.Name, Action: "token.revoke", Subject: t.Operator + ": " + t.Title})
		}
	}
	return nil, record.ErrNotFound
}
