package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"

	"github.com/studio-b12/gowebdav"

	"ydrion/workspace"
)

// webdavTree is a place reached by WebDAV (RFC 4918).
type webdavTree struct {
	place  *workspace.Place
	watch  *watch
	client *gowebdav.Client
	proof  gowebdav.Authorizer
	bound  *bound
	ctx    context.Context
	end    context.CancelFunc
}

func dialWebDAV(ctx context.Context, p *workspace.Place) (Conn, error) {
	word, err := Secret(p.Password)
	if err != nil {
		return nil, err
	}
	t := &webdavTree{place: p, watch: newWatch(p.Patience)}
	t.ctx, t.end = context.WithCancel(context.Background())
	carrier, err := transport(p, t.watch)
	if err != nil {
		return nil, err
	}
	t.proof = proof(p, word)
	t.client = gowebdav.NewAuthClient(p.Address.String(), t.proof)
	t.bound = &bound{RoundTripper: carrier, ctx: t.ctx}
	t.client.SetTransport(t.bound)
	defer context.AfterFunc(ctx, t.end)()
	if err := t.Rest(); err != nil {
		t.Break()
		var a *Away
		var status gowebdav.StatusError
		switch bad := distrusted(err); {
		case bad != nil:
			return nil, bad
		case errors.Is(err, fs.ErrPermission):
			return nil, fmt.Errorf("does not let %s in: the server refuses the password", or(p.User, "anybody"))
		case errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("is not there: the server knows no %s", p.Address.Path)
		case errors.As(err, &status):
			return nil, fmt.Errorf("does not answer as a WebDAV server does: %w", err)
		case errors.As(err, &a):
			return nil, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(a.Err))
		}
		return nil, err
	}
	return t, nil
}

// proof is how a server is told who we are: as it asks. In the open what cannot be overheard goes before the rest.
func proof(p *workspace.Place, word string) gowebdav.Authorizer {
	out := gowebdav.NewEmptyAuth()
	ways := []string{"basic", "digest"}
	if p.Address.Scheme == "http" {
		slices.Reverse(ways)
	}
	for _, way := range ways {
		out.AddAuthenticator(way, func(_ *http.Client, asked *http.Response, _ string) (gowebdav.Authenticator, error) {
			if way == "basic" {
				return &basic{p.User, word}, nil
			}
			d, err := gowebdav.NewDigestAuth(p.User, word, asked)
			return &digest{d}, err
		})
	}
	return out
}

// basic is RFC 7617.
type basic struct{ user, word string }

func (b *basic) Authorize(_ *http.Client, r *http.Request, _ string) error {
	r.SetBasicAuth(b.user, b.word)
	return nil
}

func (b *basic) Verify(_ *http.Client, answer *http.Response, path string) (again bool, err error) {
	if answer.StatusCode == http.StatusUnauthorized {
		err = gowebdav.NewPathError("Authorize", path, answer.StatusCode)
	}
	return false, err
}

func (b *basic) Close() error                  { return nil }
func (b *basic) Clone() gowebdav.Authenticator { return b }

// digest is RFC 7616. What is proved is the address as it is asked for; the library takes its path, without escapes and without what all paths begin with.
type digest struct{ gowebdav.Authenticator }

func (d *digest) Authorize(c *http.Client, r *http.Request, _ string) error {
	return d.Authenticator.Authorize(c, r, r.URL.RequestURI())
}

func (d *digest) Clone() gowebdav.Authenticator { return &digest{d.Authenticator.Clone()} }

