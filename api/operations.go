package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"ydrion/core/finding"
	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
)

// body is an answer with a JSON body.
type body[T any] struct{ Body T }

func answer[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, asProblem(err)
	}
	return &body[T]{v}, nil
}

func asProblem(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(notThere(err))
	case errors.Is(err, store.ErrBusy), errors.Is(err, store.ErrNotSo), errors.Is(err, store.ErrPurged):
		return huma.Error409Conflict(err.Error())
	case errors.Is(err, store.ErrNoState), errors.Is(err, service.ErrSample):
		return huma.Error422UnprocessableEntity(err.Error())
	}
	if store.Unfit(err) {
		slog.Warn("the database does not take what a request holds", "error", err)
		return huma.Error422UnprocessableEntity("the request holds something that cannot be kept, such as a NUL character in a text")
	}
	if reason := store.Unavailable(err); reason != "" {
		return huma.Error503ServiceUnavailable(reason + "; it is tried again, and nothing is lost meanwhile")
	}
	var said huma.StatusError
	if errors.As(err, &said) {
		return err
	}
	if !errors.Is(err, context.Canceled) { // otherwise whoever asked has gone
		slog.Error("request failed", "error", err)
	}
	return huma.Error500InternalServerError("something went wrong inside the service; its log says what")
}

// paged makes a page of a list that was asked for one more than the page holds: there is a next
// page only if there is more.
func paged[T any](list []T, limit int, number func(T) int64) Page[T] {
	page := Page[T]{Items: list}
	if len(list) > limit {
		page.Items = list[:limit]
		page.Next = number(page.Items[limit-1])
	}
	return page
}

// notThere says what there is not, without what was being done meanwhile.
func notThere(err error) string {
	for err != nil {
		if errors.Is(err, store.ErrNotFound) && errors.Unwrap(err) == nil {
			return err.Error()
		}
		err = errors.Unwrap(err)
	}
	return store.ErrNotFound.Error()
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T   `json:"items"`
	Next  int64 `json:"next" doc:"value of the parameter for the next page, 0 at the end"`
}

// Said is who asks for something, and why; both may be left out.
type Said struct {
	By      string `query:"by" maxLength:"200" doc:"who says so; it is kept"`
	Because string `query:"because" maxLength:"2000" doc:"why; it is kept"`
}

func (s *Said) said() store.Said { return store.Said{By: s.By, Because: s.Because} }

// NamedSaid is a name with who asks for something, and why.
type NamedSaid struct {
	Said
	Name string `path:"name"`
}

// PublishRequest holds a workspace.
type PublishRequest struct {
	Files  Files    `json:"files" doc:"contents by path with slashes, in base64"`
	Routes []string `json:"routes,omitempty" doc:"only these routes; all if left out"`
	Dry    bool     `json:"dry,omitempty" doc:"only check"`
}

// maxPublished is how many bytes a workspace may have as it is sent.
const maxPublished = 64 << 20

// Files are contents by path. They may be empty, which the usual rule for base64 does not allow.
type Files map[string][]byte

// Schema says what they are.
func (Files) Schema(huma.Registry) *huma.Schema {
	content := &huma.Schema{Type: huma.TypeString, Extensions: map[string]any{"contentEncoding": "base64"}}
	return &huma.Schema{Type: huma.TypeObject, AdditionalProperties: content}
}

// PublishAnswer says what became of a workspace.
type PublishAnswer struct {
	Published bool                  `json:"published"`
	Routes    []service.Publication `json:"routes"`
	Findings  finding.List          `json:"findings" doc:"about the workspace as a whole"`
}

// RenameRequest says what a route is to be called.
type RenameRequest struct {
	To  string `json:"to"`
	Dry bool   `json:"dry,omitempty" doc:"only say what that means"`
}

// Handed is a pickup of a file that was handed to a route.
type Handed struct {
	Pickup int64 `json:"pickup" doc:"number of the pickup"`
}

// Decision is what a person says about a pickup that cannot go on.
type Decision struct {
	Decision string `json:"decision" enum:"try,admit,pass,withdraw,arrived,abandoned" doc:"try it at once; admit what looked like a duplicate; let those behind it in its lane pass; withdraw it; what was uncertain has arrived; what is not delivered yet is abandoned"`
}

