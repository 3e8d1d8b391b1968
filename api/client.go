package api

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
)

// Client asks a service over HTTP.
type Client struct {
	Base  string // http://127.0.0.1:8470
	Token string
	// By is who asks for what changes something, and Because why; both are kept.
	By, Because string
}

// said are the parameters that say who asks, and why.
func (c *Client) said() url.Values {
	q := url.Values{}
	if c.By != "" {
		q.Set("by", c.By)
	}
	if c.Because != "" {
		q.Set("because", c.Because)
	}
	return q
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
	return c.send(ctx, method, path, query, body, "application/json")
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body io.Reader, kind string) (*http.Response, error) {
	target := strings.TrimSuffix(c.Base, "/") + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	r, err := http.NewRequestWithContext(ctx, method, target, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+c.Token)
	r.Header.Set("Content-Type", kind)
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
	return call[*service.Sheet](ctx, c, http.MethodPost, "/api/routes/"+url.PathEscape(name)+verb, c.said(), nil)
}

// Publish sends a workspace.
func (c *Client) Publish(ctx context.Context, r PublishRequest) (PublishAnswer, error) {
	if problem := r.Files.tooLarge(); problem != "" {
		return PublishAnswer{}, errors.New(problem)
	}
	return call[PublishAnswer](ctx, c, http.MethodPost, "/api/publish", c.said(), r)
}

// tooLarge says that files cannot be sent, and which are the largest; "" if they can.
func (f Files) tooLarge() string {
	sent, size := 0, 0
	for name, content := range f {
		sent += base64.StdEncoding.EncodedLen(len(content)) + 2*len(name) + len(`"":"",`)
		size += len(content)
	}
	if sent+1<<20 < maxPublished { // there are the names of routes, too
		return ""
	}
	names := slices.SortedFunc(maps.Keys(f), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(f[b]), len(f[a])), strings.Compare(a, b))
	})
	var largest []string
	for _, name := range names[:min(3, len(names))] {
		largest = append(largest, fmt.Sprintf("%s (%d MB)", name, len(f[name])/1e6))
	}
	return fmt.Sprintf("the workspace has %d MB, and at most %d can be published: keep large samples outside of it; the largest files are %s", size/1e6, maxPublished*3/4/1_000_000, strings.Join(largest, ", "))
}

// Remove takes a stopped route off the list; with dry it only says what that means.
func (c *Client) Remove(ctx context.Context, name string, dry bool) (wire.Removal, error) {
	q := c.said()
	if dry {
		q.Set("dry", "true")
	}
	return call[wire.Removal](ctx, c, http.MethodDelete, "/api/routes/"+url.PathEscape(name), q, nil)
}

// Rename gives a stopped route another name, with all that is known of it; with dry it only says what that means.
func (c *Client) Rename(ctx context.Context, name, to string, dry bool) (wire.Renaming, error) {
	return call[wire.Renaming](ctx, c, http.MethodPost, "/api/routes/"+url.PathEscape(name)+"/rename", c.said(), RenameRequest{To: to, Dry: dry})
}

// Find looks for records by a text in them; query has the parameters of the operation.
func (c *Client) Find(ctx context.Context, query url.Values) (service.FindAnswer, error) {
	return call[service.FindAnswer](ctx, c, http.MethodGet, "/api/records", query, nil)
}

