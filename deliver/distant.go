package deliver

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"ydrion/files"
	"ydrion/remote"
	"ydrion/workspace"
)

// Parcel is a finished output on its way to a server: it lies in the spool, is written there under a temporary name
// beside its own, and renamed.
//
// That it lies there whole is recorded before it is renamed (Named). From then on the absence of the temporary says that
// it has arrived, whatever the reader has done with the file since, as in folders of this machine.
type Parcel struct {
	FS      files.FS
	Mark    string // of the installation
	Run     int64
	Ord     int
	Spooled string
	Size    int64
	SHA256  string
	Folder  string // of the place, below it
	Name    string // may have folders in it
	Bare    bool   // a mail without the output itself
	Said    string // what goes with it where it is sent, as a JSON object of texts; empty: nothing
	Taken   workspace.WhenTaken
	Named   bool // by an earlier try: it lay there whole, and may have been renamed
	// Uploading is as what an object store knows the parts that it has of it, and Begun records that.
	Uploading string
	Begun     func(upload string) error
	// Recount records another name, before that is used.
	Recount func(name string) error
	// Alive is told that a long copy goes on.
	Alive func()
}

// To is where the parcel goes.
func (p *Parcel) To() string { return path.Join(p.Folder, p.Name) }

// temporary is where it lies until then. It says whose it is.
func (p *Parcel) temporary() string {
	return path.Join(path.Dir(path.Join(p.Folder, p.Name)), fmt.Sprintf("%s%s-%d-%d.part", distantPrefix, p.Mark, p.Run, p.Ord))
}

// distantPrefix begins the names of what is ours in folders of servers.
const distantPrefix = files.Hidden + "-"

// resumable is from which size on a file that was written in part is gone on with, and overlap how much of what is
// there is written once more: behind a break the end of a file may have holes.
const (
	resumable = 8 << 20
	overlap   = 4 << 20
)

// mark tells the parcel from all others, wherever they come from.
func (p *Parcel) mark() string { return fmt.Sprintf("%s-%d-%d", p.Mark, p.Run, p.Ord) }

// Upload writes the parcel beside its name. It may be repeated, and goes on with a large file where it was broken off.
// In an object store nothing is written before it gets its name.
func (p *Parcel) Upload(t remote.Tree) error {
	if _, is := t.(remote.Objects); is {
		return nil
	}
	from := int64(0)
	if p.Size >= resumable && t.Resumes() {
		switch there, err := t.Look(p.temporary()); {
		case err == nil && there.Size <= p.Size:
			from = max(0, there.Size-overlap)
		case remote.IsAway(err):
			return err
		}
	}
	if from > 0 && !p.same(t, from) {
		from = 0
	}
	err := p.write(t, from)
	if errors.Is(err, fs.ErrNotExist) && from == 0 {
		// Its folder is not there yet.
		if err = remote.MakeFolders(t, path.Dir(p.temporary())); err == nil {
			err = p.write(t, 0)
		}
	}
	if err != nil {
		return err
	}
	if t.Durable() {
		return nil // the server has said that it keeps it
	}
	there, err := t.Look(p.temporary())
	if err != nil {
		return err
	}
	if there.Size != p.Size {
		return fmt.Errorf("%s: the server has %d bytes of it, not %d; it is written again", p.To(), there.Size, p.Size)
	}
	return nil
}

// write writes the temporary from a byte on.
func (p *Parcel) write(t remote.Tree, from int64) error {
	spooled, err := p.spooled(from)
	if err != nil {
		return err
	}
	return errors.Join(t.Write(p.temporary(), from, &lively{spooled, p.Size - from, p.Alive}), spooled.Close())
}

// spooled opens what is to be delivered, from a byte on.
func (p *Parcel) spooled(from int64) (io.ReadCloser, error) {
	f, err := p.FS.Open(p.Spooled)
	if err == nil && from > 0 {
		_, err = io.CopyN(io.Discard, f, from)
	}
	if err != nil {
		return nil, &errSpool{err}
	}
	return f, nil
}

