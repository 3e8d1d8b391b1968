package mail

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"mime/quotedprintable"
	"strings"
	"testing"
	"time"
)

type shown struct {
	name, kind, charset, content string
	attached                     bool
}

func read(t *testing.T, text string) (Head, []shown, error) {
	t.Helper()
	var out []shown
	h, err := Read(strings.NewReader(strings.ReplaceAll(text, "\n", "\r\n")), func(name string) bool { return strings.HasSuffix(name, ".eml") }, func(p Part) error {
		b, err := io.ReadAll(p.Content)
		out = append(out, shown{p.Name, p.Type, p.Charset, string(b), p.Attached})
		return err
	})
	return h, out, err
}

const sheets = `From: =?iso-8859-1?Q?Maren_=D8st?= <maren@ansel.example>
To: sheets@skerry.example, "Kai, of the night" <kai@skerry.example>
Cc: office@skerry.example
Subject: =?utf-8?B?U2hlZXQgb2YgQW5zZWzigJlz?= =?utf-8?Q?_day?=
Message-ID: <a1@ansel.example>
Date: Sun, 29 Nov 2026 07:12:00 +0100
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary="o"

this is shown to nobody
--o
Content-Type: multipart/alternative; boundary=i

--i
Content-Type: text/plain; charset=iso-8859-1
Content-Transfer-Encoding: quoted-printable

Gr=FC=DFe
--i
Content-Type: text/html

<p>hello</p>
--i--
--o
Content-Type: text/csv; charset=iso-8859-1; name="=?iso-8859-1?Q?bl=E5.csv?="
Content-Disposition: attachment
Content-Transfer-Encoding: base64

YSxi
 CmJs5Q==
Cg==
--o
Content-Type: message/rfc822

From: lab@holm.example
Content-Type: application/octet-stream
Content-Disposition: attachment; filename*=iso-8859-1''s%E6l.x12

ISA*00
--o
Content-Type: message/rfc822; name=kept.eml

From: lab@holm.example

whole
--o
Content-Type: text/csv; name=../../etc/two words.csv

a,b

--o--
`

func TestRead(t *testing.T) {
	h, parts, err := read(t, sheets)
	if err != nil {
		t.Fatal(err)
	}
	if h.From != "maren@ansel.example" || h.To != "sheets@skerry.example, kai@skerry.example, office@skerry.example" || h.Subject != "Sheet of Ansel’s day" || h.ID != "a1@ansel.example" || !h.Date.Equal(time.Date(2026, 11, 29, 6, 12, 0, 0, time.UTC)) {
		t.Errorf("%+v", h)
	}
	want := []shown{
		{"", "text/plain", "iso-8859-1", "Gr\xFC\xDFe", false},
		{"", "text/html", "", "<p>hello</p>", false},
		{"blå.csv", "text/csv", "iso-8859-1", "a,b\nbl\xE5\n", true}, // the bytes of the file, not converted
		{"sæl.x12", "application/octet-stream", "", "ISA*00", true},
		{"kept.eml", "message/rfc822", "", "From: lab@holm.example\r\n\r\nwhole", true},
		{"two words.csv", "text/csv", "", "a,b\r\n", true},
	}
	if fmt.Sprint(parts) != fmt.Sprint(want) {
		t.Errorf("read as\n%+v\nnot\n%+v", parts, want)
	}
}

// TestBroken: what is not whole, or cannot be understood, is said, and nothing of it is taken for whole.
func TestBroken(t *testing.T) {
	part := func(head, content string) string {
		return "From: a@b.example\nContent-Type: multipart/mixed; boundary=o\n\n--o\nContent-Disposition: attachment; filename=a.csv\n" + head + "\n\n" + content
	}
	for name, text := range map[string]string{
		"no end":         part("", "a,b\n1,2\n"),
		"end of another": part("", "a,b\n--x--\n"),
		"half a group":   part("Content-Transfer-Encoding: base64", "YSxiC\n--o--\n"),
		"no digits":      part("Content-Transfer-Encoding: quoted-printable", "a=bz,1\n--o--\n"),
		"half a digit":   part("Content-Transfer-Encoding: quoted-printable", "a=4\n--o--\n"),
		"no digit":       part("Content-Transfer-Encoding: quoted-printable", "href=\"x\"\n--o--\n"),
		"a control":      part("Content-Transfer-Encoding: quoted-printable", "a\x01b\n--o--\n"),
		"encoding":       part("Content-Transfer-Encoding: x-uuencode", "begin 644 a\n--o--\n"),
		"no boundary":    "From: a@b.example\nContent-Type: multipart/mixed\n\n--o\n",
		"no head":        "a,b\n1,2\n",
		"deep":           "Content-Type: message/rfc822\n\n" + strings.Repeat("Content-Type: message/rfc822\n\n", 40) + "From: x\n\n",
		"large head":     "Subject: " + strings.Repeat("x", mostHead+1) + "\n\n",
	} {
		if _, parts, err := read(t, text); !errors.Is(err, ErrBroken) {
			t.Errorf("%s: %v, %v", name, err, parts)
		}
	}
}

