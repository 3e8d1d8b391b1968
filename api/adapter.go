package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"
)

// adapter lets typed operations be served by Echo.
type adapter struct{ echo *echo.Echo }

func (a adapter) ServeHTTP(w http.ResponseWriter, r *http.Request) { a.echo.ServeHTTP(w, r) }

func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.echo.Add(op.Method, path, func(c *echo.Context) error {
		x := &exchange{operation: op, echo: c}
		if op.Method == http.MethodGet {
			x.kept = &bytes.Buffer{}
		}
		handler(x)
		return x.send()
	})
}

// send answers a GET: with what was written or, if the client has just that, by saying so
// (RFC 9110, 13.1.2). Answers are pages, so that they can be kept until they are whole. What
// holds data of files is not to be kept by those in between, nor by the browser on a disk.
func (x *exchange) send() error {
	if x.kept == nil {
		return nil
	}
	response, path := x.echo.Response(), x.echo.Request().URL.Path
	if x.status == 0 {
		x.status = http.StatusOK
	}
	if x.status == http.StatusOK {
		response.Header().Set("Cache-Control", "private, no-cache")
		if strings.HasPrefix(path, "/api/samples") || strings.HasPrefix(path, "/api/runs") {
			response.Header().Set("Cache-Control", "no-store")
		}
		sum := sha256.Sum256(x.kept.Bytes())
		if unchanged(x.echo, hex.EncodeToString(sum[:16])) {
			return nil
		}
	}
	response.WriteHeader(x.status)
	_, err := response.Write(x.kept.Bytes())
	return err
}

// unchanged names the content of an answer, and answers that it has not changed if the client
// names it, too.
func unchanged(c *echo.Context, content string) bool {
	tag := `"` + content + `"`
	c.Response().Header().Set("ETag", tag)
	for _, has := range strings.Split(c.Request().Header.Get("If-None-Match"), ",") {
		if has = strings.TrimSpace(has); has == "*" || strings.TrimPrefix(has, "W/") == tag {
			c.Response().Header().Del("Content-Type")
			c.Response().WriteHeader(http.StatusNotModified)
			return true
		}
	}
	return false
}

// exchange is one request and its response.
type exchange struct {
	operation *huma.Operation
	echo      *echo.Context
	status    int
	kept      *bytes.Buffer // the answer to a GET
}

var _ huma.Context = (*exchange)(nil)

func (x *exchange) Operation() *huma.Operation { return x.operation }
func (x *exchange) Context() context.Context   { return x.echo.Request().Context() }
func (x *exchange) TLS() *tls.ConnectionState  { return x.echo.Request().TLS }
func (x *exchange) Method() string             { return x.echo.Request().Method }
func (x *exchange) Host() string               { return x.echo.Request().Host }
func (x *exchange) RemoteAddr() string         { return x.echo.Request().RemoteAddr }
func (x *exchange) URL() url.URL               { return *x.echo.Request().URL }
func (x *exchange) Param(name string) string   { return param(x.echo, name) }
func (x *exchange) Query(name string) string   { return x.echo.QueryParam(name) }
func (x *exchange) Header(name string) string  { return x.echo.Request().Header.Get(name) }
func (x *exchange) BodyReader() io.Reader      { return x.echo.Request().Body }
func (x *exchange) Status() int                { return x.status }

// param is a part of the path, decoded: an address that encodes more than it must (RFC 3986,
// 6.2.2.2) is the same address.
func param(c *echo.Context, name string) string {
	value := c.Param(name)
	if c.Request().URL.RawPath == "" { // then the path has been decoded already
		return value
	}
	if decoded, err := url.PathUnescape(value); err == nil {
		return decoded
	}
	return value
}

func (x *exchange) Version() huma.ProtoVersion {
	r := x.echo.Request()
	return huma.ProtoVersion{Proto: r.Proto, ProtoMajor: r.ProtoMajor, ProtoMinor: r.ProtoMinor}
}

func (x *exchange) EachHeader(each func(name, value string)) {
	for name, values := range x.echo.Request().Header {
		for _, v := range values {
			each(name, v)
		}
	}
}

func (x *exchange) GetMultipartForm() (*multipart.Form, error) { return x.echo.MultipartForm() }

func (x *exchange) SetReadDeadline(t time.Time) error {
	return huma.SetReadDeadline(x.echo.Response(), t)
}

func (x *exchange) BodyWriter() io.Writer {
	if x.kept != nil {
		return x.kept
	}
	return x.echo.Response()
}

func (x *exchange) SetStatus(code int) {
	if x.status = code; x.kept == nil {
		x.echo.Response().WriteHeader(code)
	}
}

func (x *exchange) SetHeader(name, value string)    { x.echo.Response().Header().Set(name, value) }
func (x *exchange) AppendHeader(name, value string) { x.echo.Response().Header().Add(name, value) }