// errSpool says that an output cannot be read from the spool: that is no fault of its destination.
type errSpool struct{ error }

func (e *errSpool) Error() string { return fmt.Sprintf("reading what is to be delivered: %v", e.error) }
func (e *errSpool) Unwrap() error { return e.error }

// same tells whether what lies on the server before a byte is what lies there of ours: it looks at the last of it.
func (p *Parcel) same(t remote.Tree, before int64) bool {
	n := min(before, 64<<10)
	theirs, err := t.Open(p.temporary(), before-n)
	if err != nil {
		return false
	}
	defer theirs.Close()
	ours, err := p.spooled(before - n)
	if err != nil {
		return false
	}
	defer ours.Close()
	a, b := make([]byte, n), make([]byte, n)
	_, errA := io.ReadFull(ours, a)
	_, errB := io.ReadFull(theirs, b)
	return errA == nil && errB == nil && bytes.Equal(a, b)
}

// lively tells that a copy goes on.
type lively struct {
	io.Reader
	size  int64
	alive func()
}

// Size is how much there is to read.
func (l *lively) Size() int64 { return l.size }

// inParts is a copy of which an object store keeps parts (remote.Parted).
type inParts struct {
	lively
	p *Parcel
}

func (c *inParts) Upload() string { return c.p.Uploading }

func (c *inParts) Begun(upload string) error {
	c.p.Uploading = upload
	return c.p.Begun(upload)
}

func (l *lively) Read(b []byte) (int, error) {
	if l.alive != nil {
		l.alive()
	}
	return l.Reader.Read(b)
}

// Publish gives the parcel its name. It has been uploaded, and that is recorded.
func (p *Parcel) Publish(t remote.Tree) (Outcome, error) {
	outcome := Taken
	there := func(as string) (bool, error) { return remote.There(t, path.Join(p.Folder, as)) }
	err := Number(p.Name, there, func(as string) (taken bool, err error) {
		if as != p.Name {
			p.Name = as
			if err := p.Recount(as); err != nil {
				return false, err
			}
		}
		outcome, err = p.publish(t)
		return outcome == Taken && p.Taken != workspace.HoldTaken, err
	})
	return outcome, err
}

func (p *Parcel) publish(t remote.Tree) (Outcome, error) {
	if o, is := t.(remote.Objects); is {
		return p.put(o)
	}
	to, temporary := p.To(), p.temporary()
	var err error
	switch p.Taken {
	case workspace.ReplaceKeep:
		if there, look := t.Look(temporary); p.Named && look == nil && p.twice(t, there) {
			return Already, t.Remove(temporary) // what would be kept is its own content
		}
		// Another may come to the name in between: that one is kept as well.
		for tries := 0; tries < 3; tries++ {
			if err = p.keepFormer(t, to); err == nil {
				err = t.Move(temporary, to)
			}
			if !errors.Is(err, fs.ErrExist) {
				break
			}
		}
	case workspace.Replace:
		err = t.Replace(temporary, to)
	default:
		err = t.Move(temporary, to)
	}
	switch {
	case err == nil:
		return Published, nil
	case remote.IsAway(err):
		return Taken, err
	}
	there, look := t.Look(temporary)
	switch {
	case errors.Is(look, fs.ErrNotExist):
		return p.gone(t)
	case look != nil:
		return Taken, look
	case errors.Is(err, fs.ErrExist):
		if p.twice(t, there) {
			return Already, t.Remove(temporary)
		}
		return Taken, nil
	}
	return Taken, err
}

// twice tells whether an earlier try has given the parcel its name, and the temporary is there, too: a server may make a second name and then take the
// first away, and it was ended in between.
func (p *Parcel) twice(t remote.Tree, temporary remote.Info) bool {
	final, err := t.Look(p.To())
	return p.Named && err == nil && final.Same(temporary) && p.is(t, p.To(), p.Size)
}

