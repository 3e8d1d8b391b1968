// Package api is the HTTP interface: typed operations with an OpenAPI 3.1
// document, problem documents (RFC 9457), live events (server-sent events), and
// the console's files. It has no logic of its own.
package api

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ydrion/service"
	"ydrion/store"
)

// Version of the interface.
const Version = "1"

// Config is what the interface is made of.
type Config struct {
	Service *service.Service
	Token   string
	Console fs.FS // built files, with index.html
	Log     *slog.Logger
}

// New makes the handler of all requests.
func New(c Config) http.Handler {
	e := echo.New()
	e.HTTPErrorHandler = problem(c.Log)
	e.Use(middleware.Recover(), secure, access(c.Log), lively)
	e.Use(authorize(c.Token), textual)
	operations(humaAPI(e), c.Service)
	e.GET("/api/events", events(c.Service))
	e.GET("/api/pickups/:id/original", original(c.Service))
	e.POST("/api/routes/:name/files", hand(c.Service))
	e.GET("/api/backup", backup(c.Service))
	e.POST("/receive/*", received(c.Service))
	e.PUT("/receive/*", received(c.Service))
	e.GET("/healthz", func(c *echo.Context) error { return c.JSON(http.StatusOK, map[string]string{"status": "alive"}) })
	e.GET("/readyz", func(ctx *echo.Context) error {
		if err := c.Service.Ready(ctx.Request().Context()); err != nil {
			reason := store.Unavailable(err)
			if reason == "" {
				reason = err.Error()
			}
			return echo.NewHTTPError(http.StatusServiceUnavailable, reason)
		}
		return ctx.JSON(http.StatusOK, map[string]string{"status": "ready"})
	})
	e.GET("/metrics", echo.WrapHandler(promhttp.HandlerFor(c.Service.Metrics(), promhttp.HandlerOpts{})))
	console(e, c.Console)
	return heads(e)
}

// heads answers HEAD as GET would be answered, without the body (RFC 9110, 9.3.2): the server
// leaves that out. What has no end, or would be made for nothing, is not made.
func heads(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodHead && r.URL.Path != "/api/events" && r.URL.Path != "/api/backup" {
			get := r.Clone(r.Context())
			get.Method = http.MethodGet
			r = get
		}
		next.ServeHTTP(w, r)
	})
}

// Lists are never null in the answers. The library keeps that for the whole process.
func init() { huma.DefaultArrayNullable = false }

func humaAPI(e *echo.Echo) huma.API {
	config := huma.DefaultConfig("Ydrion", Version)
	config.DocsPath = ""
	config.OpenAPIPath = "/api/openapi"
	config.SchemasPath = "/api/schemas"
	config.CreateHooks = nil // no $schema links in the answers
	config.Info.Description = "Listens for files, reads, checks and maps them, and delivers good and rejected records apart."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	config.Security = []map[string][]string{{"token": {}}}
	return huma.NewAPI(config, adapter{e})
}

// Document is the OpenAPI document, for generating clients.
func Document() ([]byte, error) {
	api := humaAPI(echo.New())
	operations(api, nil)
	return json.MarshalIndent(api.OpenAPI(), "", "  ")
}

// open are the paths that need no token: they tell nothing about the data.
func open(p string) bool {
	return !strings.HasPrefix(p, "/api/") && p != "/metrics" || strings.HasPrefix(p, "/api/openapi")
}

func authorize(token string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			given, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
			if open(r.URL.Path) || ok && subtle.ConstantTimeCompare([]byte(given), []byte(token)) == 1 {
				return next(c)
			}
			c.Response().Header().Set("WWW-Authenticate", "Bearer")
			return echo.NewHTTPError(http.StatusUnauthorized, "a valid token is needed: Authorization: Bearer …; the service prints it when it starts")
		}
	}
}

// textual refuses requests with addresses that are not text: nothing that is kept has such a
// name.
func textual(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		q, err := url.ParseQuery(c.Request().URL.RawQuery)
		if err != nil {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, "the query cannot be read: "+err.Error())
		}
		for name, values := range q {
			for _, s := range append(values, name, c.Request().URL.Path) {
				if strings.ContainsRune(s, 0) || !utf8.ValidString(s) {
					return echo.NewHTTPError(http.StatusUnprocessableEntity, "the address holds what is not a text: a NUL character, or bytes that are not UTF-8")
				}
			}
		}
		if p := c.Request().URL.Path; strings.ContainsRune(p, 0) || !utf8.ValidString(p) {
			return echo.NewHTTPError(http.StatusUnprocessableEntity, "the address holds what is not a text: a NUL character, or bytes that are not UTF-8")
		}
		return next(c)
	}
}

func secure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:")
		return next(c)
	}
}

func access(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			started := time.Now()
			err := next(c)
			log.Debug("request", "method", c.Request().Method, "path", c.Request().URL.Path, "ms", time.Since(started).Milliseconds())
			return err
		}
	}
}

