package fetch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"runtime/debug"
	"time"

	"ydrion/deliver"
	"ydrion/files"
	"ydrion/listen"
	"ydrion/remote"
	"ydrion/store"
	"ydrion/workspace"
)

// fetch brings files that are ready.
func (f *Fetcher) fetch(ctx context.Context, ready []*seen) error {
	list := make([]store.Fetch, len(ready))
	stays := f.Settings.Originals == workspace.Left || f.isMails(f.Place) && f.Settings.TakenTo == ""
	for i, s := range ready {
		list[i] = store.Fetch{Route: f.Route, Place: f.Place, Path: s.path, Size: s.Size, Tag: s.Tag, Stays: stays, State: "claimed"}
		if !s.Modified.IsZero() {
			list[i].Modified = &s.Modified
		}
	}
	ids, err := f.Records.BeginFetches(ctx, f.Node, list)
	if err != nil {
		return err
	}
	begun := list[:0]
	f.mu.Lock()
	for i, id := range ids {
		if list[i].ID = id; id != 0 {
			f.busy[list[i].Path] = true
			begun = append(begun, list[i])
		} else {
			ready[i].failed, ready[i].rest = "it is being fetched already", time.Now().Add(5*time.Second)
		}
	}
	f.mu.Unlock()
	return f.goOn(ctx, begun, false)
}

// goOn takes files of one place from where they stand to their end. Again says that this was begun before.
func (f *Fetcher) goOn(ctx context.Context, list []store.Fetch, again bool) error {
	// What is whole is put into the inbox; what is there is taken leave of.
	var claimed, whole, placed []*store.Fetch
	for i := range list {
		switch list[i].State {
		case "claimed":
			claimed = append(claimed, &list[i])
		case "fetched":
			whole = append(whole, &list[i])
		case "placed":
			placed = append(placed, &list[i])
		}
	}
	copied, err := f.copyAll(ctx, claimed, again)
	if err != nil {
		return err
	}
	if len(copied) > 0 {
		if err := f.syncAll(copied); err != nil {
			return err
		}
		fetched := make([]store.Fetch, len(copied))
		for i, x := range copied {
			fetched[i] = *x
		}
		if err := f.Records.Fetched(ctx, f.Node, fetched); err != nil {
			return err
		}
		whole = append(whole, copied...)
	}
	there, later, err := f.placeAll(whole)
	if err != nil {
		return err
	}
	for _, x := range later {
		x.State = "fetched"
		f.later = append(f.later, *x)
	}
	return f.leaveAll(ctx, append(placed, there...))
}

// copyAll copies files of the server, on as many connections as there may be. What cannot be is ended, with its reason.
func (f *Fetcher) copyAll(ctx context.Context, list []*store.Fetch, again bool) (copied []*store.Fetch, err error) {
	if len(list) == 0 {
		return nil, nil
	}
	errs, asked := make([]error, len(list)), make([]bool, len(list))
	err = f.spread(ctx, list[0].Place, f.connections(list[0].Place), len(list), func(t remote.Tree, i int) error {
		errs[i], asked[i] = f.copy(t, list[i], again), true
		if remote.IsAway(errs[i]) || isOurs(errs[i]) {
			return errs[i]
		}
		return nil
	})
	var ended []store.Fetch
	for i, x := range list {
		switch {
		case !asked[i] || remote.IsAway(errs[i]) || isOurs(errs[i]):
		case errs[i] == nil:
			copied = append(copied, x)
		default:
			x := *x
			x.State, x.Reason = "withdrawn", errs[i].Error()
			if errors.Is(errs[i], errSame) {
				x.State = "known"
			}
			var nothing *errNothing
			if errors.As(errs[i], &nothing) {
				x.State, x.SHA256 = "known", f.wanted()
			}
			ended = append(ended, x)
		}
	}
	if err != nil {
		return nil, err // what was begun is gone on with
	}
	if len(ended) > 0 {
		if err := f.Records.EndFetches(ctx, f.Node, ended); err != nil {
			return nil, err
		}
		f.ended(ended)
	}
	return copied, nil
}

// connections is how many there may be to a place.
func (f *Fetcher) connections(place string) int {
	report, _ := f.Places.Report(place)
	return max(report.Place.Connections, 1)
}

// spread does something for each of n files of a place, on up to so many connections. It ends with the first error; a defect of this program
// is one, too.
func (f *Fetcher) spread(ctx context.Context, place string, connections, n int, do func(t remote.Tree, i int) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			f.Log.Error("a defect of this program", "route", f.Route, "panic", p, "stack", string(debug.Stack()))
			err = fmt.Errorf("a defect of this program: %v", p)
		}
	}()
	return f.Places.Spread(ctx, place, connections, n, do)
}