// put makes an object of the parcel, which appears whole or not at all. Its mark is kept with it: by that an earlier try
// is known whose answer was lost. If a reader has taken the object meanwhile, it is made once more.
func (p *Parcel) put(t remote.Objects) (Outcome, error) {
	to := p.To()
	if p.Named {
		if mark, err := t.Marked(to); err == nil && mark == p.mark() {
			return Already, nil
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return Taken, err
		}
		if err := t.Tidy(to, p.mark()); remote.IsAway(err) { // who may write may be forbidden to remove
			return Taken, err
		}
	}
	if p.Taken == workspace.ReplaceKeep {
		return Taken, errors.New("an object store renames nothing: what is there can be replaced, but not kept beside it")
	}
	spooled, err := p.spooled(0)
	if err != nil {
		return Taken, err
	}
	err = errors.Join(t.Put(to, &inParts{lively{spooled, p.Size, p.Alive}, p}, p.Size, p.mark(), p.Taken == workspace.Replace), spooled.Close())
	if errors.Is(err, fs.ErrExist) {
		// A request may be sent twice below us.
		if mark, look := t.Marked(to); look == nil && mark == p.mark() {
			return Already, nil
		}
		return Taken, nil
	}
	if err != nil {
		return Taken, err
	}
	return Published, nil
}

// Send sends the parcel to a place that takes outputs one by one. That this is about to happen is recorded.
func (p *Parcel) Send(x remote.Exchange) (receipt string, outcome Outcome, err error) {
	if p.Named && !x.Repeats() {
		return "", Unknown, nil // by an earlier try, whose answer was lost
	}
	said := map[string]string{}
	if p.Said != "" {
		if err := json.Unmarshal([]byte(p.Said), &said); err != nil {
			return "", Taken, fmt.Errorf("what goes with %s cannot be read: %w", p.Name, err)
		}
	}
	receipt, err = x.Send(remote.Sending{Said: said, Bare: p.Bare, Folder: p.Folder, Name: p.Name, Mark: p.mark(), Size: p.Size, Content: func() (io.ReadCloser, error) { return p.spooled(0) }})
	return receipt, Published, err
}

// gone says what it means that the temporary is not there.
func (p *Parcel) gone(t remote.Tree) (Outcome, error) {
	// It lay there whole when that was recorded, and nobody but us gives it a name.
	if p.is(t, p.To(), p.Size) {
		return Already, nil
	}
	// A reader may have taken it. But a server that loses its power may lose what it has not made durable, and one that
	// stands in for another may never have had it.
	_, err := t.List(path.Dir(p.temporary()))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Unknown, nil
	case err != nil:
		return Taken, err
	case !t.Durable():
		return Unknown, nil
	}
	return Already, nil
}

// is tells whether a file of the server has the parcel's content.
func (p *Parcel) is(t remote.Tree, at string, size int64) bool {
	i, err := t.Look(at)
	if err != nil || i.Size != size {
		return false
	}
	r, err := t.Open(at, 0)
	if err != nil {
		return false
	}
	defer r.Close()
	h := sha256.New()
	_, err = io.Copy(h, r)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == p.SHA256
}

// keepFormer gives a file that is about to be replaced another name, with the run in it.
func (p *Parcel) keepFormer(t remote.Tree, to string) error {
	if _, err := t.Look(p.temporary()); err != nil {
		return err // it was published before: the file there is the new one
	}
	err := Number(Formerly(to, p.Run), func(as string) (bool, error) { return remote.There(t, as) }, func(as string) (taken bool, err error) {
		err = t.Move(to, as)
		if errors.Is(err, fs.ErrExist) {
			return true, nil
		}
		return false, err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil // there is none, or it has been kept by an earlier try
	}
	return err
}
