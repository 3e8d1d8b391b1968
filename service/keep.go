package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"time"

	"ydrion/files"
	"ydrion/route"
	"ydrion/store"
	"ydrion/wire"
	"ydrion/workspace"
)

// housekeeping looks after deadlines, disks and what has been kept long enough,
// until the service stops.
func (s *Service) housekeeping() {
	var disks, purged time.Time
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(expectEvery):
		}
		s.expect(s.life)
		now := time.Now()
		if now.Sub(disks) >= diskEvery {
			disks = now
			s.lookAtDisks()
		}
		if now.Sub(purged) >= purgeEvery {
			purged = now
			if err := s.store.Tidy(s.life); err != nil && s.life.Err() == nil {
				s.Log.Error("removing what has long been over", "error", err)
			}
			if err := s.engine.Archive.Sweep(now.Add(-comingFor)); err != nil {
				s.Log.Error("removing what never came into the archive", "error", err)
			}
			names := slices.Collect(maps.Keys(s.leader.All()))
			removed, err := s.store.RemovedRoutes(s.life)
			if err != nil && s.life.Err() == nil {
				s.Log.Error("looking for removed routes", "error", err)
			}
			for _, r := range removed { // what they left is not kept any longer either
				names = append(names, r.Name)
			}
			for _, name := range names {
				if _, err := s.Purge(s.life, name, false); err != nil && s.life.Err() == nil {
					s.Log.Error("purging what has been kept long enough", "route", name, "error", err)
				}
			}
		}
	}
}

// tend has the database's tables tended each second while pickups end. Where that fails, the database does it in a moment of its own.
func (s *Service) tend() {
	said := false
	for {
		select {
		case <-s.life.Done():
			return
		case <-time.After(time.Second):
		}
		if err := s.store.Tend(s.life); err != nil && s.life.Err() == nil && !said {
			said = true
			s.Log.Warn("the database's tables are not tended, which makes it slower to find files by a part of their names, and may make the first minute slow; the account that the service uses should own them", "error", err)
		}
	}
}

const (
	diskEvery  = 15 * time.Second
	purgeEvery = time.Hour
	// comingFor is how long an original may be on its way into the archive.
	comingFor = 24 * time.Hour
	// A disk is low with less than that free, or that share of it.
	lowBytes = 100 << 20
	lowShare = 0.03
)

// lookAtDisks tells people of file systems that are nearly full.
func (s *Service) lookAtDisks() {
	folders := map[string]bool{s.Data: true}
	for _, l := range s.leader.All() {
		c := l.Compiled()
		if c == nil {
			continue
		}
		for _, f := range places(c) {
			if path, err := s.resolve(f); err == nil {
				folders[path] = true
			}
		}
	}
	seen := map[uint64]bool{}
	for f := range folders {
		info, free, total, err := s.space(f)
		if errors.Is(err, fs.ErrNotExist) || seen[info.Device] {
			continue // it is not there yet, or has been looked at
		}
		if err != nil {
			s.Log.Warn("the space on a disk is not known", "folder", f, "error", err)
			continue
		}
		seen[info.Device] = true
		about := fmt.Sprintf("file system %d", info.Device)
		if free < lowBytes || float64(free) < lowShare*float64(total) {
			s.alert(store.Alert{Kind: "disk low", About: about, Message: fmt.Sprintf("the file system of %s has %d MiB free of %d MiB", f, free>>20, total>>20)}, false)
		} else {
			s.over("disk low", about)
		}
	}
}

// diskWithin is how long a file system may take to say how much space it has.
const diskWithin = 2 * time.Second

// space asks a file system how much space there is. One that hangs is not waited for.
func (s *Service) space(folder string) (info files.Info, free, total int64, err error) {
	type answer struct {
		info        files.Info
		free, total int64
		err         error
	}
	answers := make(chan answer, 1)
	if _, asked := s.asked.LoadOrStore(folder, true); asked {
		return info, 0, 0, errors.New("it has not answered yet")
	}
	go func() {
		defer s.asked.Delete(folder)
		var a answer
		if a.info, a.err = s.FS.Look(folder); a.err == nil {
			a.free, a.total, a.err = s.FS.Space(folder)
		}
		answers <- a
	}()
	select {
	case a := <-answers:
		return a.info, a.free, a.total, a.err
	case <-time.After(diskWithin):
		return info, 0, 0, fmt.Errorf("it does not answer within %s", diskWithin)
	}
}

