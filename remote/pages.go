package remote

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"sync"

	"ydrion/files"
)

// What is got by HTTP is a tree in which each address is a folder: the answer to it is a file, and so is each page that it is
// continued on. An answer is known by its content; whether there is another is asked with what the server says of it (RFC 9110, 13).

// pages are the latest answers of a place, by address below it. They outlive connections.
type pages struct {
	mu sync.Mutex
	of map[string][]*page
}

// page is an answer.
type page struct {
	address string // it was got from
	info    Info
	tag     string // the server's ETag, and
	since   string // its Last-Modified
	next    string // the address that it is continued at
	content *os.File
}

func (p *page) drop() {
	p.content.Close() //nolint: nobody needs it any more
}

// mostPages is how many pages an answer may have.
const mostPages = 1000

// List gets what is at an address, with the pages behind it.
func (x *httpExchange) List(folder string) ([]Info, error) {
	defer x.watch.ask()()
	before := map[string]*page{}
	x.pages.mu.Lock()
	for _, p := range x.pages.of[folder] {
		before[p.address] = p
	}
	x.pages.mu.Unlock() // other addresses of the place do not wait for this one
	at := *x.place.Address
	at.Path = path.Join("/", at.Path, folder)
	var all []*page
	seen := map[string]bool{}
	for next := at.String(); next != ""; {
		switch {
		case seen[next]:
			return nil, x.odd(fmt.Errorf("its pages lead in a circle: %s comes twice", next))
		case len(all) == mostPages:
			return nil, x.odd(fmt.Errorf("there are more than %d pages", mostPages))
		}
		seen[next] = true
		one, err := x.get(next, folder, before[next], len(all)+1)
		if err != nil {
			for _, p := range all {
				if before[p.address] != p {
					p.drop()
				}
			}
			return nil, err
		}
		if one == nil {
			break
		}
		all, next = append(all, one), one.next
	}
	out := make([]Info, len(all))
	for i, p := range all {
		out[i] = p.info
		if before[p.address] == p {
			delete(before, p.address)
		}
	}
	x.pages.mu.Lock()
	defer x.pages.mu.Unlock()
	for _, p := range before {
		p.drop()
	}
	if x.pages.of == nil {
		x.pages.of = map[string][]*page{}
	}
	x.pages.of[folder] = all
	return out, nil
}

func (x *httpExchange) odd(err error) error {
	return &Away{Place: x.place.Name, Err: fmt.Errorf("gives an answer that cannot be used: %w", err)}
}

// get gets one page, unless it is still the one that is known; nil if there is nothing.
func (x *httpExchange) get(address, folder string, known *page, number int) (*page, error) {
	r, err := http.NewRequestWithContext(x.ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, x.odd(err)
	}
	if x.place.Type != "" {
		r.Header.Set("Accept", x.place.Type)
	}
	if known != nil && known.tag != "" {
		r.Header.Set("If-None-Match", known.tag)
	} else if known != nil && known.since != "" {
		r.Header.Set("If-Modified-Since", known.since)
	}
	if err := x.prove(r); err != nil {
		return nil, &Away{Place: x.place.Name, Err: err}
	}
	answer, err := x.client.Do(r)
	if err != nil {
		if bad := distrusted(err); bad != nil {
			return nil, &Away{Place: x.place.Name, Err: bad}
		}
		return nil, said(x.place, x.watch, "getting", address, unwrapped(err))
	}
	defer answer.Body.Close()
	switch code := answer.StatusCode; {
	case code == http.StatusNotModified && known != nil:
		return known, nil
	case code == http.StatusNoContent:
		return nil, nil
	case code == http.StatusNotFound || code == http.StatusGone:
		return nil, fmt.Errorf("getting %s: %w", address, fs.ErrNotExist)
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		return nil, &Away{Place: x.place.Name, Err: fmt.Errorf("does not let us in: it answers %s to %s", answer.Status, address)}
	case code >= 300 && code < 400:
		return nil, &Away{Place: x.place.Name, Err: fmt.Errorf("answers %s to %s; say the address that is meant: %s", answer.Status, address, answer.Header.Get("Location"))}
	case code != http.StatusOK:
		return nil, &Away{Place: x.place.Name, Err: fmt.Errorf("answers %s to %s", answer.Status, address)}
	}
	content, err := os.CreateTemp("", "ydrion-page-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(content.Name()); err != nil { // it lives as long as it is open
		return nil, errors.Join(err, content.Close())
	}
	sum := sha256.New()
	most := cmp.Or(x.place.Largest, 1<<30)
	n, err := io.Copy(io.MultiWriter(content, sum), io.LimitReader(answer.Body, most+1))
	if err != nil {
		return nil, errors.Join(said(x.place, x.watch, "getting", address, err), content.Close())
	}
	if n > most {
		return nil, errors.Join(x.odd(fmt.Errorf("what is at %s has more than %d bytes (largest)", address, most)), content.Close())
	}
	out := &page{address: address, tag: answer.Header.Get("ETag"), since: answer.Header.Get("Last-Modified"), content: content}
	out.info = Info{Name: pageName(answer, folder, number), Size: n, Tag: hex.EncodeToString(sum.Sum(nil))}
	if out.next, err = nextPage(r.URL, answer.Header.Values("Link")); err == nil && out.next == "" && x.place.NextPage != nil {
		out.next, err = x.follows(r.URL, io.NewSectionReader(content, 0, n))
	}
	if err != nil {
		return nil, errors.Join(x.odd(err), content.Close())
	}
	return out, nil
}

