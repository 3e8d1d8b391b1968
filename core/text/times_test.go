package text

import (
	"math/rand/v2"
	"testing"
	"time"

	"ydrion/core/value"
)

// TestReadISO: what the standard library writes by RFC 3339 is read as the same time, and comes out with its digits.
func TestReadISO(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	for range 5000 {
		at := time.Unix(r.Int64N(200_000_000_000)-60_000_000_000, []int64{0, 120_000_000, 123_456_000, 123_456_789, 1}[r.IntN(5)]).In(time.FixedZone("", (r.IntN(56)-26)*1800))
		written := at.Format(time.RFC3339Nano)
		m, ok := ReadISO([]byte(written))
		if !ok || !m.Std().Equal(at) {
			t.Fatalf("%s is read as %v (%v)", written, m.Std(), ok)
		}
		back, err := time.Parse(time.RFC3339Nano, string(m.Append(nil)))
		if err != nil || !back.Equal(at) {
			t.Fatalf("%s is written as %s (%v)", written, m.Append(nil), err)
		}
	}
	for s, want := range map[string]string{"2026": "2026", "2026-11": "2026-11", "2026-02-28": "2026-02-28", "2026-11-25T09:30": "2026-11-25T09:30", "2026-11-25t09:30:00z": "2026-11-25T09:30:00Z", "09:30": "09:30", "09:30:15.5": "09:30:15.500",
		"2026-11-25T09:30+0100": "2026-11-25T09:30+01:00", "2026-11-25T09:30+01": "2026-11-25T09:30+01:00",
		"": "", "20": "", "20261125": "", "2026-1-5": "", "2026-02-30": "", "2026-13": "", "2026-11-25 09:30": "", "2026-11-25T24:00": "", "2026-11-25T9:30": "", "2026-11-25T09:30:00.": "", "2026-11-25T09:30:00.1234567890": "", "2026-11-25T09:30:00,5": "", "2026-11-25T09:30X": "", "2026-11-25T09:30+1": "",
		"2026-11-25T": "", "2026-": "", "09:3": "", "9:30": "", "ab:cd": "", "09:30x": "", "2026-11-25T09:30Zx": "", "2026-11-25T-01:00": "", "09:30Z": ""} {
		m, ok := ReadISO([]byte(s))
		if got := string(m.Append(nil)); ok != (want != "") || ok && got != want {
			t.Errorf("%q is read as %q (%v), not %q", s, got, ok, want)
		}
	}
}

// TestHL7Times: forms of DTM (HL7 v2.5.1, 2.A.22), each as exact as it is written.
func TestHL7Times(t *testing.T) {
	hl7 := StandardOf("HL7")
	for _, s := range []string{"2026", "202611", "20261125", "2026112509", "202611250930", "20261125093015", "20261125093015.1", "20261125093015.1234", "202611250930+0100", "202611250930-0530", "20240229", "20261125093015.0001-0000"} {
		m, ok := hl7.Read([]byte(s))
		want := s
		if s == "20261125093015.0001-0000" {
			want = "20261125093015.0001+0000"
		}
		if got := string(hl7.Append(nil, m)); !ok || got != want {
			t.Errorf("%q comes back as %q (%v)", s, got, ok)
		}
	}
	for _, s := range []string{"", "202", "20261", "20261325", "20260229", "2026112524", "202611250960", "20261125093060", "20261125093015.", "20261125093015.12345", "202611250930.5", "202611250930Z", "202611250930+01", "202611250930+01:00", "202611250930+0160", "2026112509301512", "2O26", "+0100", "20261125 "} {
		if m, ok := hl7.Read([]byte(s)); ok {
			t.Errorf("%q is read as %s", s, m.Append(nil))
		}
	}
	if m, _ := hl7.Read([]byte("202611")); m.Precision != value.Month || m.From != value.Year || m.Offset != value.NoZone {
		t.Errorf("%+v", m)
	}
}

// TestPatternsSay: what is known of the times of a pattern, and what another asks for.
func TestPatternsSay(t *testing.T) {
	for _, test := range []struct{ from, to, lacks string }{
		{"yyyyMMdd", "dd.MM.yyyy", ""}, {"yyyyMMdd", "yyyyMMddHHmm", "time of day"}, {"yyyyMM", "yyyyMMddHHmm", "day"}, {"yyyy", "MM", "month"}, {"HH:mm", "HHmmss", ""}, {"HH", "HH:mm", ""}, {"HH:mm", "yyyyMMdd", "year"}, {"HH:mm", "dd", "day"},
		{"dd.MM.", "MMdd", ""}, {"dd.MM.", "yyyy", "year"}, {"yyyyMMddHHmm", "HHmmXX", "offset from UTC"}, {"yyyyMMddHHmmXX", "HHmmXXX", ""}, {"yyyyMMddHHmmss", "ss.SSS", ""}, {"yyMMdd", "yyyy", ""}, {"d MMM yyyy", "MM", ""}, {"MM/yyyy hh a", "yyyy", ""},
	} {
		says, whole := MustPattern(test.from).Says()
		if got := MustPattern(test.to).Lacks(says); got != test.lacks || whole != (test.from != "MM/yyyy hh a") {
			t.Errorf("%s of %s lacks %q, not %q (%v)", test.to, test.from, got, test.lacks, whole)
		}
	}
}