// places are the folders that a route works in.
func places(c *route.Compiled) []string {
	out := []string{c.Listen.Folder, c.Rejected.Folder}
	for _, d := range c.Destinations() {
		if d.Lookup == "" {
			out = append(out, d.Folder)
		}
	}
	return out
}

// Purge removes what a route need not keep any longer; with dry it only says
// what that is.
func (s *Service) Purge(ctx context.Context, name string, dry bool) (wire.Purged, error) {
	none := wire.Purged{Route: name}
	r, err := s.store.Route(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		var removed []store.Route
		if removed, err = s.store.RemovedRoutes(ctx); err == nil {
			i := slices.IndexFunc(removed, func(r store.Route) bool { return r.Name == name })
			if i < 0 {
				return none, store.ErrNotFound
			}
			r = removed[i]
		}
	}
	if err != nil {
		return none, err
	}
	c, err := s.engine.Compiled(ctx, name, r.Revision)
	if err != nil {
		return none, err
	}
	before := func(keep time.Duration) time.Time {
		if keep == workspace.Forever {
			return time.Time{}
		}
		return time.Now().Add(-keep)
	}
	e := store.Expiry{Route: name, Originals: before(c.Keep.Originals), Rejects: before(c.Keep.Rejects), Records: before(c.Keep.Records)}
	if c.Originals == workspace.Removed {
		e.Originals = time.Now()
	}
	if dry {
		would, err := s.store.WouldPurge(ctx, e)
		return wire.Purged(would), err
	}
	was, err := s.purge(ctx, e)
	return wire.Purged(was), err
}

func (s *Service) purge(ctx context.Context, e store.Expiry) (store.Purged, error) {
	out := store.Purged{Route: e.Route}
	for more := !e.Originals.IsZero(); more && ctx.Err() == nil; {
		var gone []store.Original
		var err error
		if gone, more, err = s.store.ExpiredOriginals(ctx, e); err != nil {
			return out, err
		}
		for _, o := range gone {
			removed, err := s.engine.Archive.Remove(o.SHA256, func() (bool, error) { return s.store.Needed(ctx, o.SHA256) })
			if err != nil {
				return out, err
			}
			if removed {
				out.Originals++
				out.Bytes += o.Size
			}
		}
	}
	for more := !e.Rejects.IsZero(); more && ctx.Err() == nil; {
		n, err := s.store.ExpiredRejects(ctx, e)
		if err != nil {
			return out, err
		}
		out.Rejects += n
		more = n > 0
	}
	for more := !e.Records.IsZero(); more && ctx.Err() == nil; {
		n, err := s.store.ExpiredPickups(ctx, e)
		if err != nil {
			return out, err
		}
		out.Pickups += n
		more = n > 0
	}
	if out.Originals+out.Rejects+out.Pickups > 0 {
		s.Log.Info("purged", "route", e.Route, "originals", out.Originals, "bytes", out.Bytes, "rejected_records", out.Rejects, "pickups", out.Pickups)
	}
	return out, nil
}

// PlaceLegalHold keeps a pickup, a route's pickups or all from being purged.
func (s *Service) PlaceLegalHold(ctx context.Context, h wire.LegalHold) (int64, error) {
	return s.store.PlaceLegalHold(ctx, store.LegalHold(h))
}

// LiftLegalHold ends a legal hold.
func (s *Service) LiftLegalHold(ctx context.Context, id int64) error {
	return s.store.LiftLegalHold(ctx, id)
}

// LegalHolds lists legal holds, newest first.
func (s *Service) LegalHolds(ctx context.Context) ([]wire.LegalHold, error) {
	rows, err := s.store.LegalHolds(ctx)
	return all(rows, legalHoldOf), err
}
