package api

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

func (h *Handler) registerExports() {
	register(h, op{method: "GET", path: "/exports", id: "list-exports",
		summary: "Databases that were exported before they were dropped", permission: policy.View}, h.listExports)
	register(h, op{method: "DELETE", path: "/exports/{export}", id: "remove-export", summary: "Remove an export",
		permission: policy.Admin, status: http.StatusNoContent}, h.removeExport)
	o := h.describe(op{method: "GET", path: "/exports/{export}/file", id: "fetch-export",
		summary: "The export itself: everything that was in the database", permission: policy.Admin})
	huma.Register(h.api, o, func(ctx context.Context, in *ExportPath) (*huma.StreamResponse, error) {
		out, err := h.fetchExport(ctx, in)
		if err != nil {
			return nil, h.problem(ctx, err)
		}
		return out, nil
	})
}

// ExportPath names an export.
type ExportPath struct {
	Export string `path:"export" maxLength:"64"`
}

func (h *Handler) listExports(ctx context.Context, in *struct {
	Server   string `query:"server" maxLength:"40"`
	Database string `query:"database" maxLength:"2000"`
}) (*body[wire.ExportList], error) {
	out := wire.ExportList{Exports: []wire.Export{}}
	if h.Exports == nil {
		return answer(out), nil
	}
	list, err := h.Exports.List(ctx)
	for _, f := range list {
		var of change.Export
		if json.Unmarshal([]byte(f.About), &of) != nil || in.Server != "" && in.Server != f.Server ||
			in.Database != "" && in.Database != of.Database {
			continue
		}
		out.Exports = append(out.Exports, renderExport(f, of))
	}
	return answer(out), err
}

func renderExport(f record.File, of change.Export) wire.Export {
	checked := of.Checked
	if checked == nil {
		checked = []string{}
	}
	return wire.Export{ID: f.ID, Server: f.Server, Database: of.Database, Operator: f.Operator, Change: of.Change,
		Program: of.Program, File: f.Server + "-" + f.Created.Format("20060102-150405") + "." + of.File,
		Restore: of.Restore, Size: f.Size, SHA256: of.SHA256, Checked: checked, Created: f.Created, Until: f.Until}
}

func (h *Handler) removeExport(ctx context.Context, in *ExportPath) (*struct{}, error) {
	if h.Exports == nil {
		return nil, record.ErrNotFound
	}
	return nil, h.Exports.Remove(ctx, from(ctx).Name, in.Export)
}

// fetchExport sends an export, which can be large. That somebody took it is on record first.
func (h *Handler) fetchExport(ctx context.Context, in *ExportPath) (*huma.StreamResponse, error) {
	if h.Exports == nil {
		return nil, record.ErrNotFound
	}
	f, of, err := h.Exports.Export(ctx, in.Export)
	if err != nil {
		return nil, err
	}
	file, err := h.Exports.Open(ctx, in.Export)
	if err != nil {
		return nil, err
	}
	detail, _ := json.Marshal(map[string]string{"export": f.ID})
	err = h.Records.Append(ctx, journal.Entry{Operator: from(ctx).Name, Action: "export.fetch", Subject: f.Subject,
		Change: of.Change, Detail: string(detail)})
	if err != nil {
		file.Close()
		return nil, err
	}
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		defer file.Close()
		ctx.SetHeader("Content-Type", "application/octet-stream")
		ctx.SetHeader("Content-Length", strconv.FormatInt(f.Size, 10))
		ctx.SetHeader("Content-Disposition", `attachment; filename="`+renderExport(f, of).File+`"`)
		control := http.NewResponseController(unwrapGin(ctx).Writer)
		if _, err := io.Copy(slowly{ctx.BodyWriter(), control, time.Now().Add(transferTime)}, file); err != nil {
			panic(http.ErrAbortHandler) // a file that is cut off must not look whole
		}
	}}, nil
}

// slowly is a body that is written for as long as somebody reads it.
type slowly struct {
	io.Writer
	control *http.ResponseController
	until   time.Time
}

// Write writes on.
func (s slowly) Write(part []byte) (int, error) {
	_ = s.control.SetWriteDeadline(patience(s.until))
	return s.Writer.Write(part)
}
