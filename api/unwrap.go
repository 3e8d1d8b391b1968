package api

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"

	"ydrion/receive"
)

// errWrapped says that what was sent cannot be taken out of what it was sent in.
var errWrapped = errors.New("what was sent cannot be read")

// notForm says what is wrong with a form.
const notForm = "it is not a form, as its Content-Type says, or not whole"

// unwrap gives what was sent without what it was sent in: what is compressed for the way (RFC 9110, Content-Encoding) as it was, and of a
// form (RFC 7578) its file. The end of the body is read before the end of the content is told: only then is sure that it is whole,
// and signed as it should be.
func unwrap(h http.Header, body io.Reader, most int64) (content io.Reader, name, kind string, err error) {
	kind = h.Get("Content-Type")
	if _, with, err := mime.ParseMediaType(h.Get("Content-Disposition")); err == nil {
		name = with["filename"]
	}
	content = body
	switch coding := strings.ToLower(strings.TrimSpace(h.Get("Content-Encoding"))); coding {
	case "", "identity":
	case "gzip", "x-gzip":
		z, err := gzip.NewReader(body)
		if err != nil {
			return nil, "", "", wrapped("it is not compressed with gzip, as its Content-Encoding says", err, body)
		}
		content = &inside{in: receive.Bounded(z, most), of: body, says: "it is compressed, and damaged or not whole"}
	default:
		return nil, "", "", fmt.Errorf("%w: it is compressed as %q; send it as it is, or with gzip", errWrapped, coding)
	}
	media, with, bad := mime.ParseMediaType(kind)
	if bad != nil || media != "multipart/form-data" {
		return content, name, kind, nil
	}
	form := multipart.NewReader(content, with["boundary"])
	for {
		part, err := form.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil, "", "", wrapped("the form has no file (a part with a filename)", nil, body)
		}
		if err != nil {
			return nil, "", "", wrapped(notForm, err, body)
		}
		if part.FileName() == "" {
			continue
		}
		// Senders should not encode what is in forms (RFC 7578, 4.7); taken as it is, it would be other text.
		switch coding := strings.ToLower(strings.TrimSpace(part.Header.Get("Content-Transfer-Encoding"))); coding {
		case "", "7bit", "8bit", "binary":
		default:
			return nil, "", "", wrapped(fmt.Sprintf("%s is encoded as %q in the form; send it as it is", part.FileName(), coding), nil, body)
		}
		return &inside{in: part, of: content, form: form, says: notForm}, part.FileName(), part.Header.Get("Content-Type"), nil
	}
}

// wrapped says what is wrong, unless that is the body's own error: that it is not signed as it should be, or does not come.
func wrapped(says string, err error, body io.Reader) error {
	if _, own := io.Copy(io.Discard, body); own != nil && !errors.Is(own, io.ErrUnexpectedEOF) && !errors.Is(own, errWrapped) {
		return own
	}
	if err != nil && (errors.Is(err, receive.ErrTooLarge) || !isForm(err)) {
		return err
	}
	return fmt.Errorf("%w: %s", errWrapped, says)
}

// isForm tells whether an error is about what something was sent in.
func isForm(err error) bool {
	return errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) || errors.Is(err, gzip.ErrHeader) || errors.Is(err, gzip.ErrChecksum) || strings.HasPrefix(err.Error(), "multipart: ") || strings.HasPrefix(err.Error(), "flate: ") || strings.HasPrefix(err.Error(), "malformed MIME header")
}

// inside is what is in something that was sent.
type inside struct {
	in, of io.Reader
	form   *multipart.Reader // nil: it is in none
	says   string
	err    error
}

func (i *inside) Read(b []byte) (int, error) {
	if i.err != nil {
		return 0, i.err
	}
	n, err := i.in.Read(b)
	if err == nil {
		return n, nil
	}
	if err == io.EOF {
		err = i.rest()
	} else if isForm(err) {
		err = wrapped(i.says, err, i.of)
	}
	i.err = err
	return n, err
}

// rest reads to the end of what the content was in.
func (i *inside) rest() error {
	for i.form != nil {
		part, err := i.form.NextRawPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return wrapped(i.says, err, i.of)
		}
		if part.FileName() != "" {
			return wrapped("the form has more than one file; send each by itself", nil, i.of)
		}
	}
	if _, err := io.Copy(io.Discard, i.of); err != nil {
		return err
	}
	return io.EOF
}
