package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"example.com/genarch/api/wire"
)

// SendScript sends a script by which a database of a server is to be filled. There is no limit
// to how long that may take: ctx bounds it.
func (c *Client) SendScript(ctx context.Context, server, file string, from io.Reader) (wire.Script, error) {
	var out wire.Script
	path := serverPath(server) + "/scripts?file=" + url.QueryEscape(file)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.base+path, from)
	if err != nil {
		return out, err
	}
	req.Header.Set("Content-Type", "application/octet-stream")
	res, err := c.answer(req)
	if err != nil {
		return out, err
	}
	defer res.Body.Close()
	if err := json.NewDecoder(res.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the answer cannot be read: %w", err)
	}
	return out, nil
}

// Exports lists the exports that are kept, of one server or of all.
func (c *Client) Exports(ctx context.Context, server string) (wire.ExportList, error) {
	return get[wire.ExportList](ctx, c, "/exports?server="+url.QueryEscape(server))
}

// RemoveExport removes an export.
func (c *Client) RemoveExport(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/exports/"+url.PathEscape(id), nil, nil)
}

// FetchExport writes an export, and holds what came against its hash. There is no limit to how
// long that may take: ctx bounds it.
func (c *Client) FetchExport(ctx context.Context, x wire.Export, to io.Writer) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/exports/"+url.PathEscape(x.ID)+"/file", nil)
	if err != nil {
		return err
	}
	res, err := c.answer(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	hash := sha256.New()
	if _, err := io.Copy(io.MultiWriter(to, hash), res.Body); err != nil {
		return fmt.Errorf("the export did not come whole: %w", err)
	}
	if got := hex.EncodeToString(hash.Sum(nil)); got != x.SHA256 {
		return fmt.Errorf("what came is not what was exported: its hash is %s, not %s", got, x.SHA256)
	}
	return nil
}

// DropScript removes a script that was sent and that no change asks for.
func (c *Client) DropScript(ctx context.Context, server, id string) error {
	return c.do(ctx, http.MethodDelete, serverPath(server)+"/scripts/"+url.PathEscape(id), nil, nil)
}