// pageName is what an answer is called as a file: as the server says, or after the address, with an ending that says its
// type; with a number from the second page on.
func pageName(answer *http.Response, folder string, number int) string {
	_, with, err := mime.ParseMediaType(answer.Header.Get("Content-Disposition"))
	name := ""
	if err == nil {
		name = path.Base("/" + strings.ReplaceAll(with["filename"], "\\", "/"))
	}
	name = strings.TrimLeft(strings.Map(func(c rune) rune {
		if c < ' ' || c == 0x7F {
			return -1
		}
		return c
	}, name), "./")
	if name == "" {
		name = strings.Trim(path.Base("/"+folder), "./")
	}
	name = cmp.Or(name, "answer")
	if path.Ext(name) == "" {
		name += files.Ending(answer.Header.Get("Content-Type"))
	}
	if number > 1 {
		ending := path.Ext(name)
		name = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ending), number, ending)
	}
	return name
}

// nextPage is the address of the next page (RFC 8288, relation next); empty if there is none. Only the same server is asked: what proves who we are is shown to no
// other.
func nextPage(from *url.URL, links []string) (string, error) {
	for _, link := range unquoted(strings.Join(links, ","), ',') {
		target, parameters, is := strings.Cut(strings.TrimSpace(link), ">")
		if !is || !strings.HasPrefix(target, "<") {
			continue
		}
		next := false
		for _, p := range unquoted(parameters, ';') {
			name, v, _ := strings.Cut(strings.TrimSpace(p), "=")
			for relation := range strings.FieldsSeq(strings.Trim(strings.TrimSpace(v), `"`)) {
				next = next || strings.EqualFold(strings.TrimSpace(name), "rel") && strings.EqualFold(relation, "next")
			}
		}
		if !next {
			continue
		}
		return behind(from, target[1:])
	}
	return "", nil
}

// behind is the address of the next page, which is on the same server.
func behind(from *url.URL, said string) (string, error) {
	to, err := from.Parse(said)
	if err != nil {
		return "", fmt.Errorf("the address of its next page, %q, cannot be read", said)
	}
	if to.Scheme != from.Scheme || to.Host != from.Host {
		return "", fmt.Errorf("its next page is on another server, %s", to.Host)
	}
	to.Fragment = ""
	return to.String(), nil
}

// follows is the address of the page that an answer in JSON says follows it; empty if it says none.
func (x *httpExchange) follows(from *url.URL, content io.Reader) (string, error) {
	said, err := valueAt(json.NewDecoder(content), x.place.NextPage)
	switch {
	case err != nil:
		return "", fmt.Errorf("what follows it cannot be found (next page): %w", err)
	case said == "":
		return "", nil
	case x.place.NextBy == "":
		return behind(from, said)
	}
	to := *from
	query := to.Query()
	query.Set(x.place.NextBy, said)
	to.RawQuery = query.Encode()
	return to.String(), nil
}