// errOurs is what is wrong with this machine or this node, not with the file: it is gone on with later.
type errOurs struct{ error }

func (e *errOurs) Unwrap() error { return e.error }

func isOurs(err error) bool {
	var ours *errOurs
	return errors.As(err, &ours) || errors.Is(err, ErrGiven)
}

// remembering remembers that writing here has failed.
type remembering struct {
	io.Writer
	err error
}

func (r *remembering) Write(b []byte) (int, error) {
	n, err := r.Writer.Write(b)
	if err != nil {
		r.err = err
	}
	return n, err
}

// ended lets files be found anew whose fetching has ended.
func (f *Fetcher) ended(list []store.Fetch) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range list {
		delete(f.busy, x.Path)
		delete(f.demand, x.Path)
		switch s := f.seen[x.Path]; {
		case x.State == "known":
			f.known[x.Path], f.sums[x.SHA256] = x, true
			delete(f.seen, x.Path)
		case x.State == "done":
			delete(f.seen, x.Path)
			delete(f.vouched, x.Path)
		case s != nil:
			s.reason, s.failed, s.rest = x.Reason, x.Reason, time.Now().Add(min(restFor<<min(s.tries, 6), time.Hour))
			s.tries++
		}
	}
}

// restFor is how long a file is left alone that could not be fetched; longer each time, up to an hour.
const restFor = time.Minute

// ErrGiven says that a node must not go on: it may have been given up.
var ErrGiven = errors.New("this node may have been given up by the others")

var errSame = errors.New("its content is the same as before")

// copy takes a file of the server and copies it beside the inbox.
func (f *Fetcher) copy(t remote.Tree, x *store.Fetch, again bool) error {
	if !f.Sure() {
		return ErrGiven
	}
	x.By = f.Node
	from := x.Path
	_, objects := t.(remote.Objects) // they cannot be renamed: what is copied is told by its tag
	_, mails := t.(remote.Mails)     // they never change
	held := !x.Stays && !objects && !mails
	if held {
		from = f.taken(x)
		if err := f.hold(t, x, again); err != nil {
			return err
		}
		if err := f.unmark(t, x, again); err != nil { // at once: who sees that his file is gone may send another with its marker
			return err
		}
	}
	noticed := remote.Info{Size: x.Size, Tag: x.Tag}
	if x.Modified != nil {
		noticed.Modified = *x.Modified
	}
	for try := 1; ; try++ {
		// At first it is to be what was noticed.
		before, err := noticed, error(nil)
		if try > 1 {
			before, err = t.Look(from)
		}
		var of *remote.Info
		if err == nil {
			of, err = f.download(t, x, from, try > 1 || mails)
		}
		if errors.Is(err, fs.ErrNotExist) && !isOurs(err) {
			return errors.New("it went away while it was fetched")
		}
		if err != nil || mails { // which are whole when they are read to their end
			return f.take(x, err)
		}
		var after remote.Info
		if of != nil { // it was read as it was at one moment
			after = *of
		} else {
			after, err = t.Look(from)
		}
		switch {
		case remote.IsAway(err):
			return err
		case err != nil && try == 3:
			return err
		case err == nil && same(before, after) && after.Size == x.Size:
			// What was renamed may have another time and tag by that; another size it has from somebody who still writes.
			if held && after.Size != noticed.Size || !held && !same(noticed, after) {
				return f.letBe(t, x, held, errors.New("it has changed since it was noticed"))
			}
			if reason := f.incomplete(x); reason != "" {
				return f.letBe(t, x, held, errors.New(reason))
			}
			f.mu.Lock()
			k, known := f.known[x.Path]
			f.mu.Unlock()
			if x.Stays && known && k.SHA256 == x.SHA256 {
				f.discard(x) //nolint: it is looked for again
				return errSame
			}
			return nil
		case try == 3:
			return f.letBe(t, x, held, errors.New("it changes while it is fetched"))
		}
		time.Sleep(time.Second)
	}
}

// take makes a mail's files of its copy, if it could be copied.
func (f *Fetcher) take(x *store.Fetch, err error) error {
	if err != nil {
		return err
	}
	if x.Stays && f.knows(x.SHA256) { // its mailbox has given it another number
		f.removePieces(x)
		return errSame
	}
	if err = f.unpack(x); err != nil && !isOurs(err) {
		f.removePieces(x)
	}
	return err
}

