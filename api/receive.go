package api

import (
	"cmp"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"ydrion/receive"
	"ydrion/service"
)

// received takes what others send to a route's own address, /receive/PLACE/FOLDER, or with PUT to that of a file in it. It is let in by the token of the place, not by that of the
// service.
func received(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		place, below, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/receive/"), "/")
		below, put := path.Join("/", below), ""
		if r.Method == http.MethodPut && !strings.HasSuffix(r.URL.Path, "/") {
			below, put = path.Dir(below), path.Base(below)
		}
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		unwrapped := func(body io.Reader, most int64) (content io.Reader, name, kind string, err error) {
			content, name, kind, err = unwrap(r.Header, body, most)
			return content, cmp.Or(put, r.URL.Query().Get("name"), name), kind, err
		}
		out, err := s.Receive(r.Context(), service.Sent{Place: place, Below: below, Token: token, Header: r.Header.Get, Body: r.Body, Unwrap: unwrapped})
		switch {
		case errors.Is(err, service.ErrNotLetIn):
			c.Response().Header().Set("WWW-Authenticate", "Bearer")
			return echo.NewHTTPError(http.StatusUnauthorized, err.Error())
		case errors.Is(err, service.ErrNoReceiver):
			return echo.NewHTTPError(http.StatusServiceUnavailable, err.Error())
		case errors.Is(err, errWrapped):
			return echo.NewHTTPError(http.StatusBadRequest, err.Error())
		case errors.Is(err, receive.ErrTooLarge):
			return echo.NewHTTPError(http.StatusRequestEntityTooLarge, err.Error())
		case err != nil:
			return plainProblem(err)
		}
		status := http.StatusAccepted
		if out.Safe {
			status = http.StatusOK
		}
		if out.State == "rejected" {
			status = http.StatusUnprocessableEntity
		}
		if out.Output == nil {
			return c.JSON(status, out)
		}
		defer out.Output.Content.Close()
		h := c.Response().Header()
		h.Set("Ydrion-Pickup", strconv.FormatInt(out.Pickup, 10))
		h.Set("Content-Length", strconv.FormatInt(out.Output.Size, 10))
		h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(out.Output.Name))
		kind := mime.TypeByExtension(path.Ext(out.Output.Name))
		if kind == "" {
			kind = "application/octet-stream"
		}
		return c.Stream(status, kind, out.Output.Content)
	}
}
