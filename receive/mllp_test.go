package receive

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"net"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"ydrion/files"
	"ydrion/standin"
)

const message = "\x0BMSH|^~\\&|A|B|C|D|20261129||ADT^A01|17|P|2.5\rPID|1\r\x1C\r"

// taking starts what takes messages, and gives how to connect to it.
func taking(t *testing.T, m *MLLP) func() net.Conn {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	m.Address = l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	m.Box, m.Answers, m.Largest, m.Log = &Box{FS: files.Real{}, Folder: folder, Mark: "x"}, &Answers{}, 1<<20, slog.New(slog.NewTextHandler(io.Discard, nil))
	ctx, end := context.WithCancel(context.Background())
	over := make(chan error)
	go func() { over <- m.Run(ctx) }()
	t.Cleanup(func() {
		end()
		if err := <-over; err != nil {
			t.Error(err)
		}
	})
	return func() net.Conn {
		for {
			c, err := net.Dial("tcp", m.Address)
			if err == nil {
				t.Cleanup(func() { c.Close() })
				return c
			}
		}
	}
}

// answers sends a message and gives the code of its acknowledgement; empty if there is none.
func answers(c net.Conn) string {
	if _, err := c.Write([]byte(message)); err != nil {
		return ""
	}
	answer, err := bufio.NewReader(c).ReadString(0x1C)
	if err != nil || !strings.HasPrefix(answer, "\x0BMSH|^~\\&|C|D|A|B|") {
		return ""
	}
	_, code, _ := strings.Cut(answer, "\rMSA|")
	code, of, _ := strings.Cut(code, "|")
	if !strings.HasPrefix(of, "17\r") {
		return ""
	}
	return code
}

// TestConnectionsThatRest: as many as may be connected; who rests makes room for others, who is in the middle of a message
// does not, but has to get on.
func TestConnectionsThatRest(t *testing.T) {
	m := &MLLP{Most: 2, Patience: 300 * time.Millisecond}
	connect := taking(t, m)
	one, stuck := connect(), connect()
	if code := answers(one); code != "AA" {
		t.Fatalf("%q", code)
	}
	if _, err := stuck.Write([]byte(message[:20])); err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	if _, err := stuck.Read(make([]byte, 1)); err == nil || os.IsTimeout(err) || time.Since(begun) < m.Patience/2 {
		t.Errorf("what does not get on goes on: %v after %s", err, time.Since(begun))
	}
	two := connect()
	if code := answers(two); code != "AA" {
		t.Errorf("%q", code)
	}
	time.Sleep(2 * m.Patience) // nobody has a message to send
	if code := answers(one); code != "AA" {
		t.Errorf("who rests and is in nobody's way was ended: %q", code)
	}
	three := connect()
	if code := answers(three); code != "AA" {
		t.Errorf("%q", code)
	}
	if code := answers(one); code != "AA" {
		t.Errorf("who has just sent something was ended: %q", code)
	}
	if code := answers(two); code != "" {
		t.Errorf("who rested longest was not ended: %q", code)
	}
}

// TestSendersThatProveThemselves: who shows no certificate of somebody known is not listened to.
func TestSendersThatProveThemselves(t *testing.T) {
	certificate, pem, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	known := x509.NewCertPool()
	known.AppendCertsFromPEM(pem)
	another, _, err := standin.NewCertificate()
	if err != nil {
		t.Fatal(err)
	}
	connect := taking(t, &MLLP{Most: 10, Patience: 5 * time.Second, Certificate: certificate, Clients: known})
	for name, own := range map[string][]tls.Certificate{"AA": {*certificate}, "": nil, "no": {*another}} {
		c := tls.Client(connect(), &tls.Config{RootCAs: known, ServerName: "127.0.0.1", Certificates: own})
		if got := answers(c); got != strings.TrimPrefix(name, "no") {
			t.Errorf("%q: %q", name, got)
		}
	}
}

