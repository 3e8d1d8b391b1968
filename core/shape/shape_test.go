package shape

import (
	"testing"

	"ydrion/core/text"
	"ydrion/core/value"
)

func TestRead(t *testing.T) {
	tests := []struct {
		field Field
		in    string
		want  string // "!" if it is refused
		kind  value.Kind
	}{
		{Field{Kind: value.Text}, "x", "x", value.Text},
		{Field{Kind: value.Text}, "", "", value.Empty},
		{Field{Kind: value.Number}, "012.50", "012.50", value.Number},
		{Field{Kind: value.Number}, "1,5", "!", 0},
		{Field{Kind: value.Number, Decimal: ','}, "1,5", "1.5", value.Number},
		{Field{Kind: value.Number, Decimal: ',', Group: '.'}, "-1.234.567,80", "-1234567.80", value.Number},
		{Field{Kind: value.Number, Decimal: '.', Group: ' '}, "12 345", "12345", value.Number},
		{Field{Kind: value.Number, Decimal: ','}, "1.5", "!", 0},
		{Field{Kind: value.Number, Decimal: ','}, "1-5", "!", 0},
		{Field{Kind: value.Bool, Truths: []string{"ja"}}, "ja", "true", value.Bool},
		{Field{Kind: value.Bool, Truths: []string{"ja"}}, "nein", "false", value.Bool},
		{Field{Kind: value.Time, Pattern: text.MustPattern("d.M.yyyy")}, "5.11.2026", "2026-11-05", value.Time},
		{Field{Kind: value.Time}, "2026-11-25T06:30:00+01:00", "2026-11-25T06:30:00+01:00", value.Time},
		{Field{Kind: value.Time}, "yesterday", "!", 0},
	}
	for _, test := range tests {
		v, ok := test.field.Read([]byte(test.in))
		got := string(v.Append(nil))
		if !ok {
			got = "!"
		}
		if got != test.want || ok && v.Kind != test.kind {
			t.Errorf("%+v reads %q as %q (%s)", test.field, test.in, got, v.Kind)
		}
	}
}

func TestCanonical(t *testing.T) {
	for in, ok := range map[string]bool{"1.234": true, "12.345.678": true, "1.23": false, "1234.567": false, ".123": false, "1..234": false, "1.234,5,6": false, "1.2345": false, "": false, "-": false, "1,": false} {
		if got, is := Canonical([]byte(in), ',', '.'); is != ok {
			t.Errorf("%q: %q %v", in, got, is)
		}
	}
}
