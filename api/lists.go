package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"ydrion/service"
	"ydrion/store"
	"ydrion/wire"
)

// lists registers what operators look at besides pickups, and what they do
// about it.
// LookupContent is the content of a lookup.
type LookupContent struct {
	Content string `json:"content" doc:"CSV with a heading"`
}

func lists(api huma.API, s *service.Service) {
	type none struct{}
	get := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodGet, Path: path, Summary: summary}
	}
	post := func(id, path, summary string) huma.Operation {
		return huma.Operation{OperationID: id, Method: http.MethodPost, Path: path, Summary: summary}
	}
	huma.Register(api, get("lookups", "/api/lookups", "The newest content of each lookup that routes deliver"), func(ctx context.Context, _ *struct{}) (*body[Page[wire.Lookup]], error) {
		list, err := s.Lookups(ctx, "")
		return answer(Page[wire.Lookup]{Items: list}, err)
	})
	huma.Register(api, get("lookup", "/api/lookups/{name}", "The contents of a lookup, newest first"), func(ctx context.Context, q *struct {
		Name string `path:"name"`
	}) (*body[Page[wire.Lookup]], error) {
		list, err := s.Lookups(ctx, q.Name)
		return answer(Page[wire.Lookup]{Items: list}, err)
	})
	huma.Register(api, get("lookup-content", "/api/lookups/{name}/content", "A content of a lookup"), func(ctx context.Context, q *struct {
		Name    string `path:"name"`
		Version int    `query:"version" minimum:"0" doc:"0: the newest"`
	}) (*body[LookupContent], error) {
		content, err := s.LookupContent(ctx, q.Name, q.Version)
		return answer(LookupContent{content}, err)
	})
	huma.Register(api, get("places", "/api/places", "Where files come from and go to, and what waits for it"), func(ctx context.Context, _ *struct{}) (*body[Page[wire.EnvironmentPlace]], error) {
		list, err := s.Places(ctx)
		return answer(Page[wire.EnvironmentPlace]{Items: list}, err)
	})
	huma.Register(api, post("try-place", "/api/places/{name}/try", "Try what a place can do: a probe is written there and removed again"), func(ctx context.Context, q *struct {
		Name   string `path:"name"`
		Folder string `query:"folder" doc:"below the place; empty: the place itself"`
	}) (*body[Page[wire.PlaceStep]], error) {
		list, err := s.TryPlace(ctx, q.Name, q.Folder)
		return answer(Page[wire.PlaceStep]{Items: list}, err)
	})
	huma.Register(api, get("lanes", "/api/lanes", "Lanes that are held, and by which pickup"), func(ctx context.Context, q *struct {
		Route string `query:"route"`
	}) (*body[Page[wire.Lane]], error) {
		list, err := s.Lanes(ctx, q.Route)
		return answer(Page[wire.Lane]{Items: list}, err)
	})
	huma.Register(api, get("alerts", "/api/alerts", "What a person should know, newest first, or followed"), func(ctx context.Context, q *struct {
		Open   bool   `query:"open" doc:"only those that nobody has seen yet"`
		Route  string `query:"route"`
		Before int64  `query:"before" minimum:"0" doc:"the next page: only smaller numbers"`
		Followed
		Limit int `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}) (*body[Page[wire.Alert]], error) {
		list, err := s.Alerts(ctx, store.AlertFilter{Open: q.Open, Route: q.Route, Before: q.Before, After: q.from(), Limit: q.Limit + 1})
		return answer(paged(list, q.Limit, func(a wire.Alert) int64 { return a.ID }), err)
	})
	huma.Register(api, post("see-alerts", "/api/alerts/seen", "Say that alerts have been seen"), func(ctx context.Context, in *struct {
		Body struct {
			Alerts []int64 `json:"alerts,omitempty" doc:"these"`
			All    bool    `json:"all,omitempty" doc:"all that nobody has seen yet"`
			By     string  `json:"by,omitempty" doc:"who says so"`
		}
	}) (*body[Seen], error) {
		if in.Body.All && len(in.Body.Alerts) > 0 {
			return nil, huma.Error422UnprocessableEntity("either all, or the numbers of alerts")
		}
		if in.Body.All {
			in.Body.Alerts = nil
		} else if len(in.Body.Alerts) == 0 {
			return answer(Seen{}, nil)
		}
		n, err := s.See(ctx, in.Body.Alerts, in.Body.By)
		return answer(Seen{n}, err)
	})
	huma.Register(api, get("expectations", "/api/expectations", "Deadlines to come and past, and what had come by then"), func(ctx context.Context, q *struct {
		Route string    `query:"route"`
		Since time.Time `query:"since" doc:"deadlines since then; the last week if left out"`
	}) (*body[Page[wire.Expected]], error) {
		if q.Since.IsZero() {
			q.Since = time.Now().AddDate(0, 0, -7)
		}
		list, err := s.Expectations(ctx, q.Route, q.Since)
		return answer(Page[wire.Expected]{Items: list}, err)
	})
	huma.Register(api, get("nodes", "/api/nodes", "The services that share the database"), func(ctx context.Context, _ *none) (*body[Page[service.NodeView]], error) {
		list, err := s.Nodes(ctx)
		return answer(Page[service.NodeView]{Items: list}, err)
	})
	huma.Register(api, post("purge", "/api/routes/{name}/purge", "Remove what a route need not keep any longer"), func(ctx context.Context, in *struct {
		Name string `path:"name"`
		Body struct {
			Dry bool `json:"dry,omitempty" doc:"only say what that is"`
		}
	}) (*body[wire.Purged], error) {
		return answer(s.Purge(ctx, in.Name, in.Body.Dry))
	})
	huma.Register(api, get("legal-holds", "/api/legal-holds", "What must not be purged, newest first"), func(ctx context.Context, _ *none) (*body[Page[wire.LegalHold]], error) {
		list, err := s.LegalHolds(ctx)
		return answer(Page[wire.LegalHold]{Items: list}, err)
	})
	huma.Register(api, post("place-legal-hold", "/api/legal-holds", "Keep a pickup, a route's pickups or all from being purged"), func(ctx context.Context, in *struct {
		Body struct {
			Route   string `json:"route,omitempty"`
			Pickup  int64  `json:"pickup,omitempty"`
			Because string `json:"because" minLength:"1"`
		}
	}) (*body[wire.LegalHold], error) {
		h := wire.LegalHold{Route: in.Body.Route, Pickup: in.Body.Pickup, Because: in.Body.Because, PlacedAt: time.Now()}
		id, err := s.PlaceLegalHold(ctx, h)
		h.ID = id
		return answer(h, err)
	})
	huma.Register(api, post("lift-legal-hold", "/api/legal-holds/{id}/lift", "End a legal hold"), func(ctx context.Context, in *struct {
		ID int64 `path:"id" doc:"number of the hold"`
	}) (*body[Page[wire.LegalHold]], error) {
		if err := s.LiftLegalHold(ctx, in.ID); err != nil {
			return nil, asProblem(err)
		}
		list, err := s.LegalHolds(ctx)
		return answer(Page[wire.LegalHold]{Items: list}, err)
	})
}

// Seen says how many alerts were marked as seen.
type Seen struct {
	Alerts int64 `json:"alerts"`
}

// maxTrial is how large a file may be that is only tried.
const maxTrial = 64 << 20

// hand takes a file that somebody gives to a route: for good, or as a trial that
// delivers and records nothing. The body is the file.
func hand(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		q := r.URL.Query()
		if problem := onlyKnown(q, "name", "trial", "limit", "rejected", "warned", "explain", "by", "because"); problem != "" {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, problem)
		}
		route, name := param(c, "name"), q.Get("name")
		if utf8.RuneCountInString(q.Get("by")) > 200 || utf8.RuneCountInString(q.Get("because")) > 2000 {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, "by has at most 200 characters, because at most 2000")
		}
		if name == "" {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, "the parameter name is missing: the file's name")
		}
		var flags [4]bool
		for i, flag := range []string{"trial", "rejected", "warned", "explain"} {
			if !q.Has(flag) {
				continue
			}
			var err error
			if flags[i], err = strconv.ParseBool(q.Get(flag)); err != nil {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, fmt.Sprintf("%s is true or false, not %q", flag, q.Get(flag)))
			}
		}
		limit := 20
		if q.Has("limit") {
			var err error
			if limit, err = strconv.Atoi(q.Get("limit")); err != nil || limit < 1 || limit > 200 {
				return echo.NewHTTPError(http.StatusUnprocessableEntity, fmt.Sprintf("limit is a number from 1 to 200, not %q", q.Get("limit")))
			}
		}
		if trial := flags[0]; !trial && (q.Has("limit") || q.Has("rejected") || q.Has("warned") || q.Has("explain")) {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, "limit, rejected, warned and explain are for trials: say trial=true")
		} else if trial {
			trial, err := s.TryOn(r.Context(), route, name, http.MaxBytesReader(c.Response(), r.Body, maxTrial), service.TrialRequest{From: 1, Limit: limit, Rejected: flags[1], Warned: flags[2], Explain: flags[3], Whole: true})
			if err != nil {
				return plainProblem(err)
			}
			return c.JSON(http.StatusOK, trial)
		}
		id, err := s.Hand(r.Context(), route, name, r.Body, "HTTP", store.Said{By: q.Get("by"), Because: q.Get("because")})
		if err != nil {
			return plainProblem(err)
		}
		return c.JSON(http.StatusOK, Handed{id})
	}
}

// onlyKnown says which parameter of a query nobody understands; empty if there is none. What
// is not understood must not be left out silently: it may have been meant to do less.
func onlyKnown(q url.Values, known ...string) string {
	for _, name := range slices.Sorted(maps.Keys(q)) {
		if !slices.Contains(known, name) {
			if len(known) == 0 {
				return fmt.Sprintf("there is no parameter %q, and no other", name)
			}
			return fmt.Sprintf("there is no parameter %q; there are %s", name, strings.Join(known, ", "))
		}
		if len(q[name]) > 1 {
			return fmt.Sprintf("the parameter %s stands there %d times", name, len(q[name]))
		}
	}
	return ""
}

// plainProblem gives an error the status that it has in typed operations.
func plainProblem(err error) error {
	if status, ok := asProblem(err).(huma.StatusError); ok {
		return echo.NewHTTPError(status.GetStatus(), status.Error())
	}
	return err
}
