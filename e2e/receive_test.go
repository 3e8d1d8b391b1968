package e2e

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/workspace"
)

// receiving is an option: others send messages to the place bench, and post to the place front. It gives the address of bench.
func receiving(t testing.TB) (testbed.Option, string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	token := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(token, []byte("salt\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		e.Places["bench"] = workspace.Place{Name: "bench", Kind: "mllp", Receives: true, ListenOn: address, Connections: 30, Patience: 5 * time.Second, Largest: 100_000}
		e.Places["front"] = workspace.Place{Name: "front", Kind: "http", Receives: true, Token: workspace.Secret{File: token}, Connections: 2, Patience: 5 * time.Second, Largest: 100_000}
		c.Environment = &e
	}), address
}

// results is a route that takes results by MLLP, and makes rows of them.
func results(answer string) map[string]string {
	return map[string]string{
		"routes/results.yaml": `route: results
listen: {place: bench, names: "*.hl7", answer: ` + answer + `}
read: {format: hl7}
check: {description: standard}
map: maps/result.map
deliver: {folder: "{laboratory}/results", name: "{MSH-10}.csv"}
rejected: {folder: "{stations}/rejected"}
`,
		"maps/result.map":    "map result\nsource hl7\ntarget csv based on samples/result.csv\n\nid = MSH-10\nanimal = PID-3.1\n",
		"samples/result.csv": "id,animal\n",
	}
}

func oru(id, animal string) string {
	return "MSH|^~\\&|LAB|HOLM|SKERRY|ANSEL|20261129101500||ORU^R01^ORU_R01|" + id + "|P|2.5\rPID|1||" + animal + "^^^SKERRY||Doe^Jane\rOBR|1|||WBC^White cells^L\rOBX|1|NM|WBC^White cells^L||7.5|10*9/L|||||F\r"
}

// sender sends messages in frames, as a plain program does.
type sender struct {
	t testing.TB
	net.Conn
	in *bufio.Reader
}

func dialSender(t testing.TB, address string) *sender {
	t.Helper()
	var c net.Conn
	testbed.Until(t, "messages are taken", func() bool {
		var err error
		c, err = net.Dial("tcp", address)
		return err == nil
	})
	t.Cleanup(func() { c.Close() })
	return &sender{t, c, bufio.NewReader(c)}
}

// hears gives the next acknowledgement: code, control id and what it says.
func (s *sender) hears() (code, of, says string) {
	s.t.Helper()
	if err := s.SetReadDeadline(time.Now().Add(10 * time.Second)); err != nil {
		s.t.Fatal(err)
	}
	frame, err := s.in.ReadString(0x1C)
	if err != nil {
		return err.Error(), "", ""
	}
	if b, err := s.in.ReadByte(); err != nil || b != '\r' || frame[0] != 0x0B {
		s.t.Fatalf("%q is not a frame (%v)", frame, err)
	}
	segments := strings.Split(strings.Trim(frame, "\x0B\x1C\r"), "\r")
	msh, msa := strings.Split(segments[0], "|"), strings.Split(segments[1], "|")
	if msh[0] != "MSH" || !strings.HasPrefix(msh[8], "ACK") || msa[0] != "MSA" {
		s.t.Fatalf("%q is not an acknowledgement", frame)
	}
	if len(msa) > 3 {
		says = msa[3]
	}
	return msa[1], msa[2], says
}