// knows tells whether something of that content is known.
func (f *Fetcher) knows(sum string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.sums[sum]
}

// hold renames a file on the server, so that nobody fetches or replaces it any more.
func (f *Fetcher) hold(t remote.Tree, x *store.Fetch, again bool) error {
	held := f.taken(x)
	if again {
		if _, err := t.Look(held); !errors.Is(err, fs.ErrNotExist) {
			return err // it was renamed before, or nobody can tell
		}
		// What has its name now may be another file.
		switch i, err := t.Look(x.Path); {
		case errors.Is(err, fs.ErrNotExist):
			return errors.New("it went away before it was taken")
		case err != nil:
			return err
		case !x.Is(i.Size, i.Modified, i.Tag):
			return errors.New("it has changed since it was noticed")
		}
	}
	err := t.Move(x.Path, held)
	switch {
	case err == nil || remote.IsAway(err):
		return err
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("it went away before it was taken")
	}
	return fmt.Errorf("it cannot be renamed there, by which it is taken: %w; ask for the right to rename and remove files, or say `originals: left`", err)
}

// letBe gives a file on the server its name again.
func (f *Fetcher) letBe(t remote.Tree, x *store.Fetch, held bool, reason error) error {
	f.discard(x) //nolint: it is looked for again
	if !held {
		return reason
	}
	err := t.Move(f.taken(x), x.Path)
	if remote.IsAway(err) {
		return err
	}
	if f.Marker != nil {
		f.mu.Lock()
		f.vouched[x.Path] = time.Now()
		f.mu.Unlock()
	}
	if err != nil {
		return errors.Join(reason, err) // it is put back when it is found
	}
	return reason
}

// From which size on a copy is gone on with that was broken off, and how much of its end is compared with what is there.
const (
	resumable = 8 << 20
	compared  = 64 << 10
)

// download copies a file of the server. Of is what it was like, if the server tells; one that was renamed is what was noticed if it has not
// changed meanwhile, but for its size. Unless it is to be copied afresh, a large one goes on where
// its connection broke off.
func (f *Fetcher) download(t remote.Tree, x *store.Fetch, from string, afresh bool) (of *remote.Info, err error) {
	at := f.temporary(x)
	var in io.ReadCloser
	var begun int64
	if !afresh && x.Size >= resumable && toldApart(x) {
		if in, begun, err = f.goOnWith(t, x, from); err != nil {
			return nil, err
		}
	}
	var to files.File
	if in != nil {
		to, err = f.FS.Append(at)
	} else {
		if err := f.discard(x); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, &errOurs{err}
		}
		if !afresh && x.Size >= resumable {
			f.leaveWitness(x)
		}
		to, err = f.FS.Create(at, 0o600)
	}
	if err != nil {
		if in != nil {
			in.Close() //nolint: it was not read to its end
		}
		return nil, &errOurs{err}
	}
	if in == nil {
		if in, err = t.Open(from, 0); err != nil {
			return nil, errors.Join(err, to.Close())
		}
		if s, is := in.(remote.Snapshot); is {
			was := s.Of()
			of = &was
		}
	}
	here := &remembering{Writer: to}
	var n int64
	if x.Stays { // it is known by its content from then on
		sum := sha256.New()
		if err = f.copied(at, 0, begun, sum); err == nil {
			n, err = io.Copy(io.MultiWriter(here, sum), in)
		}
		x.SHA256 = hex.EncodeToString(sum.Sum(nil))
	} else {
		n, err = io.Copy(here, in)
	}
	n += begun
	if s, is := in.(remote.Steady); is && err == nil && !x.Stays && !afresh && s.Still() {
		of = &remote.Info{Size: n, Tag: x.Tag}
		if x.Modified != nil {
			of.Modified = *x.Modified
		}
	}
	if closing := to.Close(); here.err == nil {
		here.err = closing
	}
	if here.err != nil {
		return nil, &errOurs{fmt.Errorf("what is fetched cannot be written here: %w", errors.Join(here.err, in.Close()))}
	}
	if err := errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	x.Size = n
	return of, nil
}

// toldApart tells whether a file that took the place of this one while its connection was away would be told from it: one that is renamed nobody
// replaces; of one that stays, what a server says may be as coarse as a minute.
func toldApart(x *store.Fetch) bool {
	return !x.Stays || x.Tag != "" || x.Modified != nil && x.Modified.Second() != 0
}

