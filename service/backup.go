package service

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"time"

	"ydrion/archive"
	"ydrion/files"
	"ydrion/managed"
	"ydrion/store"
)

// A backup is a tar file (POSIX.1, ustar and pax): the records as they stood at one
// moment, table by table in pieces, then the originals that they need, named by their
// SHA-256, and at the end a manifest that says what there has to be. One without its
// manifest is not whole.

const (
	recordsFolder   = "records"
	originalsFolder = "originals"
	manifestName    = "manifest.json"
	// piece is how much of a table is one member: a member's size stands before it.
	piece = 4 << 20
)

// Manifest says what a backup holds.
type Manifest struct {
	Format    string            `json:"format"`
	Snapshot  store.Snapshot    `json:"records"`
	Hashes    map[string]string `json:"hashes"` // SHA-256 of each table's rows
	Originals int               `json:"originals"`
	Bytes     int64             `json:"bytes"` // of the originals
	// Missing are originals that pickups need and that were not in the archive: they
	// were purged in this very moment, or lost before.
	Missing []string `json:"missing"`
}

// backupFormat names the form of backups.
const backupFormat = "ydrion backup 1"

// Backup writes a backup of the records and the originals that they need, while
// everything goes on.
func (s *Service) Backup(ctx context.Context, w io.Writer) (Manifest, error) {
	out := Manifest{Format: backupFormat, Hashes: map[string]string{}, Missing: []string{}}
	t := tar.NewWriter(w)
	var table *tableWriter
	finish := func() error {
		if table == nil {
			return nil
		}
		err := table.flush()
		out.Hashes[table.name] = hex.EncodeToString(table.sum.Sum(nil))
		return err
	}
	var failed error
	snapshot, err := s.store.Backup(ctx, func(next store.Table) io.Writer {
		failed = errors.Join(failed, finish())
		table = &tableWriter{tar: t, name: next.Name, sum: sha256.New()}
		return table
	})
	if err = errors.Join(err, failed, finish()); err != nil {
		return out, err
	}
	out.Snapshot = snapshot
	for _, packed := range snapshot.Originals {
		sum := hex.EncodeToString(packed[:])
		n, err := s.backupOriginal(ctx, t, sum)
		if errors.Is(err, fs.ErrNotExist) {
			out.Missing = append(out.Missing, sum)
			continue
		}
		if err != nil {
			return out, err
		}
		out.Originals++
		out.Bytes += n
	}
	b, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return out, err
	}
	if err := member(t, manifestName, b); err != nil {
		return out, err
	}
	return out, t.Close()
}

func member(t *tar.Writer, name string, content []byte) error {
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(content)), ModTime: time.Now(), Typeflag: tar.TypeReg}); err != nil {
		return err
	}
	_, err := t.Write(content)
	return err
}

// tableWriter writes the rows of a table as members of a tar file.
type tableWriter struct {
	tar    *tar.Writer
	name   string
	sum    hash.Hash
	buffer []byte
	pieces int
}

func (w *tableWriter) Write(b []byte) (int, error) {
	w.sum.Write(b)
	w.buffer = append(w.buffer, b...)
	if len(w.buffer) >= piece {
		return len(b), w.flush()
	}
	return len(b), nil
}

func (w *tableWriter) flush() error {
	if len(w.buffer) == 0 {
		return nil
	}
	w.pieces++
	err := member(w.tar, fmt.Sprintf("%s/%s/%06d", recordsFolder, w.name, w.pieces), w.buffer)
	w.buffer = w.buffer[:0]
	return err
}

// onItsWay is how long an original may take from being hashed to being archived.
const onItsWay = 5 * time.Second

