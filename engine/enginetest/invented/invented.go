// Package invented is an engine that there is not. Nothing of it is as on the real ones:
// its databases are vaults without owners and without a gate, its accounts lie in them,
// there are no roles, privileges can be denied, keys are texts, a vault is made in two
// stages, and its commands are lines of JSON. It goes through the suite, the API, the CLI
// and the console: what works for it works without knowing an engine. It is for tests
// only, and never in the product.
package invented

import (
	"io"
	"net"
	"strconv"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// Engine is the invented engine.
type Engine struct{}

var _ engine.Engine = Engine{}

// Describe says what the engine has.
func (Engine) Describe() *engine.Description { return &description }

// Rules are those of permits: see rules.go.
func (Engine) Rules(g *access.Graph) access.Rules { return rules{g} }

// Script: there are none.
func (Engine) Script(io.Reader) script.Splitter { return script.None{} }

// Prepare: a warehouse has one warden, who is there from the beginning.
func (Engine) Prepare(catalog.Principal) []engine.Right { return nil }

// Connections has one form, an address.
func (Engine) Connections(l handover.Login) []handover.Form {
	return []handover.Form{{Name: "url", Title: "address",
		Text: "vault://" + net.JoinHostPort(l.Host, strconv.Itoa(l.Port))}}
}

// Open prepares access; nothing is kept open.
func (Engine) Open(t engine.Target) (engine.Server, error) { return &server{target: t}, nil }
