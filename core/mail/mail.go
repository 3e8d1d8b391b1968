// Package mail reads mails (RFC 5322) and what is attached to them (MIME, RFC 2045 to 2049, 2183 and 2231).
package mail

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/mail"
	"net/textproto"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
)

// Head is what a mail says of itself.
type Head struct {
	From    string    `json:"from" doc:"addresses alone, separated by commas"`
	To      string    `json:"to" doc:"with those of Cc"`
	Subject string    `json:"subject"`
	ID      string    `json:"id" doc:"the message id, without brackets"`
	Date    time.Time `json:"date,omitzero" doc:"absent if the mail does not say"`
}

// Scan reads it as it is kept, which is as JSON.
func (h *Head) Scan(from any) error {
	switch b := from.(type) {
	case []byte:
		return json.Unmarshal(b, h)
	case string:
		return json.Unmarshal([]byte(b), h)
	}
	return fmt.Errorf("what a mail says of itself is kept as %T", from)
}

// Part is a part of a mail that holds no other parts.
type Part struct {
	Name     string // as a file; empty: it has none
	Type     string // a media type, such as text/csv
	Charset  string // of a text, as the sender says; empty: not said
	Attached bool   // the sender says so, or it has a name
	// Content is as it was before it was encoded for its way: the bytes of a file, in the character set that they are in.
	Content io.Reader
}

const (
	deepest  = 20      // how deep parts lie in parts
	mostHead = 1 << 20 // bytes of a head
)

// ErrBroken says that a mail cannot be read, or not to its end.
var ErrBroken = errors.New("the mail cannot be read")

// Read reads a mail and shows each part, in order. Parts in parts, and mails that are attached to it, are gone into: a mail that is
// attached and has a name is shown, too, if whole says so of its name, and then it is not gone into.
func Read(in io.Reader, whole func(name string) bool, each func(Part) error) (Head, error) {
	head, body, err := headOf(bufio.NewReader(in))
	if err != nil {
		return Head{}, err
	}
	r := &reader{whole: whole, each: each}
	return headFrom(head), r.part(head, body, 0, "text/plain")
}

type reader struct {
	whole func(name string) bool
	each  func(Part) error
}

// headOf reads the head of a mail.
func headOf(in *bufio.Reader) (textproto.MIMEHeader, io.Reader, error) {
	limited := &io.LimitedReader{R: in, N: mostHead}
	over := bufio.NewReader(limited)
	head, err := textproto.NewReader(over).ReadMIMEHeader()
	switch {
	case err == io.EOF && len(head) > 0: // there is nothing behind it
	case err != nil && limited.N == 0:
		return nil, nil, fmt.Errorf("%w: its head has more than %d bytes", ErrBroken, mostHead)
	case err != nil:
		return nil, nil, fmt.Errorf("%w: its head: %w", ErrBroken, err)
	}
	rest, err := over.Peek(over.Buffered())
	return head, io.MultiReader(strings.NewReader(string(rest)), in), err
}

func headFrom(h textproto.MIMEHeader) Head {
	out := Head{From: addresses(h.Get("From")), To: addresses(strings.Join(append(h.Values("To"), h.Values("Cc")...), ", ")), Subject: Text(h.Get("Subject")), ID: strings.Trim(strings.TrimSpace(h.Get("Message-Id")), "<>")}
	if at, err := mail.ParseDate(h.Get("Date")); err == nil {
		out.Date = at
	}
	return out
}

// addresses are those of a list, without names; as it stands where it is no list of addresses.
func addresses(text string) string {
	if strings.Trim(text, ", ") == "" {
		return ""
	}
	list, err := (&mail.AddressParser{WordDecoder: Words}).ParseList(strings.Trim(text, ", "))
	if err != nil {
		return Text(text)
	}
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.Address
	}
	return strings.Join(out, ", ")
}