func (s *sender) send(parts ...string) {
	s.t.Helper()
	for _, p := range parts {
		if _, err := io.WriteString(s, p); err != nil {
			s.t.Fatal(err)
		}
		if len(parts) > 1 {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

func frame(message string) string { return "\x0B" + message + "\x1C\r" }

// TestReceivedByMLLP: messages are acknowledged when what became of them is committed, each by itself, however they come.
func TestReceivedByMLLP(t *testing.T) {
	t.Parallel()
	with, address := receiving(t)
	b := testbed.Start(t, with)
	b.Publish(results("committed"))
	s := dialSender(t, address)
	s.send(frame(oru("A1", "T-0816")))
	if code, of, _ := s.hears(); code != "AA" || of != "A1" {
		t.Errorf("%s of %s", code, of)
	}
	testbed.Until(t, "it is delivered", func() bool { return strings.Join(b.List("laboratory/results"), " ") == "A1.csv" })
	if got := b.Read("laboratory/results/A1.csv"); got != "id,animal\nA1,T-0816\n" {
		t.Errorf("%q", got)
	}
	// In pieces; two at once, with something between them; with another separator, and one that asks for an accept acknowledgement.
	m := frame(oru("A2", "T-1"))
	s.send(m[:1], m[1:40], m[40:len(m)-1], m[len(m)-1:])
	s.send(frame(oru("A3", "T-2")) + "\r\n" + frame(strings.Replace(oru("A4", "T-3"), "|P|2.5", "|P|2.5|||AL|NE", 1)))
	s.send(frame(strings.ReplaceAll(oru("A5", "T-4"), "|", "#")))
	for _, want := range []string{"AA A2", "AA A3", "CA A4"} {
		if code, of, says := s.hears(); code+" "+of != want {
			t.Errorf("%s %s %s, not %s", code, of, says, want)
		}
	}
	if ack, err := s.in.ReadString(0x1C); err != nil || !strings.Contains(ack, "MSA#AA#A5") {
		t.Errorf("%q %v", ack, err)
	}
	if b, err := s.in.ReadByte(); err != nil || b != '\r' {
		t.Errorf("%q %v", b, err)
	}
	// What is wrong is said; what is no message is refused; the connection goes on.
	s.send(frame(strings.Replace(oru("A6", "T-5"), "|NM|", "|XX|", 1)))
	if code, of, says := s.hears(); code != "AE" || of != "A6" || says == "" {
		t.Errorf("%s of %s: %s", code, of, says)
	}
	s.send(frame("PID|1||T-6\r"))
	if code, _, says := s.hears(); code != "AR" || !strings.Contains(says, "does not begin with MSH") {
		t.Errorf("%s: %s", code, says)
	}
	s.send(frame(oru("A7", strings.Repeat("x", 200_000))))
	if code, of, says := s.hears(); code != "AR" || of != "A7" || !strings.Contains(says, "more than 100000 bytes") {
		t.Errorf("%s of %s: %s", code, of, says)
	}
	// A sender who goes away in the middle has sent nothing.
	half := dialSender(t, address)
	half.send(frame(oru("A8", "T-7"))[:60])
	half.Close()
	// Twenty at once.
	errs := make(chan string, 20)
	for i := range 20 {
		go func() {
			one := dialSender(t, address)
			one.send(frame(oru(fmt.Sprintf("B%d", i), "T-8")))
			code, of, says := one.hears()
			errs <- strings.TrimSpace(code + " " + of + " " + says)
		}()
	}
	for range 20 {
		if got := <-errs; !strings.HasPrefix(got, "AA B") {
			t.Error(got)
		}
	}
	testbed.Until(t, "all are delivered", func() bool { return len(b.List("laboratory/results")) == 25 })
	if _, said := command(b, "places"); !strings.Contains(said, "others send to "+address) {
		t.Error(said)
	}
	if code, said := command(b, "places", "try", "bench"); code != 0 || !strings.Contains(said, "somebody listens there") {
		t.Errorf("%d: %s", code, said)
	}
	// It takes no more when the route is stopped.
	if code, said := command(b, "stop", "results"); code != 0 {
		t.Fatal(said)
	}
	testbed.Until(t, "nobody listens", func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err != nil
	})
}

// TestAcknowledgedOnce: a service ends, and another goes on, while messages come from a sender who sends again what was not
// acknowledged. What was acknowledged has come, and nothing that came twice comes out twice.
func TestAcknowledgedOnce(t *testing.T) {
	t.Parallel()
	with, address := receiving(t)
	data, database := t.TempDir(), testbed.Database(t)
	publish := results("stored")
	publish["routes/results.yaml"] = strings.Replace(publish["routes/results.yaml"], "read:", "duplicates: {key: \"{MSH-10}\", same key: reject, content: pass}\nread:", 1)
	b := testbed.Start(t, testbed.In(data, database), with)
	b.Publish(publish)
	stop, acknowledged := make(chan struct{}), make(chan int, 1)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				acknowledged <- n
				return
			default:
			}
			c, err := net.Dial("tcp", address)
			if err != nil {
				time.Sleep(20 * time.Millisecond)
				continue
			}
			in := bufio.NewReader(c)
			for err == nil {
				select {
				case <-stop:
					err = io.EOF
					continue
				default:
				}
				if _, err = io.WriteString(c, frame(oru(fmt.Sprintf("M%d", n), "T-1"))); err != nil {
					break
				}
				var ack string
				if ack, err = in.ReadString(0x1C); err == nil && strings.Contains(ack, fmt.Sprintf("MSA|AA|M%d\r", n)) {
					n++
				}
				time.Sleep(2 * time.Millisecond) // what comes has to be worked on, too
			}
			c.Close()
		}
	}()
	for range 2 {
		time.Sleep(700 * time.Millisecond)
		if err := b.End(); err != nil {
			t.Fatal(err)
		}
		b = testbed.Start(t, testbed.In(data, database), with)
	}
	time.Sleep(500 * time.Millisecond)
	close(stop)
	n := <-acknowledged
	if n < 50 {
		t.Errorf("only %d messages", n)
	}
	testbed.Until(t, "all have come out", func() bool { return len(b.List("laboratory/results")) >= n })
	testbed.Until(t, "nothing is open", func() bool {
		open := 1
		b.Ask(&open, `select count(*) from pickups where ended_at is null`)
		return open == 0
	})
	for _, name := range b.List("laboratory/results") {
		if strings.Contains(name, "-") {
			t.Errorf("%s came out twice", name)
		}
	}
	t.Logf("%d messages", n)
}

