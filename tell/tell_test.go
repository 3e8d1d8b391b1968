package tell

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"ydrion/workspace"
)

func TestWants(t *testing.T) {
	for _, test := range []struct {
		channel     workspace.Channel
		kind, route string
		want        bool
	}{
		{workspace.Channel{}, "held", "orders", true},
		{workspace.Channel{Kinds: []string{"held", "missing"}}, "missing", "orders", true},
		{workspace.Channel{Kinds: []string{"held"}}, "missing", "orders", false},
		{workspace.Channel{Routes: []string{"spec-*"}}, "held", "spec-orders", true},
		{workspace.Channel{Routes: []string{"spec-*"}}, "held", "weights", false},
		{workspace.Channel{Routes: []string{"spec-*"}}, "disk low", "", true}, // it is about none
	} {
		if got := Wants(&test.channel, test.kind, test.route); got != test.want {
			t.Errorf("%+v, %s of %q: %v", test.channel, test.kind, test.route, got)
		}
	}
}

// TestWhatGoesWrong: a channel that does not take a note says so; nothing is
// taken for sent.
func TestWhatGoesWrong(t *testing.T) {
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) }))
	defer refusing.Close()
	for says, c := range map[string]workspace.Channel{
		"418":                       {Webhook: refusing.URL},
		"refused":                   {Webhook: "http://127.0.0.1:1/"},
		"with the key of channel x": {Name: "x", Webhook: refusing.URL, Secret: "NO_SUCH_VARIABLE_IS_SET"},
		"the mail server":           {Server: "mail.example", From: "a@b.example", To: []string{"c@d.example"}},
		"connect":                   {Server: "127.0.0.1:1", From: "a@b.example", To: []string{"c@d.example"}},
		"address":                   {Server: "127.0.0.1:1", From: "nobody", To: []string{"c@d.example"}},
	} {
		if err := Send(context.Background(), &c, Note{}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v, want %q", c, err, says)
		}
	}
}