// TestQuotedPrintable: what is encoded comes back, also as programs write it that are not careful; what nobody wants may be
// careless.
func TestQuotedPrintable(t *testing.T) {
	long := strings.Repeat("ü", 5000)
	for coded, want := range map[string]string{
		"":                                 "",
		"a,b\r\n1,2\r\n":                   "a,b\r\n1,2\r\n",
		"a,b\n1,2":                         "a,b\n1,2",
		"M=C3=B6we=20=3D=09\r\n":           "Möwe =\t\r\n",
		"M=c3=b6we":                        "Möwe",
		"one =\r\ntwo=\nthree= \t\r\nfour": "one twothreefour",
		"ends so=":                         "ends so",
		"blanks behind  \t \r\nand  within \t x ": "blanks behind\r\nand  within \t x",
		"a\rb\r\r\nc":         "a\rb\r\r\nc",
		long + "=\r\n" + long: long + long,
		"=00=0D=0A=FF":        "\x00\r\n\xff",
	} {
		for _, size := range []int{1, 7, 4096} {
			in, err := decoded("Quoted-Printable", strings.NewReader(coded))
			if err != nil {
				t.Fatal(err)
			}
			var got []byte
			for b := make([]byte, size); err == nil; {
				var n int
				n, err = in.Read(b)
				got = append(got, b[:n]...)
			}
			if err != io.EOF || string(got) != want {
				t.Errorf("%q came as %q: %v", coded, got, err)
			}
		}
	}
	r := rand.New(rand.NewPCG(3, 3))
	for range 500 { // as the standard library writes it
		want := make([]byte, r.IntN(300))
		for i := range want {
			want[i] = "a =\t.~\x00\xff\r\n"[r.IntN(10)]
		}
		var coded strings.Builder
		w := quotedprintable.NewWriter(&coded)
		w.Binary = true
		w.Write(want)
		w.Close()
		in, _ := decoded("quoted-printable", strings.NewReader(coded.String()))
		if got, err := io.ReadAll(in); err != nil || string(got) != string(want) {
			t.Fatalf("%q, written as %q, came as %q: %v", want, coded.String(), got, err)
		}
	}
	text := "From: a@b.example\nContent-Type: multipart/mixed; boundary=o\n\n--o\nContent-Type: text/html\nContent-Transfer-Encoding: quoted-printable\n\n<a href=\"x\">\x01\n--o\nContent-Disposition: attachment; filename=a.csv\n\na,b\n--o--\n"
	taken := ""
	if _, err := Read(strings.NewReader(text), func(string) bool { return false }, func(p Part) error {
		if !p.Attached {
			return nil
		}
		b, err := io.ReadAll(p.Content)
		taken += p.Name + ": " + string(b)
		return err
	}); err != nil || taken != "a.csv: a,b" {
		t.Errorf("beside a careless text %q was taken: %v", taken, err)
	}
}

// TestBase64: what is encoded comes back, however its lines are cut, and padded in between or not.
func TestBase64(t *testing.T) {
	for n := range 200 {
		want := strings.Repeat("seal\x00\xFF", n/6+1)[:n]
		half := n / 2
		for _, coded := range []string{base64.StdEncoding.EncodeToString([]byte(want)), base64.StdEncoding.EncodeToString([]byte(want[:half])) + "\r\n" + base64.StdEncoding.EncodeToString([]byte(want[half:]))} {
			for _, line := range []int{1, 3, 76, 1000} {
				var cut strings.Builder
				for i := 0; i < len(coded); i += line {
					cut.WriteString(coded[i:min(i+line, len(coded))] + " \r\n")
				}
				in, err := decoded("Base64", strings.NewReader(cut.String()))
				if err != nil {
					t.Fatal(err)
				}
				if b, err := io.ReadAll(in); err != nil || string(b) != want {
					t.Fatalf("%d bytes in lines of %d came as %q: %v", n, line, b, err)
				}
			}
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(sheets)
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := Read(strings.NewReader(text), func(string) bool { return false }, func(p Part) error {
			if strings.ContainsAny(p.Name, "/\\\x00\n") || strings.HasPrefix(p.Name, ".") {
				t.Errorf("a part is called %q", p.Name)
			}
			_, err := io.Copy(io.Discard, p.Content)
			return err
		}); err != nil && err.Error() == "" {
			t.Error("nothing is said")
		}
	})
}