// valueAt finds a text or a number in JSON, without keeping the rest: by names and places as in a JSON Pointer (RFC 6901), or in a list by what a member of its item is, as in
// relation=next. Empty: there is none, or it is null, false or empty. All of the JSON is read: one that is cut is an error.
func valueAt(in *json.Decoder, path []string) (found string, err error) {
	in.UseNumber()
	if found, err = valueIn(in, path, 0); err != nil {
		return "", err
	}
	if _, err := in.Token(); err != io.EOF {
		return "", errors.New("it is not one JSON document")
	}
	return found, nil
}

// deepestJSON is how many values may lie in each other.
const deepestJSON = 1000

// valueIn is valueAt for the value that comes. A nil path: it is passed over.
func valueIn(in *json.Decoder, path []string, depth int) (found string, err error) {
	if depth > deepestJSON {
		return "", fmt.Errorf("more than %d values lie in each other", deepestJSON)
	}
	first, err := in.Token()
	if err != nil {
		return "", whole(err)
	}
	opening, nests := first.(json.Delim)
	if !nests {
		switch v := first.(type) {
		case string:
			found = v
		case json.Number:
			found = v.String()
		}
		if path == nil || len(path) > 0 {
			found = ""
		}
		return found, nil
	}
	for n := 0; in.More(); n++ {
		var below []string // nil: it is not on the path
		switch {
		case opening == '{':
			name, err := in.Token()
			if err != nil {
				return "", whole(err)
			}
			if len(path) > 0 && name == path[0] {
				below = path[1:]
			}
		case len(path) == 0:
		case path[0] == strconv.Itoa(n):
			below = path[1:]
		case strings.Contains(path[0], "="):
			var item json.RawMessage
			if err := in.Decode(&item); err != nil {
				return "", whole(err)
			}
			member, is, _ := strings.Cut(path[0], "=")
			if v, err := valueIn(newDecoder(item), []string{member}, depth+1); err == nil && v == is && found == "" {
				if found, err = valueIn(newDecoder(item), path[1:], depth+1); err != nil {
					return "", err
				}
			}
			continue
		}
		v, err := valueIn(in, below, depth+1)
		if err != nil {
			return "", err
		}
		if found == "" {
			found = v
		}
	}
	_, err = in.Token()
	return found, whole(err)
}

func newDecoder(b []byte) *json.Decoder {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	return d
}

// whole says of JSON that it is cut.
func whole(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// unquoted cuts a text at a character, where that stands neither in quotes nor in angle brackets.
func unquoted(text string, at byte) (out []string) {
	from, quoted, within := 0, false, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && quoted:
			i++
		case c == '"' && !within:
			quoted = !quoted
		case c == '<' && !quoted:
			within = true
		case c == '>' && !quoted:
			within = false
		case c == at && !quoted && !within:
			out, from = append(out, text[from:i]), i+1
		}
	}
	return append(out, text[from:])
}

// page finds what was got.
func (x *httpExchange) page(at string) (*page, error) {
	x.pages.mu.Lock()
	defer x.pages.mu.Unlock()
	for _, p := range x.pages.of[path.Dir(at)] {
		if p.info.Name == path.Base(at) {
			return p, nil
		}
	}
	return nil, fmt.Errorf("looking at %s at %s: %w", at, x.place.Name, fs.ErrNotExist)
}

func (x *httpExchange) Look(at string) (Info, error) {
	p, err := x.page(at)
	if err != nil {
		return Info{}, err
	}
	return p.info, nil
}

// Open reads what was got, as it was then.
func (x *httpExchange) Open(at string, from int64) (io.ReadCloser, error) {
	p, err := x.page(at)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(io.NewSectionReader(p.content, from, p.info.Size-from)), nil
}

// errGot says that nothing is written where things are got.
var errGot = errors.New("what is got by HTTP stays as it is there")

func (x *httpExchange) Write(string, int64, io.Reader) error { return errGot }
func (x *httpExchange) Move(string, string) error            { return errGot }
func (x *httpExchange) Replace(string, string) error         { return errGot }
func (x *httpExchange) Remove(string) error                  { return errGot }
func (x *httpExchange) MakeFolder(string) error              { return errGot }
func (x *httpExchange) Parallel() int                        { return 1 }
func (x *httpExchange) Resumes() bool                        { return false }
func (x *httpExchange) Durable() bool                        { return true }

var _ Tree = (*httpExchange)(nil)