// PickupQuery narrows the list of pickups.
type PickupQuery struct {
	Route  string    `query:"route"`
	State  []string  `query:"state" doc:"claimed, taken, committed, delivered, rejected, held, uncertain, withdrawn; several with commas"`
	Lane   string    `query:"lane"`
	Output string    `query:"output" doc:"the name of something that it has become, or a pattern with *"`
	Name   string    `query:"name" doc:"part of the file's name, or a pattern with *"`
	Since  time.Time `query:"since"`
	Until  time.Time `query:"until"`
	Before int64     `query:"before" minimum:"0" doc:"the next page: only smaller numbers"`
	Followed
	Limit int `query:"limit" minimum:"1" maximum:"500" default:"50"`
}

// Followed is how a list is followed.
type Followed struct {
	After int64 `query:"after" minimum:"0" doc:"follow the list: oldest first, only larger numbers (0: from the first), and none behind one that is still being written down; who asks again with the last number misses none"`

	follow bool
}

// Resolve tells after=0 from no after (huma.Resolver), and that a list goes one way only.
func (f *Followed) Resolve(ctx huma.Context) []error {
	u := ctx.URL()
	q := u.Query()
	if f.follow = q.Has("after"); f.follow && q.Has("before") {
		return []error{&huma.ErrorDetail{Location: "query.after", Message: "say before or after, not both"}}
	}
	return nil
}

func (f *Followed) from() *int64 {
	if f.follow {
		return &f.After
	}
	return nil
}

// RecordQuery says which records to look at.
type RecordQuery struct {
	ID       int64 `path:"id"`
	From     int64 `query:"from" minimum:"1" default:"1"`
	Limit    int   `query:"limit" minimum:"1" maximum:"200" default:"20"`
	Rejected bool  `query:"rejected" doc:"only rejected records"`
	Warned   bool  `query:"warned" doc:"only records about which there is a warning; with rejected, both"`
	Rows     int   `query:"rows" minimum:"1" maximum:"1000" default:"3" doc:"how many rows of long lists to show"`
	Explain  bool  `query:"explain" doc:"say what each line of the map did, of the first 20 records"`
}

type named struct {
	Name string `path:"name"`
}

type numbered struct {
	ID int64 `path:"id" doc:"number of the pickup"`
}