// goOnWith opens a file of the server behind what was copied of it before its connection broke off; nil if nothing was, or something else.
func (f *Fetcher) goOnWith(t remote.Tree, x *store.Fetch, from string) (in io.ReadCloser, begun int64, err error) {
	there, err := f.FS.Look(f.temporary(x))
	if err != nil || there.Size < compared || there.Size > x.Size {
		return nil, 0, nil
	}
	var ours, theirs bytes.Buffer
	if err := f.copied(f.temporary(x), there.Size-compared, compared, &ours); err != nil {
		return nil, 0, err
	}
	if in, err = t.Open(from, there.Size-compared); err == nil {
		_, err = io.CopyN(&theirs, in, compared)
	}
	if err == nil && bytes.Equal(ours.Bytes(), theirs.Bytes()) {
		return in, there.Size, nil
	}
	if in != nil {
		in.Close() //nolint: it is opened anew
	}
	if remote.IsAway(err) {
		return nil, 0, err
	}
	return nil, 0, nil // it is copied from its beginning, where the server says what is wrong
}

// copied gives some bytes of what has been copied.
func (f *Fetcher) copied(at string, from, n int64, to io.Writer) error {
	if n == 0 {
		return nil
	}
	in, err := f.FS.Open(at)
	if err != nil {
		return &errOurs{err}
	}
	defer in.Close()
	if _, err = io.CopyN(io.Discard, in, from); err == nil {
		_, err = io.CopyN(to, in, n)
	}
	if err != nil {
		return &errOurs{err}
	}
	return nil
}

// same tells whether nothing is known to have happened to a file in between. The database keeps microseconds.
func same(a, b remote.Info) bool {
	a.Modified, b.Modified = a.Modified.Truncate(time.Microsecond), b.Modified.Truncate(time.Microsecond)
	return a.Same(b)
}

// incomplete says why a file that was copied is not whole, by its last line; empty if it is.
func (f *Fetcher) incomplete(x *store.Fetch) string {
	if f.Settings.EndsWith == nil {
		return ""
	}
	in, err := f.FS.Open(f.temporary(x))
	if err != nil {
		return err.Error()
	}
	defer in.Close()
	if skip := x.Size - listen.LastSize; skip > 0 {
		io.CopyN(io.Discard, in, skip) //nolint: the rest says so
	}
	b, err := io.ReadAll(in)
	if err != nil {
		return err.Error()
	}
	if !f.Settings.EndsWith.MatchString(listen.LastLine(b)) {
		return fmt.Sprintf("its last line does not match %s: it may not be complete", f.Settings.EndsWith)
	}
	return ""
}

// syncAll makes copies durable.
func (f *Fetcher) syncAll(list []*store.Fetch) error {
	if len(list) > 4 {
		return f.FS.SyncAll(f.hidden())
	}
	for _, x := range list {
		file, err := f.FS.Open(f.temporary(x))
		if err != nil {
			return err
		}
		if err := errors.Join(file.Sync(), file.Close()); err != nil {
			return err
		}
	}
	return f.FS.SyncFolder(f.hidden())
}

// placeAll renames copies into the inbox, in their order. With one whose name is taken there it ends: that and those
// behind it come later.
func (f *Fetcher) placeAll(list []*store.Fetch) (placed, later []*store.Fetch, err error) {
	folders := map[string]bool{}
	mails := len(list) > 0 && f.isMails(list[0].Place)
	if mails {
		f.sweepNotes()
	}
	for i, x := range list {
		to, err := f.to(x), error(nil)
		if mails {
			err = f.placePieces(x)
		} else {
			err = f.place(x, to)
		}
		if errors.Is(err, fs.ErrExist) {
			later = list[i:]
			f.blocked(x)
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("putting %s into the inbox: %w", path.Base(x.Path), err)
		}
		placed = append(placed, x)
		for folder := filepath.Dir(to); ; folder = filepath.Dir(folder) {
			if folders[folder] = true; len(folder) <= len(f.Inbox) {
				break
			}
		}
	}
	if len(placed) > 0 && !mails {
		folders[f.hidden()] = true
	}
	for folder := range folders {
		if err := f.FS.SyncFolder(folder); err != nil && !files.Vanished(err) {
			return nil, nil, err
		}
	}
	return placed, later, nil
}

