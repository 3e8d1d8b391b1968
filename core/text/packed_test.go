package text

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"strings"
	"testing"
)

// TestUndo: gzip is undone, and what is damaged says so wherever the damage is.
func TestUndo(t *testing.T) {
	content := strings.Repeat("tag,kg\nT-0815,17.5\n", 5000)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := io.WriteString(z, content); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	whole := packed.Bytes()
	twice := append(bytes.Clone(whole), whole...) // members one after the other are one file (RFC 1952, 2.2)
	for name, test := range map[string]struct {
		in  string
		how Packing
		out string
	}{
		"plain": {content, "none", content}, "empty": {"", "none", ""}, "one byte": {"\x1f", "none", "\x1f"},
		"gzip": {string(whole), "gzip", content}, "two members": {string(twice), "gzip", content + content}, "zip": {"PK\x03\x04rest", "zip", "PK\x03\x04rest"},
	} {
		in, how, err := Undo(strings.NewReader(test.in))
		if err != nil || how != test.how {
			t.Errorf("%s: %s, %v", name, how, err)
			continue
		}
		if got, err := io.ReadAll(in); err != nil || string(got) != test.out {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
	}
	changed := bytes.Clone(whole)
	changed[len(changed)-6] ^= 0xff // of the checksum
	for name, in := range map[string][]byte{"header only": whole[:5], "half": whole[:len(whole)/2], "without its end": whole[:len(whole)-4], "another checksum": changed, "garbage behind": append(bytes.Clone(whole), "more"...)} {
		plain, _, err := Undo(bytes.NewReader(in))
		if err == nil {
			_, err = io.Copy(io.Discard, plain)
		}
		var damaged *Damaged
		if !errors.As(err, &damaged) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestMask: what looks like a separator within a character is none.
func TestMask(t *testing.T) {
	for _, test := range []struct {
		set      Charset
		in, want string
	}{
		{GB18030, "a|\x81|b|\x81\\^", "a|\x81\xffb|\x81\xff^"},
		{GB18030, "\x81\x30\x81\x30|", "\x81\xff\x81\xff|"}, // four bytes
		{Big5, "\xa5\\|\xb3\\", "\xa5\xff|\xb3\xff"},
		{ShiftJIS, "\x83\\|\xb1|", "\x83\xff|\xb1|"}, // the last is a single byte
		{ISO2022JP, "|\x1b$B!|\x1b(B|", "|\x1b$B\xff\xff\x1b(B|"},
		{ISO2022JP, "\x1b$B!|\r|", "\x1b$B\xff\xff\r|"}, // a line end ends a shift
		{GB18030, "\x81\r|", "\x81\r|"}, {Big5, "\xa5", "\xa5"},
	} {
		b := []byte(test.in)
		test.set.Mask(b)
		if string(b) != test.want || !test.set.Wide() {
			t.Errorf("%s %q: %q, want %q", test.set, test.in, b, test.want)
		}
	}
	for _, set := range []Charset{UTF8, Latin1, "euc-kr", "iso-8859-5"} {
		if set.Wide() {
			t.Errorf("%s is wide", set)
		}
	}
	for _, name := range []string{"GB18030", "shift_jis", "EUC-JP", "windows-1251", "koi8-r", "ibm850"} {
		if _, err := ParseCharset(name); err != nil {
			t.Error(err)
		}
	}
	for _, of := range []struct{ set, in, want string }{{"cp1251", "\xcf", "П"}, {"CP852", "\xa5", "ą"}, {"ibm858", "\xd5", "€"}, {"cp866", "\x8f", "П"}, {"ibm865", "\x9d", "Ø"}, {"ibm855", "\xdd", "П"}, {"tis-620", "\xa1", "ก"}, {"iso-8859-11", "\xa1", "ก"}, {"windows-874", "\x80", "€"}, {"macintosh", "\x8e", "é"}} {
		set, err := ParseCharset(of.set)
		if err != nil {
			t.Error(err)
			continue
		}
		if got, err := DecodeAll([]byte(of.in), set); err != nil || string(got) != of.want {
			t.Errorf("%s: %q is %q %v, want %q", of.set, of.in, got, err, of.want)
		}
		if got, err := Encode([]byte(of.want), set); err != nil || string(got) != of.in {
			t.Errorf("%s: %q is written %q %v", of.set, of.want, got, err)
		}
	}
	if _, err := ParseCharset("cp9999"); err == nil {
		t.Error("there is no such code page")
	}
}