// operations registers everything that people can ask for.
func operations(api huma.API, s *service.Service) {
	type none struct{}
	api.UseMiddleware(func(ctx huma.Context, next func(huma.Context)) {
		var known []string
		for _, p := range ctx.Operation().Parameters {
			if p.In == "query" {
				known = append(known, p.Name)
			}
		}
		u := ctx.URL()
		if problem := onlyKnown(u.Query(), known...); problem != "" {
			huma.WriteErr(api, ctx, http.StatusUnprocessableEntity, problem) //nolint: whoever asked has gone
			return
		}
		next(ctx)
	})
	samples(api, s)
	described(api)
	get := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary}
	}
	post := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodPost, Path: path, Summary: summary}
	}
	huma.Register(api, get("overview", "/api/overview", "Today at a glance"), func(ctx context.Context, _ *none) (*body[*service.Overview], error) {
		return answer(s.Overview(ctx))
	})
	huma.Register(api, get("routes", "/api/routes", "The published routes"), func(ctx context.Context, _ *none) (*body[Page[service.RouteView]], error) {
		list, err := s.Routes(ctx)
		return answer(Page[service.RouteView]{Items: list}, err)
	})
	huma.Register(api, get("route", "/api/routes/{name}", "One route with its stages"), func(ctx context.Context, in *named) (*body[*service.Sheet], error) {
		return answer(s.Sheet(ctx, in.Name))
	})
	huma.Register(api, post("start-route", "/api/routes/{name}/start", "Start a route"), func(ctx context.Context, in *NamedSaid) (*body[*service.Sheet], error) {
		if err := s.Start(ctx, in.Name, in.said()); err != nil {
			return nil, asProblem(err)
		}
		return answer(s.Sheet(ctx, in.Name))
	})
	huma.Register(api, post("stop-route", "/api/routes/{name}/stop", "Stop a route; what is under way is finished"), func(ctx context.Context, in *NamedSaid) (*body[*service.Sheet], error) {
		if err := s.Stop(ctx, in.Name, in.said()); err != nil {
			return nil, asProblem(err)
		}
		return answer(s.Sheet(ctx, in.Name))
	})
	huma.Register(api, post("pause-route", "/api/routes/{name}/pause", "Let a running route notice files but take none"), func(ctx context.Context, in *struct {
		NamedSaid
		Body struct {
			Until *time.Time `json:"until,omitempty" doc:"until the route is started if left out"`
		}
	}) (*body[*service.Sheet], error) {
		var until time.Time
		if in.Body.Until != nil {
			until = *in.Body.Until
		}
		if err := s.Pause(ctx, in.Name, until, in.said()); err != nil {
			return nil, asProblem(err)
		}
		return answer(s.Sheet(ctx, in.Name))
	})
	remove := get("remove-route", "/api/routes/{name}", "Take a stopped route without open pickups off the list; what is known of its pickups stays")
	remove.Method = http.MethodDelete
	huma.Register(api, remove, func(ctx context.Context, in *struct {
		NamedSaid
		Dry bool `query:"dry" doc:"only say what that means"`
	}) (*body[wire.Removal], error) {
		return answer(s.Remove(ctx, in.Name, in.Dry, in.said()))
	})
	huma.Register(api, post("rename-route", "/api/routes/{name}/rename", "Give a stopped route without open pickups another name, with all that is known of it"), func(ctx context.Context, in *struct {
		Said
		Name string `path:"name"`
		Body RenameRequest
	}) (*body[wire.Renaming], error) {
		return answer(s.Rename(ctx, in.Name, in.Body.To, in.Body.Dry, in.said()))
	})
	huma.Register(api, post("take", "/api/routes/{name}/take", "Take what is in the inbox now, or one file of it whatever it waits for"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body struct {
			File string `json:"file,omitempty" doc:"name below the listened folder; all that are ready if left out"`
		}
	}) (*body[*service.Sheet], error) {
		err := error(nil)
		if in.Body.File != "" {
			err = s.TakeFile(ctx, in.Name, in.Body.File)
		} else {
			err = s.Ask(ctx, in.Name)
		}
		if err != nil {
			return nil, asProblem(err)
		}
		return answer(s.Sheet(ctx, in.Name))
	})
	huma.Register(api, post("hand-over", "/api/routes/{name}/pickups", "Give the original of a pickup to a route"), func(ctx context.Context, in *struct {
		NamedSaid
		Body struct {
			Pickup int64 `json:"pickup" doc:"whose original"`
		}
	}) (*body[Handed], error) {
		id, err := s.HandOver(ctx, in.Name, in.Body.Pickup, fmt.Sprintf("pickup %d", in.Body.Pickup), in.said())
		return answer(Handed{id}, err)
	})
	lists(api, s)
	publish := post("publish", "/api/publish", "Check a workspace and publish its routes")
	publish.MaxBodyBytes = maxPublished
	huma.Register(api, publish, func(ctx context.Context, in *struct {
		Said
		Body PublishRequest
	}) (*body[PublishAnswer], error) {
		routes, findings, err := s.Publish(ctx, in.Body.Files, in.Body.Routes, in.Body.Dry, in.said())
		a := PublishAnswer{Published: !in.Body.Dry && !findings.HasErrors(), Routes: routes, Findings: findings}
		for _, r := range routes {
			a.Published = a.Published && r.OK
		}
		if a.Routes == nil {
			a.Routes = []service.Publication{}
		}
		return answer(a, err)
	})
	huma.Register(api, get("pickups", "/api/pickups", "Pickups, newest first, or followed"), func(ctx context.Context, q *PickupQuery) (*body[Page[wire.Pickup]], error) {
		list, err := s.Pickups(ctx, store.Filter{Route: q.Route, States: q.State, Name: q.Name, Lane: q.Lane, Output: q.Output, Since: q.Since, Until: q.Until, Before: q.Before, After: q.from(), Limit: q.Limit + 1})
		return answer(paged(list, q.Limit, func(p wire.Pickup) int64 { return p.ID }), err)
	})
	huma.Register(api, get("pickup", "/api/pickups/{id}", "One pickup with its runs and deliveries"), func(ctx context.Context, in *numbered) (*body[*service.PickupDetail], error) {
		return answer(s.Pickup(ctx, in.ID))
	})
	huma.Register(api, post("run-again", "/api/again", "Run pickups again from the archive: some, or all that a route, a name or a time says"), func(ctx context.Context, in *struct {
		Said
		Body service.AgainRequest
	}) (*body[Page[service.AgainAnswer]], error) {
		list, err := s.Again(ctx, in.Body, in.said())
		return answer(Page[service.AgainAnswer]{Items: list}, err)
	})
	huma.Register(api, post("decide", "/api/pickups/{id}/decision", "Say what is to become of a pickup that cannot go on"), func(ctx context.Context, in *struct {
		Said
		ID   int64 `path:"id"`
		Body Decision
	}) (*body[wire.Pickup], error) {
		return answer(s.Decide(ctx, in.ID, store.Person(in.Body.Decision), in.said()))
	})
	huma.Register(api, get("records", "/api/runs/{id}/records", "Records of a run, before and after"), func(ctx context.Context, q *RecordQuery) (*body[*service.Trial], error) {
		return answer(s.Records(ctx, q.ID, service.TrialRequest{From: q.From, Limit: q.Limit, Rejected: q.Rejected, Warned: q.Warned, Rows: q.Rows, Explain: q.Explain}))
	})
	huma.Register(api, get("find", "/api/records", "Records that have a text, in the originals that are kept, newest pickups first"), func(ctx context.Context, q *struct {
		Text   string    `query:"text" required:"true" minLength:"1" doc:"that the record has, as it came"`
		Route  string    `query:"route" doc:"only of this route"`
		Since  time.Time `query:"since" doc:"only of pickups claimed since then"`
		Before int64     `query:"before" doc:"go on: only of pickups with a smaller number"`
		From   int64     `query:"from" minimum:"0" doc:"go on: in the first of those pickups from this record on"`
		Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"20"`
	}) (*body[service.FindAnswer], error) {
		return answer(s.Find(ctx, service.FindRequest{Value: q.Text, Route: q.Route, Since: q.Since, Before: q.Before, From: q.From, Limit: q.Limit}))
	})
	huma.Register(api, get("rejects", "/api/runs/{id}/rejects", "Rejected records of a run with their findings"), func(ctx context.Context, q *struct {
		ID    int64 `path:"id"`
		After int64 `query:"after" doc:"the next page: only later records"`
		Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}) (*body[Page[wire.Reject]], error) {
		list, err := s.Rejects(ctx, q.ID, q.After, q.Limit+1)
		return answer(paged(list, q.Limit, func(r wire.Reject) int64 { return r.Record }), err)
	})
}

// original sends a file as it arrived.
func original(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		id, err := strconv.ParseInt(param(c, "id"), 10, 64)
		if err != nil {
			return echo.NewHTTPError(http.StatusBadRequest, "a pickup has a number, such as 12")
		}
		p, f, err := s.Original(c.Request().Context(), id)
		if errors.Is(err, store.ErrNotFound) {
			return echo.NewHTTPError(http.StatusNotFound, "")
		}
		if err != nil {
			return err
		}
		defer f.Close()
		h := c.Response().Header()
		h.Set("Cache-Control", "no-store")
		if unchanged(c, p.SHA256) {
			return nil
		}
		h.Set("Content-Type", "application/octet-stream")
		h.Set("Content-Length", strconv.FormatInt(p.Size, 10))
		h.Set("Content-Disposition", fmt.Sprintf("attachment; filename*=UTF-8''%s", escapeName(p.Name)))
		c.Response().WriteHeader(http.StatusOK)
		_, err = io.Copy(c.Response(), f)
		return err
	}
}

// backup sends a backup while everything goes on. Whether it is whole its own end says.
func backup(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		to := &begun{Writer: c.Response()}
		h := c.Response().Header()
		h.Set("Content-Type", "application/x-tar")
		h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=ydrion-%s.tar", time.Now().UTC().Format("20060102T150405Z")))
		_, err := s.Backup(c.Request().Context(), to)
		if reason := store.Unavailable(err); reason != "" && !to.has {
			h.Del("Content-Disposition")
			return echo.NewHTTPError(http.StatusServiceUnavailable, reason)
		}
		if err != nil && !to.has {
			return err
		}
		if err != nil {
			s.Log.Error("a backup was cut off", "error", err) // its reader finds no manifest
		}
		return nil
	}
}

// begun knows whether anything was written.
type begun struct {
	io.Writer
	has bool
}

func (b *begun) Write(p []byte) (int, error) {
	b.has = true
	return b.Writer.Write(p)
}

// escapeName writes a file name as RFC 8187 wants it.
func escapeName(name string) string {
	var out []byte
	for _, b := range []byte(name) {
		if b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || b == '.' || b == '-' || b == '_' {
			out = append(out, b)
			continue
		}
		out = append(out, fmt.Sprintf("%%%02X", b)...)
	}
	return string(out)
}