// Words decodes words in heads (RFC 2047) in any character set that is known (WHATWG Encoding).
var Words = &mime.WordDecoder{CharsetReader: charset}

func charset(name string, in io.Reader) (io.Reader, error) {
	e, err := htmlindex.Get(strings.TrimSpace(name))
	if err != nil {
		return nil, fmt.Errorf("the character set %q is not known", name)
	}
	return e.NewDecoder().Reader(in), nil
}

// UTF8 converts a text that is in a character set; without one, what is not UTF-8 is taken for windows-1252.
func UTF8(b []byte, name string) (string, error) {
	if utf8.Valid(b) && (name == "" || strings.EqualFold(name, "us-ascii")) {
		return string(b), nil
	}
	if name == "" {
		name = "windows-1252"
	}
	in, err := charset(name, strings.NewReader(string(b)))
	if err != nil {
		return "", err
	}
	out, err := io.ReadAll(in)
	return string(out), err
}

// Text is what stands in a head, decoded, in one line.
func Text(raw string) string { return strings.Join(strings.Fields(words(raw)), " ") }

func words(raw string) string {
	out, err := Words.DecodeHeader(raw)
	if err != nil {
		out = raw
	}
	if !utf8.ValidString(out) { // somebody has written without encoding it
		if out, err = UTF8([]byte(out), ""); err != nil {
			out = strings.ToValidUTF8(raw, "\uFFFD")
		}
	}
	return out
}

// part reads a part, with those in it.
func (r *reader) part(h textproto.MIMEHeader, body io.Reader, depth int, usual string) error {
	if depth > deepest {
		return fmt.Errorf("%w: more than %d parts lie in each other", ErrBroken, deepest)
	}
	kind, with := mediaType(h.Get("Content-Type"), usual)
	if strings.HasPrefix(kind, "multipart/") {
		return r.parts(with["boundary"], body, depth, kind)
	}
	content, err := decoded(h.Get("Content-Transfer-Encoding"), body)
	if err != nil {
		return err
	}
	disposition, as := mediaType(h.Get("Content-Disposition"), "")
	p := Part{Name: fileName(as["filename"], extended(h.Get("Content-Disposition"), "filename"), with["name"], extended(h.Get("Content-Type"), "name")), Type: kind, Charset: with["charset"], Content: content}
	p.Attached = disposition == "attachment" || p.Name != ""
	if kind == "message/rfc822" && (p.Name == "" || !r.whole(p.Name)) {
		inner, rest, err := headOf(bufio.NewReader(content))
		if err != nil {
			return err
		}
		return r.part(inner, rest, depth+1, "text/plain")
	}
	p.Content = whole{content}
	if err := r.each(p); err != nil {
		return err
	}
	if quoted, is := content.(*quotedReader); is { // mails may be careless in what nobody wants of them
		quoted.loose = true
	}
	_, err = io.Copy(io.Discard, p.Content) // what nobody wanted may be cut off, too
	return err
}

// whole says of a part that ends too early that it is broken.
type whole struct{ io.Reader }

func (w whole) Read(b []byte) (int, error) {
	n, err := w.Reader.Read(b)
	if err != nil && err != io.EOF && !errors.Is(err, ErrBroken) {
		err = fmt.Errorf("%w: it ends before its last part does, or a part is not encoded as it says: %w", ErrBroken, err)
	}
	return n, err
}

// parts reads the parts of a part.
func (r *reader) parts(boundary string, body io.Reader, depth int, kind string) error {
	if boundary == "" {
		return fmt.Errorf("%w: it has parts, and does not say where one ends (boundary)", ErrBroken)
	}
	usual := "text/plain"
	if kind == "multipart/digest" {
		usual = "message/rfc822"
	}
	for in := multipart.NewReader(body, boundary); ; {
		p, err := in.NextRawPart()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: it ends before its last part does, or its parts are not as they should be: %w", ErrBroken, err)
		}
		if err := r.part(p.Header, p, depth+1, usual); err != nil {
			return err
		}
	}
}