// backupOriginal writes one original; fs.ErrNotExist if it is not in the archive. One
// that is being taken in this moment is on its way there.
func (s *Service) backupOriginal(ctx context.Context, t *tar.Writer, sum string) (int64, error) {
	f, err := s.engine.Archive.Open(sum)
	for began := time.Now(); errors.Is(err, fs.ErrNotExist) && time.Since(began) < onItsWay; f, err = s.engine.Archive.Open(sum) {
		if working, ask := s.store.IsTaken(ctx, sum); ask != nil || !working {
			return 0, errors.Join(err, ask)
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return 0, err
	}
	if err := t.WriteHeader(&tar.Header{Name: path.Join(originalsFolder, sum), Mode: 0o600, Size: info.Size, ModTime: info.Modified, Typeflag: tar.TypeReg}); err != nil {
		return 0, err
	}
	return io.Copy(t, f)
}

// ErrBackup says that a file is not a whole backup.
var ErrBackup = errors.New("this is not a whole backup")

// CheckBackup reads a backup through and tells what it holds: every hash is compared.
func CheckBackup(f io.ReadSeeker) (out Manifest, err error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	t := tar.NewReader(f)
	sums := map[string]hash.Hash{}
	originals, bytes := 0, int64(0)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return out, fmt.Errorf("%w: it ends without its manifest; was making it cut off?", ErrBackup)
		}
		if err != nil {
			return out, fmt.Errorf("%w: %v", ErrBackup, err)
		}
		folder, rest, _ := strings.Cut(h.Name, "/")
		sum := sha256.New()
		switch folder {
		case recordsFolder:
			name, _, _ := strings.Cut(rest, "/")
			if sums[name] == nil {
				sums[name] = sha256.New()
			}
			sum = sums[name]
		case manifestName:
			if err := json.NewDecoder(t).Decode(&out); err != nil {
				return out, fmt.Errorf("%w: its manifest: %v", ErrBackup, err)
			}
			return out, compareBackup(out, sums, originals, bytes)
		}
		n, err := io.Copy(sum, t)
		if err != nil {
			return out, fmt.Errorf("%w: %s: %v", ErrBackup, h.Name, err)
		}
		if folder == originalsFolder {
			originals++
			bytes += n
			if hex.EncodeToString(sum.Sum(nil)) != rest {
				return out, fmt.Errorf("%w: the original %s has another content", ErrBackup, rest)
			}
		}
	}
}

func compareBackup(m Manifest, sums map[string]hash.Hash, originals int, bytes int64) error {
	if m.Format != backupFormat {
		return fmt.Errorf("%w: its form is %q; this program knows %q", ErrBackup, m.Format, backupFormat)
	}
	for name, want := range m.Hashes {
		sum := sums[name]
		if sum == nil {
			sum = sha256.New()
		}
		if hex.EncodeToString(sum.Sum(nil)) != want {
			return fmt.Errorf("%w: the records of %s have another content", ErrBackup, name)
		}
	}
	if originals != m.Originals || bytes != m.Bytes {
		return fmt.Errorf("%w: %d originals with %d bytes, and there have to be %d with %d", ErrBackup, originals, bytes, m.Originals, m.Bytes)
	}
	return nil
}

// RestoreRequest says what is to be restored, and where.
type RestoreRequest struct {
	From        io.ReadSeeker
	Data        string // data folder, without records
	DatabaseURL string // an empty database; empty: a private cluster
	Skip        int64  // how far behind the known ones numbers go on
	Throwaway   bool
	Progress    func(done, all int)
}

// Restore makes the records and originals of a backup anew. No service may run there.
func Restore(ctx context.Context, r RestoreRequest) (m Manifest, err error) {
	if m, err = CheckBackup(r.From); err != nil {
		return m, err
	}
	url := r.DatabaseURL
	if url == "" {
		cluster, err := managed.Start(ctx, filepath.Join(r.Data, "postgres"), managed.Options{Throwaway: r.Throwaway})
		if err != nil {
			return m, err
		}
		defer func() { err = errors.Join(err, cluster.Stop()) }()
		url = cluster.Local
	}
	if err := store.Empty(ctx, url); err != nil {
		return m, err
	}
	// Originals first: records without them would promise what is not there.
	if _, err := r.From.Seek(0, io.SeekStart); err != nil {
		return m, err
	}
	to := archive.New(files.Real{}, filepath.Join(r.Data, "archive"))
	t := tar.NewReader(r.From)
	for done := 0; ; {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return m, err
		}
		folder, sum, _ := strings.Cut(h.Name, "/")
		if folder != originalsFolder {
			continue
		}
		if got, _, err := to.Take(t); err != nil || got != sum {
			return m, errors.Join(fmt.Errorf("restoring the original %s", sum), err)
		}
		if done++; r.Progress != nil {
			r.Progress(done, m.Originals)
		}
	}
	err = store.Restore(ctx, url, m.Snapshot, r.Skip, func(t store.Table) (io.Reader, error) {
		if _, err := r.From.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		return &tableReader{tar: tar.NewReader(r.From), prefix: recordsFolder + "/" + t.Name + "/"}, nil
	})
	if err != nil {
		return m, err
	}
	if len(m.Missing) == 0 {
		return m, nil
	}
	s, err := store.Open(ctx, url)
	if err != nil {
		return m, err
	}
	defer s.Close()
	return m, s.NotArchived(ctx, m.Missing)
}

// tableReader reads the pieces of a table one after the other.
type tableReader struct {
	tar    *tar.Reader
	prefix string
	inside bool
}

func (r *tableReader) Read(b []byte) (int, error) {
	for {
		if r.inside {
			n, err := r.tar.Read(b)
			if err == io.EOF { // of the piece
				r.inside, err = false, nil
			}
			if n > 0 || err != nil {
				return n, err
			}
			continue
		}
		h, err := r.tar.Next()
		if err != nil {
			return 0, err // the end, too
		}
		r.inside = strings.HasPrefix(h.Name, r.prefix)
	}
}
