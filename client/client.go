// Package client calls Genarch's HTTP API from Go. The CLI is built on it.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/api/wire"
)

// Client calls one Genarch. It may be used by many goroutines.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// callTime bounds a call that does not wait for a change.
const callTime = 30 * time.Second

// New makes a client of the Genarch at an address such as http://127.0.0.1:7437.
func New(address, token string) (*Client, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address of a Genarch; it looks like http://127.0.0.1:7437", address)
	}
	return &Client{base: strings.TrimSuffix(u.String(), "/") + "/api/v1", token: token,
		http: &http.Client{CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}}}, nil
}

// CheckAddress refuses an address at which a password or a token would travel in
// clear to another machine.
func CheckAddress(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" {
		return nil // New says what is wrong with it
	}
	if ip := net.ParseIP(u.Hostname()); u.Hostname() == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return fmt.Errorf("%s has no TLS: the secret would travel in clear to another machine; use https://", address)
}

// Error is a problem that the API answered.
type Error struct{ wire.Problem }

// Error says what went wrong and what to do.
func (e *Error) Error() string { return e.Detail }

// ErrUnreachable: no Genarch answers at the address.
var ErrUnreachable = errors.New("no Genarch answers there")

// do makes a call; out may be nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any, header ...string) error {
	ctx, cancel := context.WithTimeout(ctx, callTime+waitOf(in))
	defer cancel()
	res, err := c.send(ctx, method, path, in, header...)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil || res.StatusCode == http.StatusNoContent {
		_, err := io.Copy(io.Discard, res.Body)
		return err
	}
	if raw, ok := out.(*[]byte); ok {
		*raw, err = io.ReadAll(res.Body)
		return err
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer cannot be read: %w", err)
	}
	return nil
}

// waitOf is how much longer a call may take that waits for a change to end.
func waitOf(in any) time.Duration {
	switch in := in.(type) {
	case wire.Run:
		return time.Duration(in.Wait) * time.Second
	case wire.Stop:
		return time.Duration(in.Wait) * time.Second
	}
	return 0
}

// send makes a call and returns the answer if it is a good one.
func (c *Client) send(ctx context.Context, method, path string, in any, header ...string) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		if header[i+1] != "" {
			req.Header.Set(header[i], header[i+1])
		}
	}
	return c.answer(req)
}

// answer makes a call that is written already, and returns the answer if it is a good one.
func (c *Client) answer(req *http.Request) (*http.Response, error) {
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w: %s (%w)", ErrUnreachable, strings.TrimSuffix(c.base, "/api/v1"), innermost(err))
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	problem := &Error{}
	text, _ := io.ReadAll(io.LimitReader(res.Body, 4<<20))
	if json.Unmarshal(text, &problem.Problem) != nil || problem.Code == "" {
		return nil, fmt.Errorf("%s answers %s, which is not Genarch's way", c.base, res.Status)
	}
	return nil, problem
}

// innermost is the cause without the address that the caller knows.
func innermost(err error) error {
	if e, ok := errors.AsType[*url.Error](err); ok {
		return e.Err
	}
	return err
}

func get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.do(ctx, http.MethodGet, path, nil, &out)
	return out, err
}

func post[T any](ctx context.Context, c *Client, path string, in any, header ...string) (T, error) {
	var out T
	err := c.do(ctx, http.MethodPost, path, in, &out, header...)
	return out, err
}

func serverPath(name string) string { return "/servers/" + url.PathEscape(name) }

// SignIn signs in with name and password, and asks for a token if in says so.
func (c *Client) SignIn(ctx context.Context, in wire.SignIn) (wire.Session, error) {
	return post[wire.Session](ctx, c, "/session", in)
}

// Session says who is signed in.
func (c *Client) Session(ctx context.Context) (wire.Session, error) {
	return get[wire.Session](ctx, c, "/session")
}

// Servers lists the registered servers; live reads each of them too.
func (c *Client) Servers(ctx context.Context, live bool) ([]wire.Server, error) {
	return get[[]wire.Server](ctx, c, "/servers?live="+strconv.FormatBool(live))
}

// Server shows one server with what it says just now.
func (c *Client) Server(ctx context.Context, name string) (wire.Server, error) {
	return get[wire.Server](ctx, c, serverPath(name))
}

// CheckServer looks at a server afresh.
func (c *Client) CheckServer(ctx context.Context, name string) (wire.Check, error) {
	return get[wire.Check](ctx, c, serverPath(name)+"/check")
}

// AddServer registers a server.
func (c *Client) AddServer(ctx context.Context, in wire.ServerInput) (wire.Check, error) {
	return post[wire.Check](ctx, c, "/servers", in)
}

