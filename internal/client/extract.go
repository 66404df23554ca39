package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"mullein/internal/api"
)

func extractPath(name string) string { return "/extracts/" + url.PathEscape(name) }

// Extracts returns all extracts.
func (c *Client) Extracts(ctx context.Context) (api.ExtractList, error) {
	return get[api.ExtractList](ctx, c, "/extracts", nil)
}

// Extract returns one extract, with its file.
func (c *Client) Extract(ctx context.Context, name string) (api.Extract, error) {
	return get[api.Extract](ctx, c, extractPath(name), nil)
}

// PutExtract creates an extract or changes it.
func (c *Client) PutExtract(ctx context.Context, name, file, definition string) (api.ExtractChecked, error) {
	var out api.ExtractChecked
	err := c.call(ctx, http.MethodPut, extractPath(name), nil, api.ExtractPut{File: file, Definition: definition}, &out)
	return out, err
}

// RemoveExtract removes an extract and its history.
func (c *Client) RemoveExtract(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, extractPath(name), nil, nil, nil)
}

// RunExtract has an extract write now what is new.
func (c *Client) RunExtract(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, extractPath(name)+"/run", nil, nil, nil)
}

// PauseExtract keeps runs of an extract from beginning by themselves, or ends that.
func (c *Client) PauseExtract(ctx context.Context, name string, pause bool, because string) error {
	verb := "/resume"
	if pause {
		verb = "/pause"
	}
	return c.call(ctx, http.MethodPost, extractPath(name)+verb, nil, api.Because{Because: because}, nil)
}

// MarkExtract sets how far an extract has come.
func (c *Client) MarkExtract(ctx context.Context, name string, m api.ExtractMark) (api.Extract, error) {
	var out api.Extract
	err := c.call(ctx, http.MethodPost, extractPath(name)+"/mark", nil, m, &out)
	return out, err
}

// RehearseExtract says what a run of an extract would write now.
func (c *Client) RehearseExtract(ctx context.Context, name string) (api.ExtractRehearsal, error) {
	var out api.ExtractRehearsal
	err := c.long(ctx, http.MethodGet, extractPath(name)+"/rehearsal", nil, nil, &out)
	return out, err
}

// ExtractWindows returns a page of the windows of an extract, the newest first; before is the next of the page before, 0 for the
// first.
func (c *Client) ExtractWindows(ctx context.Context, name string, before int64, most int) (api.ExtractWindowList, error) {
	return get[api.ExtractWindowList](ctx, c, extractPath(name)+"/windows",
		url.Values{"before": {strconv.FormatInt(before, 10)}, "limit": {strconv.Itoa(most)}})
}
