package run

import (
	"context"
	"time"

	"ydrion/store"
)

// Records is what conductors ask of the database. The real one is a *store.Store,
// where each of these is described; tests have one in memory.
type Records interface {
	RevisionFiles(ctx context.Context, route, hash string) (map[string][]byte, error)

	// Taking files.
	Claim(ctx context.Context, node int64, route string, claims []store.Claim) ([]int64, error)
	Begin(ctx context.Context, node int64, route, revision string, now time.Time, claims []store.Claim) ([]int64, []store.Begun, error)
	Withdrawn(ctx context.Context, node, pickup int64, reason string) error
	Taken(ctx context.Context, node int64, route string, taken []store.Take) ([]store.Begun, error)
	Holders(ctx context.Context, pickups []int64) (map[int64]store.Holder, error)
	LeftFile(ctx context.Context, route, path string) (store.LeftFile, error)
	Leave(ctx context.Context, route string, files []store.LeftFile) error
	Forget(ctx context.Context, route, path, sha256 string) error
	Collections(ctx context.Context, node int64, route string, keys []string) (map[string]store.Collection, error)
	Uncollect(ctx context.Context, node int64, route string, but []string) error
	Due(ctx context.Context, node int64, route string, due time.Time) (bool, error)

	// Working on them.
	Unfinished(ctx context.Context, route string, after int64, limit int) ([]store.Pending, error)
	Members(ctx context.Context, runs []int64) (map[int64][]store.Member, error)
	Held(ctx context.Context, node, pickup int64, state, reason string, next time.Time) error
	Numbers(ctx context.Context, node int64, route string, n int) (int64, error)
	Sequences(ctx context.Context, run int64) ([]store.Block, error)
	Pin(ctx context.Context, run int64, names []string) (map[string]store.Version, error)
	Keep(ctx context.Context, run int64, deliveries []store.Delivery, rejects []store.Reject, first bool) error
	Drop(ctx context.Context, run int64) error
	Owners(ctx context.Context, runs []int64) (map[int64]store.RunOwner, error)
	Mine(ctx context.Context, node int64, pickups []int64) (map[int64]bool, error)

	// Committing and publishing.
	Commit(ctx context.Context, node int64, commits []store.Commit) error
	Abandon(ctx context.Context, node int64, runs []int64) (map[int64]store.Abandoned, error)
	FilesOf(ctx context.Context, run int64) ([]store.OfRun, error)
	Run(ctx context.Context, run int64) (store.Run, error)
	Open(ctx context.Context, run int64, after, limit int) ([]store.Delivery, error)
	Rename(ctx context.Context, node int64, of store.RunOf, ord int, name string) error
	Staged(ctx context.Context, node int64, of store.RunOf, ord int, temporary string, device, inode uint64) error
	Part(ctx context.Context, run int64, ords []int) error
	Uncertain(ctx context.Context, run int64, ords []int, reason string) error
	UncertainOf(ctx context.Context, run int64) ([]store.Delivery, error)
	Certain(ctx context.Context, node int64, of store.RunOf) error
	Published(ctx context.Context, node int64, ended []store.RunOf) (map[int64]string, error)

	// Bringing outputs to servers.
	OpenAt(ctx context.Context, run int64, place string, after, limit int) ([]store.Delivery, error)
	Naming(ctx context.Context, node int64, of []store.DeliveryOf) error
	Unnamed(ctx context.Context, node int64, of store.DeliveryOf) error
	Uploading(ctx context.Context, node int64, of store.DeliveryOf, upload string) error
	Arrived(ctx context.Context, of []store.ArrivedAt) error
	Later(ctx context.Context, route string, of []store.DeliveryOf) ([]store.Later, error)
	Overtaken(ctx context.Context, of []store.OvertakenAt) error
	NotArrived(ctx context.Context, of []store.RefusedAt) error
	Delayed(ctx context.Context, node int64, pickups []int64, reason string) error

	// Originals that are not kept.
	Dropped(ctx context.Context, pickup int64) (bool, error)
	Needed(ctx context.Context, sha256 string) (bool, error)
}

var _ Records = (*store.Store)(nil)
