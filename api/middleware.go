package api

import (
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
)

func unwrapGin(ctx huma.Context) *gin.Context { return humagin.Unwrap(ctx) }

// isAPI reports whether an address belongs to the API, not to the console.
func isAPI(path string) bool {
	return strings.HasPrefix(path, "/api/") || path == "/api" || path == "/metrics" || path == "/healthz" ||
		path == "/readyz"
}

// observe logs and measures every call: never its query or body, for those may
// hold secrets.
func (h *Handler) observe(c *gin.Context) {
	begun := time.Now()
	c.Next()
	took := time.Since(begun)
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	status := c.Writer.Status()
	h.metrics.requests.WithLabelValues(c.Request.Method, route, strconv.Itoa(status)).Observe(took.Seconds())
	if route == "console" || route == "/healthz" || route == "/readyz" {
		return
	}
	h.Log.InfoContext(c.Request.Context(), "call", "method", c.Request.Method, "route", route, "status", status,
		"took", took, "operator", c.GetString("operator"), "address", c.ClientIP())
}

// recoverPanic keeps one broken call from ending the service.
func (h *Handler) recoverPanic(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler {
				panic(r)
			}
			h.Log.ErrorContext(c.Request.Context(), "panic", "route", c.FullPath(), "panic", r, "stack",
				string(debug.Stack()))
			writeProblem(c, &Problem{Status: http.StatusInternalServerError, Code: "internal",
				Detail: "Something went wrong inside Genarch; its log says what."})
		}
	}()
	c.Next()
}

// contentPolicy lets the console load from this service alone, with no inline
// script or style.
const contentPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; " +
	"base-uri 'none'; form-action 'self'; frame-ancestors 'none'; require-trusted-types-for 'script'; trusted-types svelte-trusted-html"

func (h *Handler) securityHeaders(c *gin.Context) {
	header := c.Writer.Header()
	if h.secure {
		header.Set("Strict-Transport-Security", "max-age=31536000")
	}
	header.Set("Content-Security-Policy", contentPolicy)
	header.Set("X-Content-Type-Options", "nosniff")
	header.Set("X-Frame-Options", "DENY")
	header.Set("Referrer-Policy", "no-referrer")
	header.Set("Cross-Origin-Opener-Policy", "same-origin")
	header.Set("Cross-Origin-Resource-Policy", "same-origin")
	header.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
	if isAPI(c.Request.URL.Path) {
		header.Set("Cache-Control", "no-store")
	}
}

// refuseHost refuses calls for another host than this one's: a name that somebody
// else points at this machine must not reach it through a browser. With TLS the
// certificate sees to that; without, the service is reached by a name of this
// machine, or by the public address.
func (h *Handler) refuseHost(c *gin.Context) {
	if h.TLS || c.Request.URL.Path == "/healthz" || c.Request.URL.Path == "/readyz" {
		return
	}
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	ip, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if host == "localhost" || err == nil && ip.IsLoopback() ||
		h.PublicURL != nil && strings.EqualFold(host, h.PublicURL.Hostname()) {
		return
	}
	writeProblem(c, &Problem{Status: http.StatusMisdirectedRequest, Code: "host.unknown",
		Detail: "This service is not reached by that name.",
		Next:   "If people reach it by that name, start it with --public-url"})
}

// unescapePath unescapes names in the path, where a plus is a plus, and refuses
// what no name can be.
func unescapePath(c *gin.Context) {
	for i, p := range c.Params {
		text, err := p.Value, error(nil)
		if c.Request.URL.RawPath != "" { // else the path came without an escape that matters
			text, err = url.PathUnescape(p.Value)
		}
		if err != nil || !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
			writeProblem(c, &Problem{Status: http.StatusUnprocessableEntity, Code: "request.invalid",
				Detail: "A name in the address is not valid UTF-8, or holds a NUL.",
				Next:   "No server, database, account or role can have such a name."})
			return
		}
		c.Params[i].Value = text
	}
}

var crossOrigin = http.NewCrossOriginProtection()

// refuseCrossOrigin refuses what another site makes a browser send.
func refuseCrossOrigin(c *gin.Context) {
	if err := crossOrigin.Check(c.Request); err != nil {
		writeProblem(c, &Problem{Status: http.StatusForbidden, Code: "cross_origin",
			Detail: "The request comes from another site."})
	}
}
