package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

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
}

var _ Objects = (*s3Tree)(nil)

func dialS3(_ context.Context, p *workspace.Place) (Conn, error) {
	word, err := Secret(p.Password)
	if err != nil {
		return nil, err
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(p.Address.Path, "/"), "/")
	if prefix != "" {
		prefix += "/"
	}
	t := &s3Tree{place: p, watch: newWatch(p.Patience), bucket: bucket, prefix: prefix}
	t.ctx, t.end = context.WithCancel(context.Background())
	carrier, err := transport(p, t.watch)
	if err != nil {
		return nil, err
	}
	t.client, err = minio.New(p.Address.Host, &minio.Options{Creds: credentials.NewStaticV4(p.User, word, ""), Secure: p.Address.Scheme == "https", Transport: carrier, Region: or(p.Region, "us-east-1"), BucketLookup: minio.BucketLookupPath, MaxRetries: 1})
	if err != nil {
		return nil, fmt.Errorf("cannot be reached: %w", err)
	}
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
		switch {
		case name == "":
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
	r, _, _, err := minio.Core{Client: t.client}.GetObject(t.ctx, t.bucket, t.key(p), how)
	if err != nil {
		return nil, t.said("reading", p, err)
	}
	return &watchedReader{r, t.watch, func(err error) error { return t.said("reading", p, err) }}, nil
}

// markOf is the name under which a mark is kept with an object.
const markOf = "Ydrion-Delivery"

func (t *s3Tree) Put(p string, content io.Reader, size int64, mark string, replace bool) error {
	defer t.watch.ask()()
	how := minio.PutObjectOptions{UserMetadata: map[string]string{markOf: mark}, DisableContentSha256: t.place.Address.Scheme == "http", PartSize: partSize, NumThreads: 1}
	if !replace {
		how.SetMatchETagExcept("*")
	}
	ours := &ourReader{Reader: content}
	_, err := t.client.PutObject(t.ctx, t.bucket, t.key(p), ours, size, how)
	if ours.err != nil {
		return ours.err
	}
	return t.said("writing", p, err)
}

// partSize is how much of a large file is sent in one request, and held in memory for it.
const partSize = 16 << 20

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
	return t.said("removing", p, t.client.RemoveObject(t.ctx, t.bucket, t.key(p), minio.RemoveObjectOptions{}))
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
