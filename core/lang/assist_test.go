package lang

import (
	"slices"
	"strings"
	"testing"

	"ydrion/core/format/hl7"
	"ydrion/core/lookup"
	"ydrion/core/shape"
	"ydrion/core/value"
)

func assistant(t *testing.T) *Assistant {
	t.Helper()
	target, err := hl7.NewTarget("s", []byte("MSH|^~\\&|A\rPID|1||T\rOBX|1||a\rNTE|1\r"))
	if err != nil {
		t.Fatal(err)
	}
	text := func(names ...string) (out shape.Record) {
		for _, n := range names {
			out = append(out, shape.Field{Name: n, Kind: value.Text})
		}
		return out
	}
	lots := shape.List{Name: "lots", Shape: shape.Shape{Fields: text("lot")}}
	return &Assistant{Target: target, Positions: []string{"PID-3", "OBX-3", "OBX-5", "NTE-3"}, Scope: Scope{
		Fields: append(text("tag"), shape.Field{Name: "kg", Kind: value.Number}), Lists: []shape.List{{Name: "lines", Shape: shape.Shape{Fields: text("article"), Lists: []shape.List{lots}}}},
		Lookups: Tables{"sexes": &lookup.Table{}},
	}}
}

// TestComplete: the bar stands where the map is edited. Candidates that are wanted, and behind a minus sign
// some that are not.
func TestComplete(t *testing.T) {
	a := assistant(t)
	const head = "map m\nsource json s\ntarget hl7 based on s\n"
	for source, want := range map[string]string{
		"|": "keep repeat when end PID-3 -tag -trim", "ke|": "keep -kg -repeat", "P|": "PID-3 -OBX-3",
		"PID-3 = |": "tag kg now lines -PID-3 -keep -article", "PID-3 = t|": "tag -kg", "PID-3 = tag | |": "trim upper -tag", "PID-3 = tag | u|": "upper unbase64 until uuid -trim",
		"PID-3 = tag | lookup |": "sexes -tag", "keep |": "PID-3 -tag", "keep PID-3, |": "OBX-5 -tag", "ignore |": "tag kg -PID-3", "drop |": "NTE-3 -tag", "drop NTE when |": "tag -NTE-3",
		"let who = tag\nPID-3 = w|": "who -tag", "PID-3 = tag # | u|": "-upper",
		"repeat OBX for line in |": "lines -tag -lots", "repeat |": "OBX-3",
		"repeat OBX for line in lines\n  OBX-3 = |":                                         "article line.article line.position record.tag tag lots -lot",
		"repeat OBX for line in lines\n  OBX-3 = line.|":                                    "line.article line.first -article -tag",
		"repeat OBX for line in lines\n  repeat NTE for lot in |":                           "lots lines -tag",
		"repeat OBX for line in lines\n  repeat NTE for lot in lots\n    NTE-3 = lo|":       "lot lot.lot lot.position lots -line.article",
		"repeat OBX for line in lines\n  when kg > 1\n    OBX-3 = tag\n  end\n  OBX-5 = a|": "article -tag",
		"repeat OBX for line in lines\nend\nPID-3 = |":                                      "tag lines -article -line.position",
		"PID-3 = tag when kg > 1,\n  |":                                                     "tag kg -keep", "PID-3 = tag\n  | |": "trim -tag",
	} {
		i := strings.LastIndexByte(source, '|')
		text := head + source[:i] + source[i+1:]
		from, out := a.Complete(text, len(head)+i)
		var names []string
		for _, c := range out {
			names = append(names, c.Text)
			if c.Doc == "" && c.Kind != "position" || !strings.HasPrefix(strings.ToLower(c.Text), strings.ToLower(text[from:len(head)+i])) {
				t.Errorf("%q: %+v", source, c)
			}
		}
		for _, w := range strings.Fields(want) {
			if name, not := strings.CutPrefix(w, "-"); slices.Contains(names, name) == not {
				t.Errorf("%q: %s among %q", source, w, names)
			}
		}
	}
}

func TestHoverAndProblems(t *testing.T) {
	a := assistant(t)
	const source = "map m\nsource json s\ntarget hl7 based on s\nkeep MSH, PID-1\nPID-3 = tag | upper\nrepeat OBX for line in lines\n  OBX-1 = line.position\n  OBX-3 = article\n  clear NTE\nend\nignore kg\n"
	for word, want := range map[string]string{"tag |": "tag: a text, at tag", "upper": "VALUE | upper: in capital letters", "line.position": "line.position: its place in the list", "keep": "keep POSITION", "MSH": "", "article": ""} {
		if got := a.Hover(source, strings.Index(source, word)+1); !strings.HasPrefix(got, want) || (want == "") != (got == "") && word != "article" {
			t.Errorf("%s: %q", word, got)
		}
	}
	if wrong := a.Problems("m", source); wrong.HasErrors() {
		t.Error(wrong)
	}
	if wrong := a.Problems("m", strings.Replace(source, "= article", "= articel", 1)); !strings.Contains(wrong.Error(), `there is no field "articel"`) {
		t.Error(wrong)
	}
	if wrong := a.Problems("m", "map m\nx = = 1\n"); !wrong.HasErrors() {
		t.Error(wrong)
	}
}
