package service

import (
	"context"
	"fmt"
	"io"
	"time"

	"ydrion/route"
	"ydrion/store"
	"ydrion/timetable"
	"ydrion/wire"
	"ydrion/workspace"
)

// Lookups lists the contents of lookups that routes have delivered: the newest of each or, of one, all.
func (s *Service) Lookups(ctx context.Context, name string) ([]wire.Lookup, error) {
	rows, err := s.store.Versions(ctx, name)
	if err == nil && name != "" && len(rows) == 0 {
		err = store.ErrNotFound
	}
	return all(rows, lookupOf), err
}

// LookupContent gives a content of a lookup, CSV; version 0 is the newest.
func (s *Service) LookupContent(ctx context.Context, name string, version int) (string, error) {
	v, err := s.store.TableContent(ctx, name, version)
	return v.Content, err
}

// tellLookups says in the stages of a route how old the lookups are that it works with.
func (s *Service) tellLookups(ctx context.Context, c *route.Compiled, stages []Stage) error {
	if len(c.Lookups) == 0 {
		return nil
	}
	rows, err := s.store.Versions(ctx, "")
	if err != nil {
		return err
	}
	newest := map[string]store.Version{}
	for _, v := range rows {
		newest[v.Name] = v
	}
	for i := range stages {
		if stages[i].Name != "map" && stages[i].Name != "check" || i+1 < len(stages) && stages[i+1].Name == "map" {
			continue
		}
		for _, a := range c.Lookups {
			stages[i].Details = append(stages[i].Details, tellLookup(&a, newest))
		}
		break
	}
	return nil
}

// tellLookup says how old a lookup is.
func tellLookup(a *workspace.Arriving, newest map[string]store.Version) string {
	if a.File != "" {
		says := fmt.Sprintf("Looks codes up in %s, which comes with the files, as %s", a.Table, a.File)
		if a.Unmatched {
			says += "; rows that no record has looked up are told of"
		}
		return says + "."
	}
	says := fmt.Sprintf("Looks codes up in %s: no content has come yet, the published one counts", a.Table)
	if v, has := newest[a.Table]; has {
		says = fmt.Sprintf("Looks codes up in %s: version %d with %d rows, of %s (%s ago, pickup %d)", a.Table, v.Version, v.Rows, v.At.Local().Format("2006-01-02 15:04 MST"), timetable.Short(time.Since(v.At).Round(time.Minute)), v.Pickup)
	}
	if a.NoOlder != workspace.Forever {
		then := map[bool]string{true: "files wait", false: "a warning says so"}[a.Holds]
		says += fmt.Sprintf("; if it is older than %s, %s", timetable.Short(a.NoOlder), then)
	}
	return says + "."
}

// tables are the contents of the lookups that a run worked with which came with files.
func (s *Service) tables(ctx context.Context, c *route.Compiled, r store.Run) (map[string]string, error) {
	if len(c.Lookups) == 0 {
		return nil, nil
	}
	pinned, err := s.store.Pinned(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	tables := map[string]string{}
	for name, v := range pinned {
		tables[name] = v.Content
	}
	for _, f := range r.Of {
		for _, a := range c.Lookups {
			if f.Part != store.Codes || a.File == "" || !workspace.MatchPath(a.File, f.Folder, f.Name) {
				continue
			}
			if !f.Archived {
				return nil, store.ErrPurged
			}
			in, err := s.original(f.SHA256)
			if err != nil {
				return nil, err
			}
			content, err := io.ReadAll(in)
			in.Close() //nolint: it was only read
			if err != nil {
				return nil, err
			}
			tables[a.Table] = string(content)
		}
	}
	return tables, nil
}