// or is the first text that is not empty.
func or(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// bound ends requests with a context.
type bound struct {
	http.RoundTripper
	ctx    context.Context
	failed error          // of the last request; the client does not always tell
	answer *http.Response // the last one
	// folders is what the client is told when it makes a folder unasked: it does so before each file that it writes, and when a file cannot be
	// renamed, which it then tries until it can. 0: it was asked to.
	folders int
}

func (b *bound) RoundTrip(r *http.Request) (answer *http.Response, err error) {
	if b.folders != 0 && r.Method == "MKCOL" {
		return &http.Response{StatusCode: b.folders, Status: http.StatusText(b.folders), Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Header: http.Header{}, Body: http.NoBody, Request: r}, nil
	}
	answer, err = b.RoundTripper.RoundTrip(r.WithContext(b.ctx))
	if b.failed = err; err == nil {
		b.answer = answer
	}
	return answer, err
}

// said puts an error into words.
func (t *webdavTree) said(doing, p string, err error) error {
	var status gowebdav.StatusError
	if err != nil && t.bound.failed != nil {
		err = t.bound.failed
	} else if errors.As(err, &status) {
		switch status.Status {
		case http.StatusNotFound, http.StatusConflict:
			err = fs.ErrNotExist
		case http.StatusPreconditionFailed:
			err = fs.ErrExist
		case http.StatusUnauthorized, http.StatusForbidden:
			err = fs.ErrPermission
		default:
			return refused(t.place, doing, p, fmt.Sprintf("%d %s", status.Status, http.StatusText(status.Status)))
		}
	}
	return said(t.place, t.watch, doing, p, err)
}

func ofDAV(i fs.FileInfo, name string) Info {
	out := Info{Name: name, Size: i.Size(), Modified: i.ModTime().UTC(), Folder: i.IsDir()}
	if f, is := i.(interface{ ETag() string }); is && !i.IsDir() {
		out.Tag = f.ETag()
	}
	return out
}

func (t *webdavTree) List(folder string) ([]Info, error) {
	defer t.watch.ask()()
	all, err := t.client.ReadDir(folder)
	if err != nil {
		return nil, t.said("looking into", folder, err)
	}
	out := make([]Info, 0, len(all))
	for _, i := range all {
		out = append(out, ofDAV(i, i.Name()))
	}
	return out, nil
}

func (t *webdavTree) Look(p string) (Info, error) {
	defer t.watch.ask()()
	i, err := t.client.Stat(p)
	if err != nil {
		return Info{}, t.said("looking at", p, err)
	}
	return ofDAV(i, path.Base(p)), nil
}

func (t *webdavTree) Open(p string, from int64) (io.ReadCloser, error) {
	defer t.watch.ask()()
	if from > 0 {
		r, err := t.client.ReadStreamRange(p, from, 0)
		return t.reader(p, r, err)
	}
	in, err := t.client.ReadStream(p)
	r, err := t.reader(p, in, err)
	if err != nil {
		return nil, err
	}
	return &davReader{r, t, p, t.bound.answer}, nil
}

// davReader reads a file from its beginning.
type davReader struct {
	io.ReadCloser
	tree *webdavTree
	path string
	as   *http.Response // it was opened
}

// Still asks for the head of what the file's address gives now (RFC 9110, 9.3.2): less than its properties, which are a document.
func (r *davReader) Still() bool {
	defer r.tree.watch.ask()()
	now, err := r.tree.head(r.path)
	if err != nil || now.StatusCode != http.StatusOK || now.ContentLength < 0 || now.ContentLength != r.as.ContentLength {
		return false
	}
	told := false
	for _, name := range []string{"ETag", "Last-Modified"} {
		was := r.as.Header.Get(name)
		if was != now.Header.Get(name) {
			return false
		}
		told = told || was != ""
	}
	return told
}

func (t *webdavTree) head(p string) (answer *http.Response, err error) {
	who, _ := t.proof.NewAuthenticator(nil)
	defer who.Close() //nolint: nothing is kept of it
	client := &http.Client{Transport: t.bound}
	for again, tries := true, 0; again && tries < 3; tries++ {
		r, err := http.NewRequest(http.MethodHead, gowebdav.PathEscape(gowebdav.Join(t.place.Address.String(), p)), nil)
		if err != nil {
			return nil, err
		}
		if err := who.Authorize(client, r, p); err != nil {
			return nil, err
		}
		if answer, err = client.Do(r); err != nil {
			return nil, err
		}
		answer.Body.Close() //nolint: a head has none
		if again, err = who.Verify(client, answer, p); err != nil {
			return nil, err
		}
	}
	return answer, nil
}

func (t *webdavTree) reader(p string, r io.ReadCloser, err error) (io.ReadCloser, error) {
	if err != nil {
		return nil, t.said("reading", p, err)
	}
	return &watchedReader{r, t.watch, func(err error) error { return t.said("reading", p, err) }}, nil
}

// watchedReader reads from a server.
type watchedReader struct {
	io.ReadCloser
	watch *watch
	said  func(error) error
}

func (r *watchedReader) Read(b []byte) (int, error) {
	defer r.watch.ask()()
	n, err := r.ReadCloser.Read(b)
	if err != nil && err != io.EOF {
		err = r.said(err)
	}
	return n, err
}

func (r *watchedReader) Close() error {
	defer r.watch.ask()()
	return r.said(r.ReadCloser.Close())
}

func (t *webdavTree) Write(p string, from int64, content io.Reader) error {
	defer t.watch.ask()()
	if from > 0 {
		return fmt.Errorf("writing %s at %s: a file there cannot be gone on with", p, t.place.Name)
	}
	size := int64(-1)
	if s, is := content.(interface{ Size() int64 }); is {
		size = s.Size()
	}
	ours := &ourReader{Reader: content}
	t.bound.folders = http.StatusMethodNotAllowed // it is there
	err := t.client.WriteStreamWithLength(p, &unread{ourReader: ours}, size, 0)
	t.bound.folders = 0
	if ours.err != nil {
		return ours.err
	}
	if err = t.said("writing", p, err); err != nil && !IsAway(err) && !errors.Is(err, fs.ErrNotExist) {
		// Not every server says that it is the folder that is missing.
		if _, look := t.Look(path.Dir(p)); errors.Is(look, fs.ErrNotExist) {
			return look
		}
	}
	return err
}

// unread is a content that can be begun again as long as nothing of it was read. Of one that cannot, the client would keep all
// in memory while it is sent.
type unread struct {
	*ourReader
	begun bool
}

func (u *unread) Read(b []byte) (int, error) {
	u.begun = true
	return u.ourReader.Read(b)
}

func (u *unread) Seek(offset int64, whence int) (int64, error) {
	if u.begun || offset != 0 || whence != io.SeekStart {
		return 0, errors.New("the server asks for a file again of which it has had a part")
	}
	return 0, nil
}

func (t *webdavTree) Move(from, to string) error {
	defer t.watch.ask()()
	return t.rename("naming", from, to, false)
}

func (t *webdavTree) Replace(from, to string) error {
	defer t.watch.ask()()
	return t.rename("replacing", from, to, true)
}

// rename renames a file. Servers forbid it, too, if there is nothing to rename.
func (t *webdavTree) rename(doing, from, to string, replace bool) error {
	t.bound.folders = http.StatusConflict // it is not to be made
	err := t.client.Rename(from, to, replace)
	t.bound.folders = 0
	err = t.said(doing, to, err)
	if errors.Is(err, fs.ErrPermission) {
		if _, look := t.client.Stat(from); errors.Is(t.said("looking at", from, look), fs.ErrNotExist) {
			return t.said(doing, from, fs.ErrNotExist)
		}
	}
	return err
}

func (t *webdavTree) Remove(p string) error {
	defer t.watch.ask()()
	err := t.client.Remove(p)
	if err == nil && t.bound.answer.StatusCode == http.StatusNotFound { // which is no error to the client
		err = fs.ErrNotExist
	}
	return t.said("removing", p, err)
}

func (t *webdavTree) MakeFolder(p string) error {
	defer t.watch.ask()()
	err := t.client.Mkdir(strings.TrimSuffix(p, "/"), 0)
	var status gowebdav.StatusError
	if errors.As(err, &status) && status.Status == http.StatusMethodNotAllowed {
		return nil // it is there
	}
	return t.said("making", p, err)
}

func (t *webdavTree) Parallel() int { return 1 }

func (t *webdavTree) Resumes() bool { return false }

func (t *webdavTree) Durable() bool { return false }

func (t *webdavTree) Rest() error {
	defer t.watch.ask()()
	_, err := t.client.Stat("/")
	return t.said("asking for", "/", err)
}

func (t *webdavTree) Break() {
	t.end()
	t.watch.end()
}
