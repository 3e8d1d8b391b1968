package fetch

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"ydrion/files"
	"ydrion/store"
)

// started says which start of the machine it is (boot_id of Linux, random(4)); empty where nobody can tell.
var started = sync.OnceValue(func() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
})

// witness is a file beside a large copy that says in which start of the machine it was begun. As long as that lasts, a copy has all
// that was written into it; after a power failure it may have holes.
func (f *Fetcher) witness(x *store.Fetch) string { return f.temporary(x) + "+start" }

// leaveWitness leaves one. Without one a copy is begun anew by who comes next, so nothing is lost if it fails.
func (f *Fetcher) leaveWitness(x *store.Fetch) {
	f.FS.Remove(f.witness(x)) //nolint: it is of one that was given up
	if w, err := f.FS.Create(f.witness(x), 0o600); err == nil {
		io.WriteString(w, started()) //nolint: see above
		w.Close()                    //nolint: the same
	}
}

// discard removes what was copied of a file.
func (f *Fetcher) discard(x *store.Fetch) error {
	f.FS.Remove(f.witness(x)) //nolint: it is looked for again
	return f.FS.Remove(f.temporary(x))
}

// inherit takes over what a node that is no more has copied of a file, if the machine was not started anew since. That node may
// still write, as it may not know yet that it is no more: what it has written is copied.
func (f *Fetcher) inherit(x *store.Fetch, there []files.Info) error {
	if x.Size < resumable || !toldApart(x) || started() == "" {
		return nil
	}
	at := f.temporary(x)
	var most files.Info
	for _, e := range there {
		of, is := strings.CutPrefix(e.Name, fmt.Sprintf("%s%d-", f.prefix(), x.ID))
		if is && e.Name == filepath.Base(at) {
			return nil // it is ours
		}
		if is && !strings.Contains(of, "+") && e.Size > most.Size && f.attested(e.Name) {
			most = e
		}
	}
	if most.Size < compared {
		return nil
	}
	in, err := f.FS.Open(filepath.Join(f.hidden(), most.Name))
	if err != nil {
		return err
	}
	defer in.Close()
	f.leaveWitness(x)
	to, err := f.FS.Create(at, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, io.LimitReader(in, min(most.Size, x.Size)))
	if closing := to.Close(); err == nil {
		err = closing
	}
	if err != nil {
		f.discard(x) //nolint: it is begun anew
		return err
	}
	f.Log.Info("what was copied of a file is gone on with", "route", f.Route, "place", f.Place, "file", x.Path, "bytes", min(most.Size, x.Size))
	return nil
}

// attested tells whether a copy was begun since the machine was started.
func (f *Fetcher) attested(name string) bool {
	w, err := f.FS.Open(filepath.Join(f.hidden(), name+"+start"))
	if err != nil {
		return false
	}
	defer w.Close()
	said, err := io.ReadAll(io.LimitReader(w, 100))
	return err == nil && bytes.Equal(said, []byte(started()))
}
