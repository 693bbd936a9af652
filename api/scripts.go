package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/script"
)

const (
	// maxUploads is how many scripts are taken in at once; the next ones wait.
	maxUploads = 4
	// quietTime is how long an upload may say nothing, and transferTime how long one, or a
	// download, may take in all.
	quietTime    = 30 * time.Second
	transferTime = 6 * time.Hour
)

func (h *Handler) registerScripts() {
	o := h.describe(op{method: "POST", path: "/servers/{server}/scripts", id: "take-script",
		summary: "Send a script by which a database is to be filled", permission: policy.Request, status: 201})
	o.Description += " The body is the file as it is. It is kept encrypted until the change that asks for it " +
		"has ended," +
		" or for a day."
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}
	register(h, op{method: "DELETE", path: "/servers/{server}/scripts/{script}", id: "drop-script",
		summary: "Remove a script that one has sent", permission: policy.Request, status: http.StatusNoContent},
		h.dropScript)
	slots := make(chan struct{}, maxUploads)
	huma.Register(h.api, o, func(ctx context.Context, in *scriptUpload) (*body[wire.Script], error) {
		select {
		case slots <- struct{}{}:
			defer func() { <-slots }()
		case <-ctx.Done():
			return nil, h.problem(ctx, ctx.Err())
		}
		if h.Scripts == nil {
			return nil, h.problem(ctx, record.ErrNotFound)
		}
		kept, err := h.Scripts.Take(ctx, from(ctx).Name, in.Server, in.File, in.upload)
		if err != nil {
			return nil, h.scriptProblem(ctx, err, in.upload)
		}
		in.upload.answerSoon()
		return answer(renderScript(kept)), nil
	})
}

// dropScript removes a script; one's own alone.
func (h *Handler) dropScript(ctx context.Context, in *struct {
	ServerPath
	Script string `path:"script" maxLength:"64"`
}) (*struct{}, error) {
	if h.Scripts == nil {
		return nil, record.ErrNotFound
	}
	kept, err := h.Scripts.Script(ctx, in.Script)
	if err == nil && (kept.Operator != from(ctx).Name || kept.Server != in.Server) {
		err = record.ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return nil, h.Scripts.Remove(ctx, in.Script)
}

// scriptUpload is a script that is sent. It is not read into memory.
type scriptUpload struct {
	ServerPath
	File   string `query:"file" maxLength:"255" doc:"The name of the file, to be told by."`
	upload *upload
}

// Resolve takes hold of the body.
func (s *scriptUpload) Resolve(ctx huma.Context) []error {
	c := unwrapGin(ctx)
	s.upload = &upload{from: c.Request.Body, control: http.NewResponseController(c.Writer),
		until: time.Now().Add(transferTime)}
	return nil
}

// upload is a body that is read for as long as something comes.
type upload struct {
	from    io.Reader
	control *http.ResponseController
	until   time.Time
	failed  error
}

// patience is until when the next part has to come, or to go.
func patience(until time.Time) time.Time {
	if next := time.Now().Add(quietTime); next.Before(until) {
		return next
	}
	return until
}

// Read reads on.
func (u *upload) Read(into []byte) (int, error) {
	_ = u.control.SetReadDeadline(patience(u.until)) // without it the server's own holds
	n, err := u.from.Read(into)
	if err != nil && err != io.EOF {
		u.failed = err
	}
	return n, err
}

// answerSoon lets the answer be written: the time for that began with the question.
func (u *upload) answerSoon() { _ = u.control.SetWriteDeadline(time.Now().Add(quietTime)) }

func (h *Handler) scriptProblem(ctx context.Context, err error, u *upload) error {
	u.answerSoon()
	switch {
	case u.failed != nil:
		return titled(&Problem{Status: http.StatusBadRequest, Code: "script.cut_off",
			Detail: "The script did not come whole, so nothing of it was kept.", Next: "Send it again."})
	case errors.Is(err, record.ErrTooLarge):
		return titled(&Problem{Status: http.StatusRequestEntityTooLarge, Code: "script.too_large",
			Detail: "The script is larger than this service takes.",
			Next:   "Split it, or have the service take larger ones (serve --max-script)."})
	case errors.Is(err, record.ErrTooMany):
		return titled(&Problem{Status: http.StatusConflict, Code: "script.too_many",
			Detail: "You have too many scripts here that wait to be run.",
			Next: "Run or withdraw the changes that ask for them; one that no change asks for is removed " +
				"after a day."})
	case errors.Is(err, record.ErrNoRoom):
		h.Log.ErrorContext(ctx, "a script could not be taken in", "error", err)
		return titled(&Problem{Status: http.StatusInsufficientStorage, Code: "script.no_room",
			Detail: "The disk of the service has no room for the script.", Next: "Make room in its data folder."})
	}
	return h.problem(ctx, err)
}

func renderScript(k script.Kept) wire.Script {
	out := wire.Script{ID: k.ID, Server: k.Server, File: k.File, Created: k.Created, Size: k.Summary.Size,
		Lines: k.Summary.Lines, SHA256: k.Summary.SHA256, Statements: k.Summary.Statements}
	if b := k.Summary.Broken; b != nil {
		out.Broken = b.Error()
	}
	return out
}