// TestReceivedWithAKey: who shows the token in the header that the place names is let in, and nobody who shows it elsewhere.
func TestReceivedWithAKey(t *testing.T) {
	t.Parallel()
	with, _ := receiving(t)
	b := testbed.Start(t, with, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		front := e.Places["front"]
		front.TokenHeader = "X-Api-Key"
		e.Places["front"] = front
		c.Environment = &e
	}))
	r := fromHolm(t, "")
	r["routes/specimen-orders.yaml"] = strings.Replace(r["routes/specimen-orders.yaml"], "{place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms}", "{place: front/orders, names: \"*.csv\"}", 1)
	b.Publish(r)
	for header, want := range map[[2]string]int{{"X-Api-Key", "salt"}: 202, {"X-Api-Key", "pepper"}: 401, {"X-Api-Key", ""}: 401, {"Authorization", "Bearer salt"}: 401, {"X-Key", "salt"}: 401} {
		q, err := http.NewRequest("POST", b.URL+"/receive/front/orders?name=a.csv", strings.NewReader(heading+row(1)))
		if err != nil {
			t.Fatal(err)
		}
		q.Header.Set(header[0], header[1])
		answer, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close() //nolint: its status says all
		if answer.StatusCode != want {
			t.Errorf("%v: %s", header, answer.Status)
		}
	}
	b.Ended("a.csv", 0)
}

