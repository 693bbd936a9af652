package api

import (
	"net/http"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
)

func unwrapGin(ctx huma.Context) *gin.Context { return humagin.Unwrap(ctx) }

// isAPI reports whether an address belongs to the API, not to the console.
func isAPI(path string) bool {
	return strings.HasPrefix(path, "/api/") || path == "/api" || path == "/metrics" || path == "/healthz" || path == "/readyz"
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
		"took", took, "operator", c.GetString("operator"), "address", c.RemoteIP())
}

// recoverPanic keeps one broken call from ending the service.
func (h *Handler) recoverPanic(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler {
				panic(r)
			}
			h.Log.ErrorContext(c.Request.Context(), "panic", "route", c.FullPath(), "panic", r, "stack", string(debug.Stack()))
			writeProblem(c, &Problem{Status: http.StatusInternalServerError, Code: "internal", Detail: "something went wrong inside Genarch; its log says what"})
		}
	}()
	c.Next()
}

// contentPolicy lets the console load from this service alone, with no inline
// script or style.
const contentPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; " +
	"base-uri 'none'; form-action 'self'; frame-ancestors 'none'; require-trusted-types-for 'script'; trusted-types svelte-trusted-html"

func securityHeaders(c *gin.Context) {
	header := c.Writer.Header()
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

var crossOrigin = http.NewCrossOriginProtection()

// refuseCrossOrigin refuses what another site makes a browser send.
func refuseCrossOrigin(c *gin.Context) {
	if err := crossOrigin.Check(c.Request); err != nil {
		writeProblem(c, &Problem{Status: http.StatusForbidden, Code: "cross_origin", Detail: "the request comes from another site"})
	}
}
