package remote

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"ydrion/workspace"
)

// TestValueAt: what an answer says of the next page is found, and an answer that is cut is not taken for one that says nothing.
func TestValueAt(t *testing.T) {
	const bundle = `{"link": [{"relation": "self", "url": "/a"}, {"x": 1}, 7, {"relation": "next", "url": "/b"}, {"relation": "next", "url": "/c"}], "entry": [{"link": "no"}], "n/x": {"~": 12.50}, "none": null, "no": false, "empty": "", "next": {"next": "/d"}, "next ": 1}`
	for path, want := range map[string]string{
		"/link/relation=next/url": "/b", "/link/3/url": "/b", "/link/relation=last/url": "", "/n~1x/~0": "12.50", "/none": "", "/no": "", "/empty": "", "/missing": "", "/next": "", "/next/next": "/d", "/link": "", "/link/2": "7", "/entry/0/link": "no",
	} {
		names := strings.Split(path[1:], "/")
		for i, n := range names {
			names[i] = strings.NewReplacer("~1", "/", "~0", "~").Replace(n)
		}
		if got, err := valueAt(json.NewDecoder(strings.NewReader(bundle)), names); err != nil || got != want {
			t.Errorf("%s: %q %v, not %q", path, got, err, want)
		}
	}
	for n := range len(bundle) {
		if got, err := valueAt(json.NewDecoder(strings.NewReader(bundle[:n])), []string{"next", "next"}); err == nil {
			t.Errorf("%q gives %q", bundle[:n], got)
		}
	}
	for _, text := range []string{bundle + bundle, "id,name\n1,2\n", "<html>", strings.Repeat("[", 2_000_000), strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000)} {
		if got, err := valueAt(json.NewDecoder(strings.NewReader(text)), []string{"next"}); err == nil {
			t.Errorf("%.20q gives %q", text, got)
		}
	}
}

// TestNextPage: pages are followed by what an answer says, as an address or as what is asked for with a parameter.
func TestNextPage(t *testing.T) {
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.RequestURI())
		w.Header().Set("Content-Type", "application/json")
		switch r.URL.RequestURI() {
		case "/orders?open=1":
			fmt.Fprint(w, `{"links": {"next": "?page=2&open=1"}, "cursor": "q &7"}`)
		case "/orders?page=2&open=1":
			fmt.Fprint(w, `{"links": {"next": "http://`+r.Host+`/orders/last"}}`)
		case "/orders?after=q+%267&open=1":
			fmt.Fprint(w, `{"cursor": null}`)
		case "/orders/last":
			fmt.Fprint(w, `{"links": {"next": null}}`)
		case "/away?open=1":
			fmt.Fprint(w, `{"links": {"next": "https://elsewhere.example/orders"}}`)
		case "/large?open=1":
			fmt.Fprint(w, `"`+strings.Repeat("x", 5000)+`"`)
		case "/round?open=1":
			fmt.Fprint(w, `{"links": {"next": "?open=1"}}`)
		default:
			fmt.Fprint(w, `<html>`)
		}
	}))
	defer server.Close()
	at, err := url.Parse(server.URL + "?open=1")
	if err != nil {
		t.Fatal(err)
	}
	get := func(folder string, path []string, by string) (names []string, err error) {
		asked = nil
		p := New(&workspace.Environment{Places: map[string]workspace.Place{"desk": {Name: "desk", Kind: "http", Address: at, NextPage: path, NextBy: by, Largest: 4096, Connections: 1, Patience: time.Minute}}})
		defer p.Close()
		err = p.With(t.Context(), "desk", func(tree Tree) error {
			all, err := tree.List(folder)
			for _, i := range all {
				names = append(names, i.Name)
			}
			return err
		})
		return names, err
	}
	for _, x := range []struct {
		folder, by string
		path       []string
		asked      []string
		names      []string
		says       string
	}{
		{"/orders", "", []string{"links", "next"}, []string{"/orders?open=1", "/orders?page=2&open=1", "/orders/last"}, []string{"orders.json", "orders-2.json", "orders-3.json"}, ""},
		{"/orders", "after", []string{"cursor"}, []string{"/orders?open=1", "/orders?after=q+%267&open=1"}, []string{"orders.json", "orders-2.json"}, ""},
		{"/orders", "", []string{"nothing"}, []string{"/orders?open=1"}, []string{"orders.json"}, ""},
		{"/away", "", []string{"links", "next"}, []string{"/away?open=1"}, nil, "its next page is on another server, elsewhere.example"},
		{"/round", "", []string{"links", "next"}, []string{"/round?open=1"}, nil, "lead in a circle"},
		{"/large", "", nil, []string{"/large?open=1"}, nil, "has more than 4096 bytes (largest)"},
		{"/html", "", []string{"links", "next"}, []string{"/html?open=1"}, nil, "what follows it cannot be found"},
	} {
		names, err := get(x.folder, x.path, x.by)
		if !slices.Equal(names, x.names) || !slices.Equal(asked, x.asked) || (err == nil) != (x.says == "") || err != nil && !strings.Contains(err.Error(), x.says) {
			t.Errorf("%+v: %q %q %v", x, names, asked, err)
		}
	}
}
