package service

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"ydrion/store"
)

// FindRequest says what is looked for in the records of pickups.
type FindRequest struct {
	Value  string // a text that the record has, as it came
	Route  string
	Since  time.Time
	Before int64 // only pickups with a smaller number
	From   int64 // of the first of those only records from this one on; 0: all
	Limit  int   // of records
}

// FoundRecord is a record that has what was looked for.
type FoundRecord struct {
	Pickup   int64    `json:"pickup"`
	Run      int64    `json:"run"`
	Route    string   `json:"route"`
	Name     string   `json:"name" doc:"of the file that it is in"`
	Record   int64    `json:"record" doc:"of the run; 0 if the run went on without it"`
	Line     int64    `json:"line"`
	Outcome  string   `json:"outcome" enum:"good,rejected,filtered"`
	Raw      string   `json:"raw" doc:"the record as it stands in the file, decoded, at most 64 KiB of it"`
	WentInto []string `json:"went_into" doc:"the outputs that it went into: where they went, and their names"`
}

// FindAnswer is what was found, newest pickups first.
type FindAnswer struct {
	Items  []FoundRecord `json:"items"`
	Looked int           `json:"looked" doc:"how many pickups were looked through"`
	Next   int64         `json:"next" doc:"go on with the pickups before this one; 0: there are no more"`
	From   int64         `json:"next_from" doc:"and in the first of them from this record on; 0: from its first"`
	Missed []string      `json:"missed" doc:"pickups that could not be looked into, and why"`
}

// findFor is how long one request looks. Who asks goes on from there.
const findFor = 10 * time.Second

// Find looks for records that have a text, in originals that are kept: newest pickups first, until there are enough or
// some time has passed.
func (s *Service) Find(ctx context.Context, q FindRequest) (FindAnswer, error) {
	out, until := FindAnswer{Items: []FoundRecord{}, Missed: []string{}}, time.Now().Add(findFor)
	f := store.Filter{Route: q.Route, Since: q.Since, States: []string{"delivered", "rejected"}, Before: q.Before, Limit: 100}
	for {
		page, err := s.store.Pickups(ctx, f)
		if err != nil {
			return out, err
		}
		for _, p := range page {
			if len(out.Items) >= q.Limit || time.Now().After(until) {
				out.Next = f.Before
				return out, nil
			}
			from := max(q.From, 1)
			f.Before, q.From = p.ID, 0
			if p.Run == 0 || !p.Archived {
				continue
			}
			switch speaks, err := s.speaks(ctx, p); {
			case err != nil:
				return out, err
			case !speaks:
				continue
			}
			out.Looked++
			more, err := s.findIn(ctx, p, q, from, &out)
			if ctx.Err() != nil {
				return out, err
			} else if err != nil { // the others are looked into all the same
				s.Log.Error("records could not be looked into", "pickup", p.ID, "run", p.Run, "error", err)
				out.Missed = append(out.Missed, fmt.Sprintf("%s (pickup %d): %v", p.Name, p.ID, err))
			}
			if more > 0 {
				out.Next, out.From = p.ID+1, more
				return out, nil
			}
		}
		if len(page) < f.Limit {
			return out, nil
		}
	}
}

// speaks tells whether the records of a pickup's run are looked into with it: those of several files with the last of them,
// so that they are told once whatever was asked before.
func (s *Service) speaks(ctx context.Context, p store.Pickup) (bool, error) {
	if p.Whole || p.Files < 2 {
		return true, nil
	}
	of, err := s.store.FilesOf(ctx, p.Run)
	for _, f := range of {
		if f.Pickup > p.ID && f.Part == store.ToRead && !f.Whole && f.Archived {
			return false, err
		}
	}
	return true, err
}

// findIn looks into the records of a pickup's latest run or, if the file was rejected as one piece, into that file. If there
// are more than are wanted, it tells from which record on.
func (s *Service) findIn(ctx context.Context, p store.Pickup, q FindRequest, from int64, out *FindAnswer) (more int64, err error) {
	only := int64(0)
	if p.Whole {
		only = p.ID
	}
	trial, err := s.records(ctx, p.Run, only, TrialRequest{From: from, Limit: q.Limit - len(out.Items), Contains: q.Value})
	switch {
	case errors.Is(err, store.ErrPurged), errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrNotSo):
		return 0, nil // it is not kept any more
	case err != nil:
		return 0, err
	}
	if trial.More {
		more = trial.Records[len(trial.Records)-1].Record + 1
	}
	for _, r := range trial.Records {
		found := FoundRecord{Pickup: p.ID, Run: p.Run, Route: p.Route, Name: p.Name, Record: r.Record, Line: r.Line, Outcome: r.Outcome, Raw: r.Raw, WentInto: []string{}}
		if r.File != "" {
			found.Name = r.File
		}
		if p.Whole { // whatever it would have become
			if found.Outcome = "rejected"; p.Files > 1 {
				found.Record = 0 // of the file alone
			}
			out.Items = append(out.Items, found)
			continue
		}
		for _, b := range r.Became {
			for _, file := range b.Files {
				found.WentInto = append(found.WentInto, path.Join(file.Folder, file.Name))
			}
		}
		out.Items = append(out.Items, found)
	}
	return more, nil
}
