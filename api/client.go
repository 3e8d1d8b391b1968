package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ydrion/service"
	"ydrion/store"
)

// Client asks a service over HTTP.
type Client struct {
	Base  string // http://127.0.0.1:8470
	Token string
}

// Problem is an answer that says what went wrong (RFC 9457).
type Problem struct {
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return s
}

func (c *Client) request(ctx context.Context, method, path string, query url.Values, in any) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	target := strings.TrimSuffix(c.Base, "/") + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+c.Token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, fmt.Errorf("asking the service at %s: %w", c.Base, err)
	}
	if answer.StatusCode < 400 {
		return answer, nil
	}
	defer answer.Body.Close()
	p := &Problem{Title: answer.Status, Status: answer.StatusCode}
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	if json.Unmarshal(text, p) != nil {
		p.Detail = strings.TrimSpace(string(text))
	}
	return nil, p
}

func call[T any](ctx context.Context, c *Client, method, path string, query url.Values, in any) (T, error) {
	var out T
	answer, err := c.request(ctx, method, path, query, in)
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	if err := json.NewDecoder(answer.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("the service's answer to %s cannot be read: %w", path, err)
	}
	return out, nil
}

// Overview asks for today at a glance.
func (c *Client) Overview(ctx context.Context) (*service.Overview, error) {
	return call[*service.Overview](ctx, c, http.MethodGet, "/api/overview", nil, nil)
}

// Routes lists the published routes.
func (c *Client) Routes(ctx context.Context) ([]service.RouteView, error) {
	page, err := call[Page[service.RouteView]](ctx, c, http.MethodGet, "/api/routes", nil, nil)
	return page.Items, err
}

// Route asks for one route with its stages.
func (c *Client) Route(ctx context.Context, name string) (*service.Sheet, error) {
	return call[*service.Sheet](ctx, c, http.MethodGet, "/api/routes/"+url.PathEscape(name), nil, nil)
}

// SetRunning starts or stops a route.
func (c *Client) SetRunning(ctx context.Context, name string, running bool) (*service.Sheet, error) {
	verb := "/stop"
	if running {
		verb = "/start"
	}
	return call[*service.Sheet](ctx, c, http.MethodPost, "/api/routes/"+url.PathEscape(name)+verb, nil, nil)
}

// Publish sends a workspace.
func (c *Client) Publish(ctx context.Context, r PublishRequest) (PublishAnswer, error) {
	return call[PublishAnswer](ctx, c, http.MethodPost, "/api/publish", nil, r)
}

// Pickups lists pickups; query has the parameters of the operation.
func (c *Client) Pickups(ctx context.Context, query url.Values) (Page[store.Pickup], error) {
	return call[Page[store.Pickup]](ctx, c, http.MethodGet, "/api/pickups", query, nil)
}

// Pickup asks for one pickup.
func (c *Client) Pickup(ctx context.Context, id int64) (*service.PickupDetail, error) {
	return call[*service.PickupDetail](ctx, c, http.MethodGet, "/api/pickups/"+strconv.FormatInt(id, 10), nil, nil)
}

// Records looks at records of a run.
func (c *Client) Records(ctx context.Context, run int64, query url.Values) (*service.Trial, error) {
	return call[*service.Trial](ctx, c, http.MethodGet, fmt.Sprintf("/api/runs/%d/records", run), query, nil)
}

// Rejects lists rejected records of a run.
func (c *Client) Rejects(ctx context.Context, run int64, query url.Values) (Page[RejectView], error) {
	return call[Page[RejectView]](ctx, c, http.MethodGet, fmt.Sprintf("/api/runs/%d/rejects", run), query, nil)
}

// Again runs a pickup again and gives the run's number.
func (c *Client) Again(ctx context.Context, pickup int64, revision string) (int64, error) {
	out, err := call[Begun](ctx, c, http.MethodPost, fmt.Sprintf("/api/pickups/%d/runs", pickup), url.Values{"revision": {revision}}, nil)
	return out.Run, err
}