// TestWhatIsAskedFor: a message is acknowledged as it asks for it (HL7 Version 2, chapter 2, enhanced mode), and one that wants no answer holds
// nothing that comes behind it.
func TestWhatIsAskedFor(t *testing.T) {
	m := &MLLP{Route: "x", Patience: 10 * time.Second, Most: 5}
	c := taking(t, m)()
	defer c.Close()
	large := strings.Repeat("Z", 2<<20)
	in := bufio.NewReader(c)
	for i, x := range []struct{ accept, application, good, bad string }{
		{"", "", "AA", "AR"}, {"AL", "NE", "CA", "CR"}, {"AL", "", "CA", "CR"}, {"AL", "AL", "CA", "CR"}, {"NE", "AL", "AA", "AR"}, {"", "AL", "AA", "AR"},
		{"NE", "NE", "", ""}, {"NE", "", "", ""}, {"ER", "NE", "", "CR"}, {"SU", "NE", "CA", ""}, {"ER", "AL", "AA", "CR"}, {"SU", "ER", "CA", "AR"}, {"NE", "ER", "", "AR"}, {"NE", "SU", "AA", ""},
	} {
		for code, content := range map[string]string{x.good: "PID|1\r", x.bad: "ZZZ|" + large + "\r"} {
			// What comes behind it is answered in any case: that is how no answer is told from a late one.
			head := "\x0BMSH|^~\\&|A|B|C|D|20261129||ADT^A01|" + strconv.Itoa(i) + "|P|2.5|||" + x.accept + "|" + x.application + "\r"
			if _, err := io.WriteString(c, head+content+"\x1C\r"+strings.Replace(message, "|17|", "|last|", 1)); err != nil {
				t.Fatal(err)
			}
			want := []string{code + "|" + strconv.Itoa(i), "AA|last"}
			if code == "" {
				want = want[1:]
			}
			for _, w := range want {
				if err := c.SetReadDeadline(time.Now().Add(20 * time.Second)); err != nil {
					t.Fatal(err)
				}
				answer, err := in.ReadString(0x1C)
				if _, msa, _ := strings.Cut(answer, "\rMSA|"); err != nil || !strings.HasPrefix(msa, w) {
					t.Fatalf("MSH-15 %q, MSH-16 %q: %q %v, not %s", x.accept, x.application, answer, err, w)
				}
			}
		}
	}
}

// TestAcknowledgement: it is written with the message's own separators, to who has sent it, in characters that he has, whatever ends his segments.
func TestAcknowledgement(t *testing.T) {
	for message, want := range map[string]string{
		"MSH|^~\\&|A|B|C|D|20261129||ADT^A01|17|P|2.5\rPID|1\r":                              "MSH|^~\\&|C|D|A|B|TIME||ACK^A01|ID|P|2.5\rMSA|AE|17|no place for M?ke",
		"MSH|^~\\&|A|B|C|D|20261129||ADT^A01^ADT_A01|17|P|2.5\nPID|1\n":                      "MSH|^~\\&|C|D|A|B|TIME||ACK^A01^ACK|ID|P|2.5\rMSA|AE|17|no place for M?ke",
		"MSH|^~\\&|A|B|C|D|20261129||ADT^A01^ADT_A01|17|P|2.5.1||||||UNICODE UTF-8\r\nPID|1": "MSH|^~\\&|C|D|A|B|TIME||ACK^A01^ACK|ID|P|2.5.1||||||UNICODE UTF-8\rMSA|AE|17|no place for Måke",
		"MSH$!~\\&$A$B$C!1$D$20261129$$ADT!A01$17$T$2.3":                                     "MSH$!~\\&$C!1$D$A$B$TIME$$ACK!A01$ID$T$2.3\rMSA$AE$17$no place for M?ke",
		"MSH|^~\\&|A|B|C|D|20261129||ADT^A01|17|P|2.5|||AL\nPID|1":                           "MSH|^~\\&|C|D|A|B|TIME||ACK^A01|ID|P|2.5\rMSA|CE|17|no place for M?ke",
		"MSH|^~\\&|A\x81\x7c|B|C|D|20261129||ADT^A01|17|P|2.5||||||GB 18030-2000\r":          "MSH|^~\\&|C|D|A\x81\x7c|B|TIME||ACK^A01|ID|P|2.5||||||GB 18030-2000\rMSA|AE|17|no place for M?ke",
		"MSH|^~\\&|A|B":              "MSH|^~\\&|||A|B|TIME||ACK|ID||\rMSA|AE||no place for M?ke",
		"PID|1":                      "MSH|^~\\&|||||TIME||ACK|ID||\rMSA|AE||no place for M?ke",
		"MSH|^~\\&|A||||||ORU|9||\r": "MSH|^~\\&|||A||TIME||ACK|ID||\rMSA|AE|9|no place for M?ke",
	} {
		separator := "|"
		if strings.HasPrefix(message, "MSH") {
			separator = message[3:4]
		}
		got := string(acknowledge([]byte(message), "AE", "no place for Måke"))
		line, rest, _ := strings.Cut(strings.ReplaceAll(got, "\x81|", "\x81"), "\r") // a character of two bytes
		fields := strings.Split(line, separator)
		for n, as := range map[int]string{6: "TIME", 9: "ID"} {
			if len(fields) > n && fields[n] != "" {
				fields[n] = as
			}
		}
		if got := strings.Join(fields, separator) + "\r" + rest; got != "\x0B"+strings.ReplaceAll(want, "\x81|", "\x81")+"\r\x1C\r" {
			t.Errorf("%q:\n%q, not\n%q", message, got, want)
		}
	}
}