// decoded undoes how a part was encoded for its way (RFC 2045, 6).
func decoded(encoding string, in io.Reader) (io.Reader, error) {
	switch strings.ToLower(strings.TrimSpace(encoding)) {
	case "", "7bit", "8bit", "binary":
		return in, nil
	case "quoted-printable":
		return &quotedReader{in: bufio.NewReader(in)}, nil
	case "base64":
		return &base64Reader{in: bufio.NewReader(in)}, nil
	}
	return nil, fmt.Errorf("%w: a part of it is encoded by %q, which is not known", ErrBroken, encoding)
}

// base64Reader decodes base64, in which all other characters are passed over (RFC 2045, 6.8), and which may be padded in between:
// there are programs that encode piece by piece.
type base64Reader struct {
	in    *bufio.Reader
	group [4]byte
	n     int
	out   []byte
	made  [3]byte
	err   error
}

func (r *base64Reader) Read(b []byte) (n int, err error) {
	for n < len(b) {
		if len(r.out) == 0 && !r.next() {
			return n, r.err
		}
		k := copy(b[n:], r.out)
		r.out, n = r.out[k:], n+k
	}
	return n, nil
}

// next decodes the next four characters.
func (r *base64Reader) next() bool {
	for r.err == nil {
		c, err := r.in.ReadByte()
		switch {
		case err == io.EOF && r.n > 0:
			r.err = fmt.Errorf("%w: base64 ends within a group of four characters: it is not whole", ErrBroken)
		case err != nil:
			r.err = err
		case c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '+' || c == '/' || c == '=' && r.n > 1:
			r.group[r.n] = c
			if r.n++; r.n < 4 {
				continue
			}
			r.n = 0
			k, err := base64.StdEncoding.Decode(r.made[:], r.group[:])
			if err != nil {
				r.err = fmt.Errorf("%w: %q is not base64", ErrBroken, r.group[:])
				return false
			}
			r.out = r.made[:k]
			return true
		}
	}
	return false
}

// mediaType reads a media type with its parameters; usual is what it is if nothing, or nothing that can be understood, is said.
func mediaType(text, usual string) (string, map[string]string) {
	kind, with, err := mime.ParseMediaType(text)
	if err == nil {
		return kind, with
	}
	// There are programs that write parameters without quotes, whatever is in them.
	kind, rest, _ := strings.Cut(text, ";")
	with = map[string]string{}
	for p := range strings.SplitSeq(rest, ";") {
		if name, v, is := strings.Cut(p, "="); is {
			with[strings.ToLower(strings.TrimSpace(name))] = strings.Trim(strings.TrimSpace(v), `"`)
		}
	}
	if kind = strings.ToLower(strings.TrimSpace(kind)); kind == "" {
		kind = usual
	}
	return kind, with
}

// extended is a parameter that says its character set (RFC 2231, 4), if that is one that package mime does not know.
func extended(text, key string) string {
	_, v, is := strings.Cut(text, key+"*=")
	if !is {
		return ""
	}
	v, _, _ = strings.Cut(v, ";")
	said := strings.SplitN(strings.Trim(strings.TrimSpace(v), `"`), "'", 3)
	if len(said) < 3 {
		return ""
	}
	raw, err := url.PathUnescape(said[2])
	if err != nil {
		return ""
	}
	out, err := UTF8([]byte(raw), said[0])
	if err != nil {
		return ""
	}
	return out
}

// fileName is the name of a part as a file, without folders.
func fileName(names ...string) string {
	for _, n := range names {
		n = words(n)
		n = n[strings.LastIndexAny(n, `/\:`)+1:]
		n = strings.TrimLeft(strings.Map(func(c rune) rune {
			if c < ' ' || c == 0x7F {
				return -1
			}
			return c
		}, n), ".")
		if n != "" {
			return n
		}
	}
	return ""
}
