package remote

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"ydrion/files"
	"ydrion/workspace"
)

// s3Tree is a bucket, or what has a prefix in it, of an object store with the S3 interface. Its folders are what names have
// in common up to a slash: there are no empty ones.
type s3Tree struct {
	place  *workspace.Place
	watch  *watch
	client *minio.Client
	bucket string
	prefix string // ends in a slash, unless empty
	ctx    context.Context
	end    context.CancelFunc

	honest *honest
	names  *files.Turns
}

var _ Objects = (*s3Tree)(nil)

func dialS3(ctx context.Context, p *workspace.Place) (Conn, error) {
	word, err := Secret(p.Password)
	if err != nil {
		return nil, err
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(p.Address.Path, "/"), "/")
	if prefix != "" {
		prefix += "/"
	}
	t := &s3Tree{place: p, watch: newWatch(p.Patience), bucket: bucket, prefix: prefix, honest: &honest{}, names: &files.Turns{}}
	t.ctx, t.end = context.WithCancel(context.Background())
	carrier, err := transport(p, t.watch)
	if err != nil {
		return nil, err
	}
	t.client, err = minio.New(p.Address.Host, &minio.Options{Creds: credentials.NewStaticV4(p.User, word, ""), Secure: p.Address.Scheme == "https", Transport: carrier, Region: or(p.Region, "us-east-1"), BucketLookup: minio.BucketLookupPath, MaxRetries: 1})
	if err != nil {
		return nil, fmt.Errorf("cannot be reached: %w", err)
	}
	defer context.AfterFunc(ctx, t.end)()
	if err := t.Rest(); err != nil {
		t.Break()
		var a *Away
		switch bad := distrusted(err); {
		case bad != nil:
			return nil, bad
		case errors.Is(err, fs.ErrPermission):
			return nil, fmt.Errorf("does not let %s in: the server refuses the key", p.User)
		case errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("is not there: the server knows no bucket %s", bucket)
		case errors.As(err, &a):
			return nil, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(a.Err))
		}
		return nil, err
	}
	return t, nil
}

func (t *s3Tree) key(p string) string { return t.prefix + strings.TrimPrefix(path.Clean("/"+p), "/") }

// said puts an error into words.
func (t *s3Tree) said(doing, p string, err error) error {
	var status minio.ErrorResponse
	if errors.As(err, &status) && status.StatusCode != 0 {
		switch status.StatusCode {
		case http.StatusNotFound:
			err = fs.ErrNotExist
		case http.StatusPreconditionFailed, http.StatusConflict:
			err = fs.ErrExist
		case http.StatusUnauthorized, http.StatusForbidden:
			err = fs.ErrPermission
		default:
			return refused(t.place, doing, p, or(status.Message, status.Code, http.StatusText(status.StatusCode)))
		}
	}
	return said(t.place, t.watch, doing, p, err)
}

// ofObject is an object as lists and answers about it agree on: the one have its time to the millisecond, the others to the
// second.
func ofObject(o minio.ObjectInfo, name string) Info {
	return Info{Name: name, Size: o.Size, Modified: o.LastModified.UTC().Truncate(time.Second), Tag: o.ETag}
}

func (t *s3Tree) List(folder string) (out []Info, err error) {
	defer t.watch.ask()()
	prefix := t.key(folder)
	if prefix != "" && !strings.HasSuffix(prefix, "/") {
		prefix += "/"
	}
	for o := range t.client.ListObjects(t.ctx, t.bucket, minio.ListObjectsOptions{Prefix: prefix}) {
		if o.Err != nil {
			return nil, t.said("looking into", folder, o.Err)
		}
		name := strings.TrimPrefix(o.Key, prefix)
		switch part := strings.TrimSuffix(name, "/"); {
		case name == "": // the sign of a folder
		case part == "" || part == "." || part == "..":
			out = append(out, Info{Name: o.Key, Folder: part != name, Odd: "its key has nothing, . or .. between two slashes, and so it is no path: it is not taken"})
		case strings.HasSuffix(name, "/"):
			out = append(out, Info{Name: strings.TrimSuffix(name, "/"), Folder: true})
		default:
			out = append(out, ofObject(o, name))
		}
	}
	return out, nil
}

func (t *s3Tree) Look(p string) (Info, error) {
	defer t.watch.ask()()
	o, err := t.client.StatObject(t.ctx, t.bucket, t.key(p), minio.StatObjectOptions{})
	if err != nil {
		return Info{}, t.said("looking at", p, err)
	}
	return ofObject(o, path.Base(p)), nil
}

func (t *s3Tree) Open(p string, from int64) (io.ReadCloser, error) {
	defer t.watch.ask()()
	how := minio.GetObjectOptions{}
	if from > 0 {
		if err := how.SetRange(from, 0); err != nil {
			return nil, err
		}
	}
	// The plain request: one stream, from its beginning to its end.
	r, o, _, err := minio.Core{Client: t.client}.GetObject(t.ctx, t.bucket, t.key(p), how)
	if err != nil {
		return nil, t.said("reading", p, err)
	}
	plain := &watchedReader{r, t.watch, func(err error) error { return t.said("reading", p, err) }}
	if from > 0 {
		return plain, nil
	}
	return &objectReader{plain, ofObject(o, path.Base(p))}, nil
}