// EditServer alters a registration.
func (c *Client) EditServer(ctx context.Context, name string, in wire.ServerPatch) (wire.Server, error) {
	var out wire.Server
	err := c.do(ctx, http.MethodPatch, serverPath(name), in, &out)
	return out, err
}

// AcceptServer makes the instance that answers the known one.
func (c *Client) AcceptServer(ctx context.Context, name, key string) (wire.Server, error) {
	return post[wire.Server](ctx, c, serverPath(name)+"/accept", wire.Accept{Key: key})
}

// ForgetServer removes a registration.
func (c *Client) ForgetServer(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, serverPath(name), nil, nil)
}

// DatabaseQuery narrows a list of databases.
type DatabaseQuery struct {
	Search string
	System bool
	Limit  int
	After  string
}

// Databases lists the databases of a server.
func (c *Client) Databases(ctx context.Context, server string, q DatabaseQuery) (wire.DatabaseList, error) {
	v := url.Values{"system": {strconv.FormatBool(q.System)}}
	if q.Search != "" {
		v.Set("search", q.Search)
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	if q.After != "" {
		v.Set("after", q.After)
	}
	return get[wire.DatabaseList](ctx, c, serverPath(server)+"/databases?"+v.Encode())
}

// Database shows one database.
func (c *Client) Database(ctx context.Context, server, name string) (wire.Database, error) {
	return get[wire.Database](ctx, c, serverPath(server)+"/databases/"+url.PathEscape(name))
}

// Accounts lists accounts and roles; the query's names are those of the API.
func (c *Client) Accounts(ctx context.Context, server string, query url.Values) (wire.AccountList, error) {
	return get[wire.AccountList](ctx, c, serverPath(server)+"/accounts?"+query.Encode())
}

// Account shows one account or role.
func (c *Client) Account(ctx context.Context, server string, p wire.Principal) (wire.AccountDetail, error) {
	name := p.Name
	if p.Host != "" {
		name += "@" + p.Host
	}
	query := url.Values{"role": {strconv.FormatBool(p.Role)}, "within": {p.Database}}
	return get[wire.AccountDetail](ctx, c, serverPath(server)+"/accounts/"+url.PathEscape(name)+"?"+query.Encode())
}

// Grants lists who was given what; the query's names are those of the API.
func (c *Client) Grants(ctx context.Context, server string, query url.Values) (wire.GrantList, error) {
	return get[wire.GrantList](ctx, c, serverPath(server)+"/grants?"+query.Encode())
}

// Matrix is what every account comes to on every database.
func (c *Client) Matrix(ctx context.Context, server string, query url.Values) (wire.Matrix, error) {
	return get[wire.Matrix](ctx, c, serverPath(server)+"/access?"+query.Encode())
}

// Why says whether an account may do something, and by which chain.
func (c *Client) Why(ctx context.Context, server string, query url.Values) (wire.Why, error) {
	return get[wire.Why](ctx, c, serverPath(server)+"/access/why?"+query.Encode())
}

// Compare says in what two accounts, given by their addresses, differ.
func (c *Client) Compare(ctx context.Context, left, right string) (wire.Comparison, error) {
	return get[wire.Comparison](ctx, c, "/comparison?"+url.Values{"left": {left}, "right": {right}}.Encode())
}

// Handover is the sheet of a database, without passwords.
func (c *Client) Handover(ctx context.Context, server, database string) (wire.Handover, error) {
	return get[wire.Handover](ctx, c, serverPath(server)+"/databases/"+url.PathEscape(database)+"/handover")
}

// Sessions lists who is connected; the query's names are those of the API.
func (c *Client) Sessions(ctx context.Context, server string, query url.Values) (wire.SessionList, error) {
	return get[wire.SessionList](ctx, c, serverPath(server)+"/sessions?"+query.Encode())
}

// Stop has a running change stop and roll back what it did.
func (c *Client) Stop(ctx context.Context, id uint64, wait int) (wire.Change, error) {
	return post[wire.Change](ctx, c, fmt.Sprintf("/changes/%d/stop", id), wire.Stop{Wait: wait})
}

// Passwords shows the generated passwords of a change, once.
func (c *Client) Passwords(ctx context.Context, id uint64) (wire.Handover, error) {
	return post[wire.Handover](ctx, c, fmt.Sprintf("/changes/%d/passwords", id), nil)
}

// Submit asks others to let a change run.
func (c *Client) Submit(ctx context.Context, id uint64) (wire.Change, error) {
	return post[wire.Change](ctx, c, fmt.Sprintf("/changes/%d/submit", id), nil)
}

// Decline ends a change that waits.
func (c *Client) Decline(ctx context.Context, id uint64, reason string) (wire.Change, error) {
	return post[wire.Change](ctx, c, fmt.Sprintf("/changes/%d/decline", id), wire.Decline{Reason: reason})
}

// Engines is what the engines say of themselves.
func (c *Client) Engines(ctx context.Context) (wire.Engines, error) {
	return get[wire.Engines](ctx, c, "/engines")
}

// PrepareLogin is the statements that make a login for Genarch itself.
func (c *Client) PrepareLogin(ctx context.Context, engine, login, host string) (wire.Preparation, error) {
	query := url.Values{"name": {login}, "host": {host}}
	return get[wire.Preparation](ctx, c, "/engines/"+url.PathEscape(engine)+"/login?"+query.Encode())
}

// Engine is what one engine says of itself.
func (c *Client) Engine(ctx context.Context, name string) (wire.Engine, error) {
	return get[wire.Engine](ctx, c, "/engines/"+url.PathEscape(name))
}

// Choices lists what can be chosen on a server, by the keys that its engine describes.
func (c *Client) Choices(ctx context.Context, server string, keys ...string) (wire.Choices, error) {
	return get[wire.Choices](ctx, c, serverPath(server)+"/choices?"+url.Values{"keys": keys}.Encode())
}

// Search finds servers, databases, accounts and roles by parts of their addresses.
func (c *Client) Search(ctx context.Context, words string, limit int) (wire.SearchResult, error) {
	query := url.Values{"q": {words}, "limit": {strconv.Itoa(limit)}}
	return get[wire.SearchResult](ctx, c, "/search?"+query.Encode())
}

// ServerHistory is the sessions and the size of a server over so many days.
func (c *Client) ServerHistory(ctx context.Context, server string, days int) (wire.History, error) {
	return get[wire.History](ctx, c, serverPath(server)+"/history?days="+strconv.Itoa(days))
}

// DatabaseHistory is the sessions and the size of a database over so many days.
func (c *Client) DatabaseHistory(ctx context.Context, server, name string, days int) (wire.History, error) {
	return get[wire.History](ctx, c, serverPath(server)+"/databases/"+url.PathEscape(name)+"/history?days="+
		strconv.Itoa(days))
}

// Holdings are the databases that were set aside, on one server or (server empty) on all.
func (c *Client) Holdings(ctx context.Context, server string) (wire.HoldingList, error) {
	query := ""
	if server != "" {
		query = "?server=" + url.QueryEscape(server)
	}
	return get[wire.HoldingList](ctx, c, "/holdings"+query)
}

// Blueprints are the recipes for databases, each in its latest version.
func (c *Client) Blueprints(ctx context.Context) (wire.BlueprintList, error) {
	return get[wire.BlueprintList](ctx, c, "/blueprints")
}

// Blueprint is one of them with its text; version 0 is the latest.
func (c *Client) Blueprint(ctx context.Context, name string, version int) (wire.Blueprint, error) {
	return get[wire.Blueprint](ctx, c, "/blueprints/"+url.PathEscape(name)+"?version="+strconv.Itoa(version))
}

// CheckBlueprint says what is wrong in a text; nothing is kept.
func (c *Client) CheckBlueprint(ctx context.Context, text string) (out wire.BlueprintCheck, err error) {
	return out, c.do(ctx, http.MethodPost, "/blueprints/check", wire.BlueprintText{Text: text}, &out)
}

// PutBlueprint keeps a text as a blueprint, or as a new version of it.
func (c *Client) PutBlueprint(ctx context.Context, name, text string) (out wire.Blueprint, err error) {
	return out, c.do(ctx, http.MethodPut, "/blueprints/"+url.PathEscape(name), wire.BlueprintText{Text: text}, &out)
}

// RemoveBlueprint takes one away.
func (c *Client) RemoveBlueprint(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/blueprints/"+url.PathEscape(name), nil, nil)
}

// BlueprintSchema is the JSON Schema of the format.
func (c *Client) BlueprintSchema(ctx context.Context) (out json.RawMessage, err error) {
	return out, c.do(ctx, http.MethodGet, "/blueprints/schema", nil, &out)
}

// Attention is what needs a look.
func (c *Client) Attention(ctx context.Context) (wire.Attention, error) {
	return get[wire.Attention](ctx, c, "/attention")
}

// Brief says what an intent would do; nothing is kept.
func (c *Client) Brief(ctx context.Context, in wire.Intent) (wire.Brief, error) {
	return post[wire.Brief](ctx, c, "/briefs", in)
}

// Ask asks for a change; key makes repeating it safe, "" is none.
func (c *Client) Ask(ctx context.Context, in wire.Intent, key string) (wire.Change, error) {
	return post[wire.Change](ctx, c, "/changes", in, "Idempotency-Key", key)
}

// Run lets a change run.
func (c *Client) Run(ctx context.Context, id uint64, in wire.Run) (wire.Change, error) {
	return post[wire.Change](ctx, c, fmt.Sprintf("/changes/%d/run", id), in)
}

// Withdraw ends a change that has not begun.
func (c *Client) Withdraw(ctx context.Context, id uint64) (wire.Change, error) {
	return post[wire.Change](ctx, c, fmt.Sprintf("/changes/%d/withdraw", id), nil)
}

// Change shows one change.
func (c *Client) Change(ctx context.Context, id uint64) (wire.Change, error) {
	return get[wire.Change](ctx, c, fmt.Sprintf("/changes/%d", id))
}

// Script gives the statements of a change as SQL text.
func (c *Client) Script(ctx context.Context, id uint64) (string, error) {
	var out []byte
	err := c.do(ctx, http.MethodGet, fmt.Sprintf("/changes/%d/script", id), nil, &out)
	return string(out), err
}

// Changes lists changes; the query's names are those of the API.
func (c *Client) Changes(ctx context.Context, query url.Values) (wire.ChangeList, error) {
	return get[wire.ChangeList](ctx, c, "/changes?"+query.Encode())
}

// Journal reads the journal; the query's names are those of the API.
func (c *Client) Journal(ctx context.Context, query url.Values) (wire.Journal, error) {
	return get[wire.Journal](ctx, c, "/journal?"+query.Encode())
}

// CheckJournal walks the whole chain. since is a checkpoint that was kept
// elsewhere; empty: none.
func (c *Client) CheckJournal(ctx context.Context, since string) (wire.JournalCheck, error) {
	path := "/journal/check"
	if since != "" {
		path += "?since=" + url.QueryEscape(since)
	}
	return get[wire.JournalCheck](ctx, c, path)
}

// Operators lists operators.
func (c *Client) Operators(ctx context.Context) ([]wire.Operator, error) {
	return get[[]wire.Operator](ctx, c, "/operators")
}

// AddOperator makes an operator.
func (c *Client) AddOperator(ctx context.Context, in wire.OperatorInput) (wire.Operator, error) {
	return post[wire.Operator](ctx, c, "/operators", in)
}

// EditOperator alters an operator.
func (c *Client) EditOperator(ctx context.Context, name string, in wire.OperatorPatch) (wire.OperatorEdited, error) {
	var out wire.OperatorEdited
	err := c.do(ctx, http.MethodPatch, "/operators/"+url.PathEscape(name), in, &out)
	return out, err
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return get[[]wire.Token](ctx, c, "/tokens")
}

// SetPassword sets one's own password.
func (c *Client) SetPassword(ctx context.Context, in wire.PasswordChange) error {
	return c.do(ctx, http.MethodPut, "/session/password", in, nil)
}

// OwnSessions lists the consoles that one is signed in to.
func (c *Client) OwnSessions(ctx context.Context) ([]wire.ConsoleSession, error) {
	return get[[]wire.ConsoleSession](ctx, c, "/session/all")
}

// EndOtherSessions signs one out everywhere else.
func (c *Client) EndOtherSessions(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/session/others", nil, nil)
}

// AddToken makes a token; its secret comes back once.
func (c *Client) AddToken(ctx context.Context, in wire.TokenInput) (wire.Token, error) {
	return post[wire.Token](ctx, c, "/tokens", in)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id uint64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// Follow yields the change each time it has moved on, until it has ended. It
// listens to events, and looks itself when they fail.
func (c *Client) Follow(ctx context.Context, id uint64) iter.Seq2[wire.Change, error] {
	return func(yield func(wire.Change, error) bool) {
		for {
			// Listening begins before looking, so that nothing falls between.
			inner, cancel := context.WithCancel(ctx)
			res, streamErr := c.send(inner, http.MethodGet, fmt.Sprintf("/events?change=%d", id), nil)
			now, err := c.Change(ctx, id)
			if err != nil || !yield(now, nil) || now.Ended {
				if err != nil && ctx.Err() == nil { // else nobody listens any more
					yield(now, err)
				}
				if streamErr == nil {
					res.Body.Close()
				}
				cancel()
				return
			}
			ended := false
			if streamErr == nil {
				ended = c.listen(res.Body, id, yield)
				res.Body.Close()
			}
			cancel()
			if ended {
				return
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

// listen reads events; it reports true when the change has ended or the
// consumer wants no more, false when the stream broke.
func (c *Client) listen(stream io.Reader, id uint64, yield func(wire.Change, error) bool) bool {
	lines := bufio.NewScanner(stream)
	lines.Buffer(nil, 16<<20)
	name := ""
	for lines.Scan() {
		if word, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			name = word
			continue
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok || name != "change" {
			continue
		}
		var e wire.ChangeEvent
		if json.Unmarshal([]byte(data), &e) != nil || e.Change == nil || e.Change.ID != id {
			continue
		}
		if !yield(*e.Change, nil) || e.Ended {
			return true
		}
	}
	return false
}