// TestReceivedByHTTP: what is posted to a route's own address goes on like a file, and is answered for as the route says.
func TestReceivedByHTTP(t *testing.T) {
	t.Parallel()
	with, _ := receiving(t)
	b := testbed.Start(t, with)
	r := fromHolm(t, "")
	r["routes/specimen-orders.yaml"] = strings.Replace(r["routes/specimen-orders.yaml"], "{place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms}", "{place: front/orders, names: \"*.csv\"}", 1)
	b.Publish(r)
	send := func(method, address, token, content string) (int, service.Received) {
		t.Helper()
		q, err := http.NewRequest(method, b.URL+address, strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		q.Header.Set("Content-Type", "text/csv")
		q.Header.Set("Authorization", "Bearer "+token)
		answer, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		var out service.Received
		if answer.StatusCode < 300 || answer.StatusCode == 422 {
			if err := json.NewDecoder(answer.Body).Decode(&out); err != nil {
				t.Error(err)
			}
		}
		return answer.StatusCode, out
	}
	post := func(path, token, name, content string) (int, service.Received) {
		t.Helper()
		return send("POST", path+"?name="+url.QueryEscape(name), token, content)
	}
	code, out := post("/receive/front/orders", "salt", "a.csv", heading+row(1))
	if code != 202 || out.Pickup != 1 || out.Name != "a.csv" || out.Route != "specimen-orders" {
		t.Errorf("%d %+v", code, out)
	}
	if p := b.Ended("a.csv", 0); p.Good != 1 || p.Path != "{front}/orders/a.csv" {
		t.Errorf("%+v", p)
	}
	if code, out := post("/receive/front/orders", "salt", "", heading+row(2)); code != 202 || !strings.HasSuffix(out.Name, ".csv") {
		t.Errorf("%d %+v", code, out)
	}
	for address, name := range map[string]string{"/receive/front/orders/put%20%C3%B8.csv": "put ø.csv", "/receive/front/orders/put.csv?name=other.csv": "put.csv", "/receive/front/orders/?name=p.csv": "p.csv"} {
		if code, out := send("PUT", address, "salt", heading+row(2)); code != 202 || out.Name != name {
			t.Errorf("%s: %d %+v", address, code, out)
		}
	}
	if code, _ := send("PUT", "/receive/front/orders", "salt", heading+row(2)); code != 503 { // a file below what no route takes
		t.Errorf("%d", code)
	}
	for path, want := range map[string]int{"/receive/front/orders": 401, "/receive/none/orders": 404} {
		if code, _ := post(path, "pepper", "x.csv", "x"); code != want {
			t.Errorf("%s: %d", path, code)
		}
	}
	if code, _ := post("/receive/front/other", "salt", "x.csv", "x"); code != 503 {
		t.Errorf("%d", code)
	}
	if code, _ := post("/receive/front/orders", "salt", "x.csv", strings.Repeat("x", 200_000)); code != 413 {
		t.Errorf("%d", code)
	}
	if code, _ := post("/receive/front/orders", "salt", "../../../x.csv", heading+row(3)); code != 202 {
		t.Errorf("%d", code)
	}
	b.Ended("x.csv", 0)
	// Answered when it is committed.
	r["routes/specimen-orders.yaml"] = strings.Replace(r["routes/specimen-orders.yaml"], "names: \"*.csv\"}", "names: \"*.csv\", answer: committed}", 1)
	b.Publish(r)
	if code, out := post("/receive/front/orders", "salt", "b.csv", heading+row(4)); code != 200 || out.Pickup == 0 || out.State != "committed" && out.State != "delivered" {
		t.Errorf("%d %+v", code, out)
	}
	// Several of one name at once: each is answered for by itself.
	names := make(chan string, 6)
	for i := range 6 {
		go func() {
			code, out := post("/receive/front/orders", "salt", "same.csv", heading+row(10+i))
			names <- fmt.Sprint(code, " ", out.Name)
		}()
	}
	for range 6 {
		if got := <-names; !strings.HasPrefix(got, "200 same") {
			t.Errorf("%s", got)
		}
	}
	if code, out := post("/receive/front/orders", "salt", "c.csv", heading+strings.Replace(row(5), "36.5", "x", 1)); code != 422 || out.State != "rejected" || out.Reason == "" {
		t.Errorf("%d %+v", code, out)
	}
}

// TestSigned: what is posted to us with a signature is taken if that is right, and what we post has one that others can work out.
func TestSigned(t *testing.T) {
	t.Parallel()
	web, err := standin.NewHTTP("127.0.0.1:0", nil, "")
	if err != nil {
		t.Fatal(err)
	}
	defer web.Close()
	key := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(key, []byte("salt and ice\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		e.Places["front"] = workspace.Place{Name: "front", Kind: "http", Receives: true, SigningKey: workspace.Secret{File: key}, Signature: "X-Signed", Connections: 2, Patience: 5 * time.Second, Largest: 100_000}
		e.Places["desk"] = workspace.Place{Name: "desk", Kind: "http", Method: "POST", Address: &url.URL{Scheme: "http", Host: web.Address()}, SigningKey: workspace.Secret{File: key}, Signature: "X-Signed", Connections: 2, Patience: 5 * time.Second}
		c.Environment = &e
	}))
	b.Publish(map[string]string{"routes/through.yaml": "route: through\nlisten: {place: front/orders}\nread: {format: file}\ndeliver: {place: desk/orders, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
	signature := func(content string) string { // HMAC with SHA-256, written out as RFC 2104 has it
		pad := func(with byte) (out [64]byte) {
			copy(out[:], "salt and ice")
			for i := range out {
				out[i] ^= with
			}
			return out
		}
		inner, outer := pad(0x36), pad(0x5C)
		within := sha256.Sum256(append(inner[:], content...))
		return fmt.Sprintf("sha256=%x", sha256.Sum256(append(outer[:], within[:]...)))
	}
	post := func(name, content, signature string) int {
		t.Helper()
		q, err := http.NewRequest("POST", b.URL+"/receive/front/orders?name="+name, strings.NewReader(content))
		if err != nil {
			t.Fatal(err)
		}
		q.Header.Set("X-Signed", signature)
		answer, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	content := strings.Repeat("a seal, ", 10_000)
	for name, as := range map[string]string{"none": "", "other": signature("x"), "cut": signature(content)[:20]} {
		if code := post(name, content, as); code != 401 {
			t.Errorf("%s: %d", name, code)
		}
	}
	if code := post("right", content, signature(content)); code != 202 {
		t.Fatal(code)
	}
	b.Ended("right", 0)
	taken := web.Taken()
	if len(taken) != 1 || string(taken[0].Content) != content || taken[0].Header.Get("X-Signed") != signature(content) {
		t.Errorf("%d came", len(taken))
	}
	page, err := b.Client.Pickups(context.Background(), url.Values{"route": {"through"}})
	if err != nil || len(page.Items) != 1 {
		t.Errorf("%+v %v", page.Items, err)
	}
}

// TestPostedInForms: a file that is posted in a form, or compressed for the way, is taken out of that; what is damaged, forged or too large is not
// taken, nor is what is in it.
func TestPostedInForms(t *testing.T) {
	t.Parallel()
	key := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(key, []byte("salt and ice\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b := testbed.Start(t, testbed.With(func(c *service.Config) {
		e := *c.Environment
		e.Places = maps.Clone(e.Places)
		e.Places["front"] = workspace.Place{Name: "front", Kind: "http", Receives: true, SigningKey: workspace.Secret{File: key}, Signature: "X-Signed", Connections: 2, Patience: 5 * time.Second, Largest: 100_000}
		c.Environment = &e
	}))
	b.Publish(map[string]string{"routes/through.yaml": "route: through\nlisten: {place: front/orders}\nread: {format: file}\ndeliver: {folder: \"{laboratory}/posted\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"})
	squeezed := func(s string) string {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		io.WriteString(z, s) //nolint: into memory
		z.Close()            //nolint: the same
		return out.String()
	}
	const of = "multipart/form-data; boundary=xx"
	field := "--xx\r\nContent-Disposition: form-data; name=\"station\"\r\n\r\nAnsel\r\n"
	file := func(name, content string) string {
		return "--xx\r\nContent-Disposition: form-data; name=\"f\"; filename=\"" + name + "\"\r\nContent-Type: text/csv\r\n\r\n" + content + "\r\n"
	}
	const sheet = "id\r\n1\r\n--x\r\n"
	long := strings.Repeat("a seal, ", 12_000)
	for _, test := range []struct {
		name, body, kind, coding string
		unsigned                 bool
		code                     int
		says, content            string // what comes out under the name
	}{
		{"form.csv", field + file("C:\\sheets\\form.csv", sheet) + field + "--xx--\r\n", of, "", false, 202, "", sheet},
		{"pressed.csv", squeezed(field + file("pressed.csv", sheet) + "--xx--\r\n"), of, "gzip", false, 202, "", sheet},
		{"long.csv", file("long.csv", long) + "--xx--", of, "", false, 202, "", long},
		{"", squeezed(long), "text/csv", "gzip", false, 202, "", ""},
		{"none.csv", field + "--xx--\r\n", of, "", false, 400, "the form has no file", ""},
		{"two.csv", file("two.csv", sheet) + file("three.csv", sheet) + "--xx--\r\n", of, "", false, 400, "the form has more than one file; send each by itself", ""},
		{"cut.csv", file("cut.csv", sheet), of, "", false, 400, "not whole", ""},
		{"cut2.csv", "--xx\r\nContent-Disposition: form-data; name=\"f\"; filename=\"cut2.csv\"\r\n\r\nid\r\n1", of, "", false, 400, "not whole", ""},
		{"coded.csv", strings.Replace(file("coded.csv", "aWQNCjENCg=="), "text/csv", "text/csv\r\nContent-Transfer-Encoding: base64", 1) + "--xx--\r\n", of, "", false, 400, "coded.csv is encoded as \"base64\" in the form; send it as it is", ""},
		{"odd.csv", sheet, of, "", false, 400, "the form has no file", ""},
		{"short.csv", squeezed(long)[:150], "text/csv", "gzip", false, 400, "damaged or not whole", ""},
		{"plain.csv", sheet, "text/csv", "gzip", false, 400, "it is not compressed with gzip, as its Content-Encoding says", ""},
		{"brotli.csv", sheet, "text/csv", "br", false, 400, "it is compressed as \"br\"; send it as it is, or with gzip", ""},
		{"bomb.csv", squeezed(strings.Repeat("0", 40<<20)), "text/csv", "gzip", false, 413, "larger than may be", ""},
		{"bomb2.csv", squeezed(field + strings.Repeat("0", 40<<20)), of, "gzip", false, 413, "larger than may be", ""},
		{"large.csv", file("large.csv", long+long) + "--xx--", of, "", false, 413, "larger than may be", ""},
		{"forged.csv", file("forged.csv", sheet) + "--xx--\r\n", of, "", true, 401, "", ""},
		{"forged2.csv", file("forged2.csv", sheet), of, "", true, 401, "", ""},
		{"forged3.csv", squeezed(sheet), "text/csv", "gzip", true, 401, "", ""},
	} {
		q, err := http.NewRequest("POST", b.URL+"/receive/front/orders", strings.NewReader(test.body))
		if err != nil {
			t.Fatal(err)
		}
		of := hmac.New(sha256.New, []byte("salt and ice"))
		io.WriteString(of, test.body) //nolint: it does not fail
		if q.Header.Set("X-Signed", fmt.Sprintf("sha256=%x", of.Sum(nil))); test.unsigned {
			q.Header.Set("X-Signed", "sha256=00")
		}
		q.Header.Set("Content-Type", test.kind)
		if test.coding != "" {
			q.Header.Set("Content-Encoding", test.coding)
		}
		answer, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Fatal(test.name, err)
		}
		said, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		if err != nil || answer.StatusCode != test.code || !strings.Contains(string(said), strings.ReplaceAll(test.says, `"`, `\"`)) {
			t.Errorf("%s: %d %s %v", test.name, answer.StatusCode, said, err)
		}
		if test.content != "" {
			b.Ended(test.name, 0)
			if got, err := os.ReadFile(b.Path("laboratory/posted", test.name)); err != nil || string(got) != test.content {
				t.Errorf("%s: %d bytes, %v", test.name, len(got), err)
			}
		}
	}
	testbed.Until(t, "four have come, and no other", func() bool { return len(b.List("laboratory/posted")) == 4 })
	page, err := b.Client.Pickups(context.Background(), url.Values{})
	if err != nil || len(page.Items) != 4 {
		t.Errorf("%+v %v", page, err)
	}
}

// TestAnsweredWithOutput: who posts something is answered with what was made of it, wherever that goes.
func TestAnsweredWithOutput(t *testing.T) {
	t.Parallel()
	holm := sftpPartner(t, t.TempDir(), "127.0.0.1:0")
	with, _ := receiving(t)
	b := testbed.Start(t, with, holm.at())
	for _, to := range []string{"{folder: \"{laboratory}/orders\", name: \"{file.stem}.hl7\"}", "{place: holm/in, name: \"{file.stem}.hl7\"}"} {
		r := fromHolm(t, "")
		text := strings.Replace(r["routes/specimen-orders.yaml"], "{place: holm/out, names: \"*.csv\", rhythm: 200ms, quiet: 300ms}", "{place: front/orders, names: \"*.csv\", answer: output}", 1)
		r["routes/specimen-orders.yaml"] = strings.Replace(text, "{folder: \"{laboratory}/orders\", name: \"{file.folder}{file.stem}.hl7\"}", to, 1)
		b.Publish(r)
		for n := range 5 {
			q, err := http.NewRequest("POST", fmt.Sprintf("%s/receive/front/orders?name=s%d.csv", b.URL, n), strings.NewReader(heading+row(n)+row(n+10)))
			if err != nil {
				t.Fatal(err)
			}
			q.Header.Set("Authorization", "Bearer salt")
			answer, err := http.DefaultClient.Do(q)
			if err != nil {
				t.Fatal(err)
			}
			content, err := io.ReadAll(answer.Body)
			if err := errors.Join(err, answer.Body.Close()); err != nil {
				t.Fatal(err)
			}
			if answer.StatusCode != 200 || strings.Count(string(content), "MSH|") != 2 || !strings.Contains(string(content), fmt.Sprintf("AP-%06d", n)) || answer.Header.Get("Ydrion-Pickup") == "" {
				t.Errorf("%s %v: %q", answer.Status, answer.Header, content)
			}
		}
	}
	q, err := http.NewRequest("POST", b.URL+"/receive/front/orders?name=bad.csv", strings.NewReader("x"))
	if err != nil {
		t.Fatal(err)
	}
	q.Header.Set("Authorization", "Bearer salt")
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var out service.Received
	if err := json.NewDecoder(answer.Body).Decode(&out); err != nil || answer.StatusCode != 422 || out.Reason == "" {
		t.Errorf("%s %+v %v", answer.Status, out, err)
	}
}