// objectReader reads an object: all of it is of one moment.
type objectReader struct {
	*watchedReader
	of Info
}

func (r *objectReader) Of() Info { return r.of }

func (t *s3Tree) Discard(p string) error {
	defer t.watch.ask()()
	return t.said("removing", p, t.client.RemoveObject(t.ctx, t.bucket, t.key(p), minio.RemoveObjectOptions{}))
}

// markOf is the name under which a mark is kept with an object.
const markOf = "Ydrion-Delivery"

func (t *s3Tree) Put(p string, content io.Reader, size int64, mark string, replace bool) error {
	defer t.watch.ask()()
	how := minio.PutObjectOptions{UserMetadata: map[string]string{markOf: mark}, DisableContentSha256: t.place.Address.Scheme == "http", PartSize: partSize, NumThreads: 1}
	if !replace {
		keeps, err := t.keeps(t.probe(p, mark))
		switch {
		case err != nil:
			return t.said("writing", p, err)
		case keeps:
			how.SetMatchETagExcept("*")
		default:
			// Between the two another may come, but none of ours.
			defer t.names.Take(t.key(p))()
			if _, err := t.Look(p); err == nil {
				return t.said("writing", p, fs.ErrExist)
			} else if !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	ours := &ourReader{Reader: content}
	var err error
	if size > 2*partSize {
		before, _ := content.(Parted)
		err = t.putParts(t.key(p), ours, size, before, how)
	} else {
		_, err = t.client.PutObject(t.ctx, t.bucket, t.key(p), ours, size, how)
	}
	if ours.err != nil {
		return ours.err
	}
	if unrecorded := (*errUnrecorded)(nil); errors.As(err, &unrecorded) {
		return err
	}
	return t.said("writing", p, err)
}

// honest is whether a store keeps an object that is there when it is asked not to replace it (If-None-Match). There are some that do not
// know how, and replace it without a word.
type honest struct {
	mu    sync.Mutex
	known bool
	is    bool
}

// probe is the key of an object that stands beside another for a moment. Who tries again with the same mark knows it.
func (t *s3Tree) probe(p, mark string) string {
	return t.key(path.Join(path.Dir(p), ".ydrion-probe-"+mark))
}

func (t *s3Tree) Tidy(p, mark string) error {
	defer t.watch.ask()()
	key := t.probe(p, mark)
	_, err := t.client.StatObject(t.ctx, t.bucket, key, minio.StatObjectOptions{})
	if err == nil { // where versions are kept, removing what is not there would leave a mark
		err = t.client.RemoveObject(t.ctx, t.bucket, key, minio.RemoveObjectOptions{})
	}
	return t.said("removing a probe beside", p, err)
}

// keeps finds out whether the store is honest, once, with a probe.
func (t *s3Tree) keeps(key string) (bool, error) {
	t.honest.mu.Lock()
	defer t.honest.mu.Unlock()
	if t.honest.known {
		return t.honest.is, nil
	}
	put := func() error {
		how := minio.PutObjectOptions{}
		how.SetMatchETagExcept("*")
		_, err := t.client.PutObject(t.ctx, t.bucket, key, strings.NewReader("a probe, which can be removed\n"), 30, how)
		return err
	}
	first := put()
	var status minio.ErrorResponse
	if first != nil && !errors.As(first, &status) {
		return false, first
	}
	second := first
	if first == nil {
		second = put()
		gone := t.client.RemoveObject(t.ctx, t.bucket, key, minio.RemoveObjectOptions{})
		if gone != nil && !errors.As(gone, &status) { // it lies there still: whoever tries again removes it
			return false, gone
		}
	}
	switch {
	case second == nil: // it was replaced
		t.honest.known = true
	case !errors.As(second, &status):
		return false, second
	case first == nil && (status.StatusCode == http.StatusPreconditionFailed || status.StatusCode == http.StatusConflict):
		t.honest.known, t.honest.is = true, true
	case status.StatusCode == http.StatusNotImplemented || status.StatusCode == http.StatusBadRequest:
		t.honest.known = true
	}
	return t.honest.is, nil // not known: it is asked again, and looked until then
}

// partSize is how much of a large file is sent in one request, and held in memory for it; more of one that would have too
// many parts. partsAtOnce is how many parts of one file are on their way at a time.
const (
	partSize    = 16 << 20
	mostParts   = 10_000
	partsAtOnce = 2
)

// errUnrecorded says that it cannot be recorded here how a large file is sent: that is no fault of the server.
type errUnrecorded struct{ error }

func (e *errUnrecorded) Unwrap() error { return e.error }

// putParts makes a large file in parts. If that was begun before, the parts that are there, and have the content that they should, are not
// sent again.
func (t *s3Tree) putParts(key string, content io.Reader, size int64, before Parted, how minio.PutObjectOptions) error {
	core := minio.Core{Client: t.client}
	each := max(partSize, (size/mostParts/partSize+1)*partSize)
	there := map[int]minio.ObjectPart{}
	upload := ""
	if before != nil {
		upload = before.Upload()
	}
	begun := func(upload string) error {
		if before == nil {
			return nil
		}
		if err := before.Begun(upload); err != nil {
			return &errUnrecorded{err}
		}
		return nil
	}
	for from := 0; upload != ""; {
		list, err := core.ListObjectParts(t.ctx, t.bucket, key, upload, from, 1000)
		var status minio.ErrorResponse
		if errors.As(err, &status) && status.StatusCode == http.StatusNotFound {
			upload = ""
			clear(there)
			break
		}
		if err != nil {
			return err
		}
		for _, part := range list.ObjectParts {
			there[part.PartNumber] = part
		}
		if from = list.NextPartNumberMarker; !list.IsTruncated {
			break
		}
	}
	if upload == "" {
		var err error
		if upload, err = core.NewMultipartUpload(t.ctx, t.bucket, key, how); err != nil {
			return err
		}
		if err := begun(upload); err != nil {
			return errors.Join(err, core.AbortMultipartUpload(t.ctx, t.bucket, key, upload))
		}
	}
	parts := make([]minio.CompletePart, (size+each-1)/each)
	// While one is sent, the next is read, and sent as well.
	room := make(chan []byte, partsAtOnce)
	for range partsAtOnce {
		room <- nil
	}
	var sending sync.WaitGroup
	var wrong atomic.Pointer[error]
	for i, left := 0, size; left > 0 && wrong.Load() == nil; i++ {
		one := <-room
		if one == nil {
			one = make([]byte, min(each, size))
		}
		one = one[:min(each, left)]
		left -= int64(len(one))
		if _, err := io.ReadFull(content, one); err != nil {
			wrong.CompareAndSwap(nil, &err)
			break
		}
		sending.Go(func() {
			tag, err := t.putPart(key, upload, i+1, one, there[i+1])
			if err != nil {
				wrong.CompareAndSwap(nil, &err)
			}
			parts[i] = minio.CompletePart{PartNumber: i + 1, ETag: tag}
			room <- one[:cap(one)]
		})
	}
	if sending.Wait(); wrong.Load() != nil {
		return *wrong.Load()
	}
	_, err := core.CompleteMultipartUpload(t.ctx, t.bucket, key, upload, parts, how)
	var status minio.ErrorResponse
	if errors.As(err, &status) && (status.StatusCode == http.StatusPreconditionFailed || status.StatusCode == http.StatusConflict) {
		err = errors.Join(err, core.AbortMultipartUpload(t.ctx, t.bucket, key, upload), begun("")) // something else has the name
	}
	return err
}

// putPart sends one part, unless the server has it, with what it should have in it.
func (t *s3Tree) putPart(key, upload string, number int, content []byte, there minio.ObjectPart) (tag string, err error) {
	sum := func() []byte {
		s := md5.Sum(content)
		return s[:]
	}
	if there.Size == int64(len(content)) && strings.Trim(there.ETag, `"`) == hex.EncodeToString(sum()) {
		return there.ETag, nil
	}
	// Over TLS nothing changes on its way; without it, a sum is sent along.
	how := minio.PutObjectPartOptions{DisableContentSha256: true}
	if t.place.Address.Scheme == "http" {
		how.Md5Base64 = base64.StdEncoding.EncodeToString(sum())
	}
	part, err := minio.Core{Client: t.client}.PutObjectPart(t.ctx, t.bucket, key, upload, number, bytes.NewReader(content), int64(len(content)), how)
	return part.ETag, err
}

func (t *s3Tree) Marked(p string) (string, error) {
	defer t.watch.ask()()
	o, err := t.client.StatObject(t.ctx, t.bucket, t.key(p), minio.StatObjectOptions{})
	if err != nil {
		return "", t.said("looking at", p, err)
	}
	return o.UserMetadata[markOf], nil
}

var errNotForObjects = errors.New("nothing is renamed in an object store")

func (t *s3Tree) Write(string, int64, io.Reader) error { return errNotForObjects }
func (t *s3Tree) Move(_, _ string) error               { return errNotForObjects }
func (t *s3Tree) Replace(_, _ string) error            { return errNotForObjects }

func (t *s3Tree) Remove(p string) error {
	defer t.watch.ask()()
	// What is not there is no error to the server: it is asked for.
	if _, err := t.client.StatObject(t.ctx, t.bucket, t.key(p), minio.StatObjectOptions{}); err != nil {
		return t.said("removing", p, err)
	}
	return t.Discard(p)
}

// MakeFolder has nothing to do: a folder is there when something is in it.
func (t *s3Tree) MakeFolder(string) error { return nil }

func (t *s3Tree) Parallel() int { return 1 }

func (t *s3Tree) Resumes() bool { return false }

func (t *s3Tree) Durable() bool { return true }

func (t *s3Tree) Rest() error {
	defer t.watch.ask()()
	is, err := t.client.BucketExists(t.ctx, t.bucket)
	if err == nil && !is {
		err = fs.ErrNotExist
	}
	return t.said("asking for", "/", err)
}

func (t *s3Tree) Break() {
	t.end()
	t.watch.end()
}