// Pickups lists pickups; query has the parameters of the operation.
func (c *Client) Pickups(ctx context.Context, query url.Values) (Page[wire.Pickup], error) {
	return call[Page[wire.Pickup]](ctx, c, http.MethodGet, "/api/pickups", query, nil)
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
func (c *Client) Rejects(ctx context.Context, run int64, query url.Values) (Page[wire.Reject], error) {
	return call[Page[wire.Reject]](ctx, c, http.MethodGet, fmt.Sprintf("/api/runs/%d/rejects", run), query, nil)
}

// Again runs pickups again.
func (c *Client) Again(ctx context.Context, q service.AgainRequest) ([]service.AgainAnswer, error) {
	page, err := call[Page[service.AgainAnswer]](ctx, c, http.MethodPost, "/api/again", c.said(), q)
	return page.Items, err
}

// Decide says what is to become of a pickup that cannot go on.
func (c *Client) Decide(ctx context.Context, pickup int64, decision store.Person) (wire.Pickup, error) {
	return call[wire.Pickup](ctx, c, http.MethodPost, fmt.Sprintf("/api/pickups/%d/decision", pickup), c.said(), Decision{string(decision)})
}

func routePath(name, verb string) string { return "/api/routes/" + url.PathEscape(name) + "/" + verb }

// Pause lets a route take nothing until a time, or (zero) until it is started.
func (c *Client) Pause(ctx context.Context, name string, until time.Time) (*service.Sheet, error) {
	in := map[string]any{}
	if !until.IsZero() {
		in["until"] = until
	}
	return call[*service.Sheet](ctx, c, http.MethodPost, routePath(name, "pause"), c.said(), in)
}

// Take takes what is in a route's inbox now or, with a name, that file.
func (c *Client) Take(ctx context.Context, name, file string) (*service.Sheet, error) {
	return call[*service.Sheet](ctx, c, http.MethodPost, routePath(name, "take"), nil, map[string]string{"file": file})
}

// Hand gives a file to a route and tells the pickup's number.
func (c *Client) Hand(ctx context.Context, route, name string, content io.Reader) (int64, error) {
	q := c.said()
	q.Set("name", name)
	out, err := upload[Handed](ctx, c, routePath(route, "files"), q, content)
	return out.Pickup, err
}

// HandTrial runs a published route over a file without delivering anything; query has limit, rejected and explain.
func (c *Client) HandTrial(ctx context.Context, route, name string, query url.Values, content io.Reader) (*service.Trial, error) {
	q := url.Values{"name": {name}, "trial": {"true"}}
	maps.Copy(q, query)
	return upload[*service.Trial](ctx, c, routePath(route, "files"), q, content)
}

// Sample sends a file to be looked at; query has its name, and the member of an archive.
func (c *Client) Sample(ctx context.Context, query url.Values, content io.Reader) (*service.SampleView, error) {
	return upload[*service.SampleView](ctx, c, "/api/samples", query, content)
}

// SampleRecords shows records of a sample.
func (c *Client) SampleRecords(ctx context.Context, id string, query url.Values) (*service.RecordsView, error) {
	return call[*service.RecordsView](ctx, c, http.MethodGet, "/api/samples/"+url.PathEscape(id)+"/records", query, nil)
}

func upload[T any](ctx context.Context, c *Client, path string, query url.Values, content io.Reader) (out T, err error) {
	answer, err := c.send(ctx, http.MethodPost, path, query, content, "application/octet-stream")
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	err = json.NewDecoder(answer.Body).Decode(&out)
	return out, err
}

// HandOver gives the original of a pickup to a route.
func (c *Client) HandOver(ctx context.Context, route string, pickup int64) (int64, error) {
	out, err := call[Handed](ctx, c, http.MethodPost, routePath(route, "pickups"), c.said(), map[string]int64{"pickup": pickup})
	return out.Pickup, err
}

// Lanes lists the lanes that are held.
func (c *Client) Lanes(ctx context.Context, route string) ([]wire.Lane, error) {
	page, err := call[Page[wire.Lane]](ctx, c, http.MethodGet, "/api/lanes", url.Values{"route": {route}}, nil)
	return page.Items, err
}

// Places lists where files come from and go to.
func (c *Client) Places(ctx context.Context) ([]wire.EnvironmentPlace, error) {
	page, err := call[Page[wire.EnvironmentPlace]](ctx, c, http.MethodGet, "/api/places", nil, nil)
	return page.Items, err
}

// TryPlace tries what a place can do.
func (c *Client) TryPlace(ctx context.Context, name, folder string) ([]wire.PlaceStep, error) {
	page, err := call[Page[wire.PlaceStep]](ctx, c, http.MethodPost, "/api/places/"+url.PathEscape(name)+"/try", url.Values{"folder": {folder}}, nil)
	return page.Items, err
}

// Lookups lists the contents of lookups that routes have delivered: the newest of each or, of one, all.
func (c *Client) Lookups(ctx context.Context, name string) ([]wire.Lookup, error) {
	path := "/api/lookups"
	if name != "" {
		path += "/" + url.PathEscape(name)
	}
	page, err := call[Page[wire.Lookup]](ctx, c, http.MethodGet, path, nil, nil)
	return page.Items, err
}

// LookupContent gives a content of a lookup, CSV; version 0 is the newest.
func (c *Client) LookupContent(ctx context.Context, name string, version int) (string, error) {
	out, err := call[LookupContent](ctx, c, http.MethodGet, "/api/lookups/"+url.PathEscape(name)+"/content", url.Values{"version": {strconv.Itoa(version)}}, nil)
	return out.Content, err
}

// Alerts lists what a person should know; query has the parameters of the
// operation.
func (c *Client) Alerts(ctx context.Context, query url.Values) (Page[wire.Alert], error) {
	return call[Page[wire.Alert]](ctx, c, http.MethodGet, "/api/alerts", query, nil)
}

// See says that alerts have been seen: some, or with nil all that nobody has seen yet.
func (c *Client) See(ctx context.Context, alerts []int64, by string) (int64, error) {
	request := map[string]any{"alerts": alerts, "by": by}
	if alerts == nil {
		request = map[string]any{"all": true, "by": by}
	}
	out, err := call[Seen](ctx, c, http.MethodPost, "/api/alerts/seen", nil, request)
	return out.Alerts, err
}

// Expectations lists deadlines; query has the parameters of the operation.
func (c *Client) Expectations(ctx context.Context, query url.Values) ([]wire.Expected, error) {
	page, err := call[Page[wire.Expected]](ctx, c, http.MethodGet, "/api/expectations", query, nil)
	return page.Items, err
}

// Nodes lists the services that share the database.
func (c *Client) Nodes(ctx context.Context) ([]service.NodeView, error) {
	page, err := call[Page[service.NodeView]](ctx, c, http.MethodGet, "/api/nodes", nil, nil)
	return page.Items, err
}

// Purge removes what a route need not keep any longer.
func (c *Client) Purge(ctx context.Context, route string, dry bool) (wire.Purged, error) {
	return call[wire.Purged](ctx, c, http.MethodPost, routePath(route, "purge"), nil, map[string]bool{"dry": dry})
}

// LegalHolds lists legal holds.
func (c *Client) LegalHolds(ctx context.Context) ([]wire.LegalHold, error) {
	page, err := call[Page[wire.LegalHold]](ctx, c, http.MethodGet, "/api/legal-holds", nil, nil)
	return page.Items, err
}

// PlaceLegalHold keeps things from being purged.
func (c *Client) PlaceLegalHold(ctx context.Context, h wire.LegalHold) (wire.LegalHold, error) {
	return call[wire.LegalHold](ctx, c, http.MethodPost, "/api/legal-holds", nil, map[string]any{"route": h.Route, "pickup": h.Pickup, "because": h.Because})
}

// LiftLegalHold ends a legal hold.
func (c *Client) LiftLegalHold(ctx context.Context, id int64) error {
	_, err := call[Page[wire.LegalHold]](ctx, c, http.MethodPost, fmt.Sprintf("/api/legal-holds/%d/lift", id), nil, nil)
	return err
}

// Backup writes a backup of the service's records and originals.
func (c *Client) Backup(ctx context.Context, to io.Writer) error {
	answer, err := c.request(ctx, http.MethodGet, "/api/backup", nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(to, answer.Body); err != nil {
		return fmt.Errorf("the backup was cut off: %w", err)
	}
	return nil
}