// stalls is how long a sender of a request may say nothing in the middle of it.
const stalls = time.Minute

// lively ends requests whose senders say nothing any more: a body may take as long as
// it likes, as long as something comes.
func lively(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Body != nil && r.Body != http.NoBody {
			r.Body = &watchedBody{r.Body, http.NewResponseController(c.Response())}
		}
		return next(c)
	}
}

// watchedBody gives each read of a body so much time.
type watchedBody struct {
	io.ReadCloser
	control *http.ResponseController
}

func (b *watchedBody) Read(p []byte) (int, error) {
	b.control.SetReadDeadline(time.Now().Add(stalls)) //nolint: where there are none nothing is lost
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		b.control.SetReadDeadline(time.Time{}) //nolint: as above
	}
	return n, err
}

// problem answers errors with problem documents.
func problem(log *slog.Logger) echo.HTTPErrorHandler {
	return func(c *echo.Context, err error) {
		status, detail := http.StatusInternalServerError, "something went wrong inside the service; its log says what"
		var coder echo.HTTPStatusCoder
		if errors.As(err, &coder) {
			status, detail = coder.StatusCode(), http.StatusText(coder.StatusCode())
			var said *echo.HTTPError
			if errors.As(err, &said) && said.Message != "" {
				detail = said.Message
			}
		} else {
			log.Error("request failed", "path", c.Request().URL.Path, "error", err)
		}
		if status == http.StatusNotFound {
			detail = "there is nothing at " + c.Request().URL.Path
		}
		h := c.Response().Header()
		h.Set("Content-Type", "application/problem+json")
		c.Response().WriteHeader(status)
		doc := map[string]any{"title": http.StatusText(status), "status": status, "detail": detail}
		if err := json.NewEncoder(c.Response()).Encode(doc); err != nil {
			log.Debug("answering", "error", err)
		}
	}
}

// console serves the built console. Paths that are not files are pages of the
// console, except those that only the interface or the build could have.
func console(e *echo.Echo, files fs.FS) {
	if files == nil {
		return
	}
	server := http.FileServerFS(files)
	e.GET("/*", func(c *echo.Context) error {
		p := strings.TrimPrefix(path.Clean(c.Request().URL.Path), "/")
		if strings.HasPrefix(p, "api/") {
			return echo.NewHTTPError(http.StatusNotFound, "")
		}
		_, err := fs.Stat(files, p)
		switch {
		case p != "" && err == nil:
			if strings.HasPrefix(p, "assets/") {
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(c.Response(), c.Request())
			return nil
		case strings.HasPrefix(p, "assets/"):
			return echo.NewHTTPError(http.StatusNotFound, "")
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return echo.NewHTTPError(http.StatusNotFound, "the console was not built into this program: "+err.Error())
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		if sum := sha256.Sum256(page); unchanged(c, hex.EncodeToString(sum[:16])) {
			return nil
		}
		return c.HTMLBlob(http.StatusOK, page)
	})
}

// missed tells a watcher that there was more than it is told.
const missed = "event: missed\ndata: {\"kind\":\"missed\"}\n\n"

// events sends what happens as server-sent events (HTML standard, 9.2). Who names the last
// event that came gets those that came since or, if they are gone, an event `missed`.
func events(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		flusher := http.NewResponseController(c.Response())
		h := c.Response().Header()
		h.Set("Content-Type", "text/event-stream")
		h.Set("Cache-Control", "no-store")
		c.Response().WriteHeader(http.StatusOK)
		w := s.Watch(c.Request().Header.Get("Last-Event-ID"))
		defer w.Stop()
		send := func(e service.Numbered) error {
			b, err := json.Marshal(e.Event)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(c.Response(), "id: %s\nevent: %s\ndata: %s\n\n", w.Mark(e.ID), e.Kind, b)
			return err
		}
		beat := time.NewTicker(15 * time.Second)
		defer beat.Stop()
		if _, err := fmt.Fprint(c.Response(), ": watching\n\n"); err != nil {
			return nil // the watcher has gone
		}
		if w.Missed {
			if _, err := fmt.Fprint(c.Response(), missed); err != nil {
				return nil
			}
		}
		for _, e := range w.Behind {
			if send(e) != nil {
				return nil
			}
		}
		last := uint64(0)
		for {
			if err := flusher.Flush(); err != nil {
				return nil
			}
			select {
			case <-c.Request().Context().Done():
				return nil
			case <-s.Life().Done():
				return nil
			case <-beat.C:
				if _, err := fmt.Fprint(c.Response(), ": still here\n\n"); err != nil {
					return nil
				}
			case e := <-w.Events:
				if last > 0 && e.ID > last+1 { // it was too slow
					if _, err := fmt.Fprint(c.Response(), missed); err != nil {
						return nil
					}
				}
				if last = e.ID; send(e) != nil {
					return nil
				}
			}
		}
	}
}