// place renames one copy into the inbox. It may be repeated.
func (f *Fetcher) place(x *store.Fetch, to string) error {
	if !f.Sure() {
		return ErrGiven
	}
	at := f.temporary(x)
	if x.Size >= resumable {
		f.FS.Remove(f.witness(x)) //nolint: it is looked for again
	}
	err := f.FS.Move(at, to)
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, look := f.FS.Look(at); errors.Is(look, fs.ErrNotExist) {
		return nil // it was renamed before: nobody but us does
	}
	if err = f.FS.MakeFolder(filepath.Dir(to), 0o755); err == nil {
		err = f.FS.Move(at, to)
	}
	return err
}

// blocked says of a file that it waits for another of its name.
func (f *Fetcher) blocked(x *store.Fetch) {
	f.Log.Info("a file that was fetched waits for one of its name, which has not been taken yet", "route", f.Route, "place", f.Place, "file", path.Base(x.Path))
}

// leaveAll takes leave of files on the server that are in the inbox now: they are removed there, or moved, or known.
func (f *Fetcher) leaveAll(ctx context.Context, list []*store.Fetch) error {
	if len(list) == 0 {
		return nil
	}
	ended := make([]store.Fetch, len(list))
	mails := f.isMails(list[0].Place)
	far := f.Marker != nil || mails
	for i, x := range list {
		ended[i] = *x
		if ended[i].State = "done"; x.Stays {
			ended[i].State = "known"
		}
		far = far || !x.Stays
	}
	if far {
		connections := f.connections(list[0].Place)
		if f.Settings.TakenTo != "" && f.Settings.Subfolders {
			connections = 1 // two of one name go into one folder, and not every server looks whether there is one
		}
		err := f.spread(ctx, list[0].Place, connections, len(list), func(t remote.Tree, i int) error {
			if !f.Sure() {
				return ErrGiven
			}
			return f.leave(t, list[i])
		})
		if err != nil {
			return err
		}
	}
	if err := f.Records.EndFetches(ctx, f.Node, ended); err != nil {
		return err
	}
	f.ended(ended)
	return nil
}

// leave takes leave of one file on the server. It may be repeated.
func (f *Fetcher) leave(t remote.Tree, x *store.Fetch) error {
	if m, is := t.(remote.Mails); is {
		return f.leaveMail(m, x)
	}
	if x.Stays {
		return nil
	}
	held := f.taken(x)
	o, objects := t.(remote.Objects)
	var err error
	switch {
	case objects:
		err = f.leaveObject(o, x)
	case f.Settings.TakenTo == "":
		err = t.Remove(held)
	default:
		folder := f.takenTo()
		there := func(as string) (bool, error) { return remote.There(t, path.Join(folder, as)) }
		err = deliver.Number(path.Base(x.Path), there, func(as string) (taken bool, err error) {
			to := path.Join(folder, as)
			if err = t.Move(held, to); err != nil && !remote.IsAway(err) && !errors.Is(err, fs.ErrExist) {
				if _, look := t.Look(held); look == nil && remote.MakeFolders(t, folder) == nil {
					err = t.Move(held, to)
				}
			}
			if errors.Is(err, fs.ErrExist) {
				return true, nil
			}
			return false, err
		})
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("taking leave of a file that was fetched: %w", err)
	}
	return nil
}

// unmark removes the marker of a file that was taken. Where that comes late, it may be that of a newer file of the same name: then it
// is not older than that.
func (f *Fetcher) unmark(t remote.Tree, x *store.Fetch, late bool) error {
	if f.Marker == nil || x.Place != f.Place {
		return nil
	}
	marker := path.Join(path.Dir(x.Path), f.Marker(path.Base(x.Path), f.folderOf(x.Path)))
	if late {
		newer, err := t.Look(x.Path)
		if mark, also := t.Look(marker); err == nil && also == nil && !mark.Modified.Before(newer.Modified) {
			return nil
		}
	}
	switch err := t.Remove(marker); {
	case remote.IsAway(err):
		return err
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		f.Log.Warn("a marker cannot be removed", "route", f.Route, "place", f.Place, "marker", marker, "error", err)
	}
	return nil
}

// leaveObject removes an object that was fetched, if it is still the one. Between asking and removing it may be replaced:
// an object store has no way to tell.
func (f *Fetcher) leaveObject(t remote.Objects, x *store.Fetch) error {
	i, err := t.Look(x.Path)
	if err != nil {
		return err
	}
	if !x.Is(i.Size, i.Modified, i.Tag) {
		return nil // another one, which is fetched, too
	}
	if f.Settings.TakenTo != "" {
		return errors.New("an object store renames nothing: files that were taken cannot be moved; leave `taken to` out")
	}
	if err := f.unmark(t, x, false); err != nil {
		return err
	}
	return t.Discard(x.Path)
}
