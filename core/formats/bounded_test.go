package formats

import (
	"context"
	"runtime"
	"strings"
	"testing"
	"time"

	"ydrion/core/format"
)

// TestShownIsBounded: whatever is looked at, and however it is nested, wide or long, what is
// shown of it is bounded, and says that it was cut; and looking costs a bounded number of
// times the file.
func TestShownIsBounded(t *testing.T) {
	const n = 400_000
	deep := func(open, close string) string {
		return strings.Repeat(open, n/len(open)) + "1" + strings.Repeat(close, n/len(open))
	}
	hl7 := "MSH|^~\\&|A|B|C|D|20261128||ORU^R01|1|P|2.5\rPID|1||x\r"
	for name, file := range map[string]string{
		"brackets that never close": strings.Repeat("[", n), "lists in lists": deep("[", "]"), "objects in objects": deep(`{"a":`, "}"),
		"a wide object": `{"a0":0` + strings.Repeat(`,"b":1`, n/6) + "}", "a wide list": "[[" + strings.Repeat("1,", n/2) + "1]]", "a long text": `{"a":"` + strings.Repeat("é", n) + `"}`,
		"many columns": "a\n" + strings.Repeat(",", n) + "\n", "a long cell": "a,b\n1," + strings.Repeat("x", n) + "\n",
		"many repetitions": hl7 + "OBX|1|ST|A||" + strings.Repeat("x~", n/2) + "\r", "many codes": hl7 + strings.Repeat("OBX|1|NM|WBC^Leu||1|g/L|||||F\r", n/30), "many segments": hl7 + strings.Repeat("NTE|1\r", n/6), "a long field": hl7 + "OBX|1|ST|A||" + strings.Repeat("x", n) + "\r",
	} {
		before, after := new(runtime.MemStats), new(runtime.MemStats)
		runtime.ReadMemStats(before)
		began := time.Now()
		look, err := Examine(context.Background(), strings.NewReader(file), Request{Byte: -1, Records: 1})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		took := time.Since(began)
		runtime.ReadMemStats(after)
		if bytes := after.TotalAlloc - before.TotalAlloc; bytes > 256<<20 || took > 20*time.Second {
			t.Errorf("%s: %d MB and %s for a file of %d kB", name, bytes>>20, took, len(file)>>10)
		}
		cut := false
		for _, s := range look.Shown {
			shown := 0
			for _, p := range s.Parts {
				shown += len(p.Path) + len(p.Value)
				cut = cut || p.Cut
			}
			if len(s.Parts) > format.MostParts+1 || shown > format.MostShown+format.LongValue+1<<20 {
				t.Errorf("%s: %d parts of %d bytes are shown", name, len(s.Parts), shown)
			}
		}
		if len(look.Shown) > 0 && !cut && name != "many segments" && name != "brackets that never close" {
			t.Errorf("%s: it does not say that it was cut", name)
		}
	}
}

// TestManyEmptyInterchanges: a file of interchanges without a message costs what its size says.
func TestManyEmptyInterchanges(t *testing.T) {
	const n = 50_000
	isa := "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LAB            *261128*0930*^*00501*000000001*0*T*>~"
	for name, file := range map[string]string{
		"x12": strings.Repeat(isa+"IEA*0*000000001~\n", n), "x12, all wrong": strings.Repeat(isa+"IEA*7*000000002~\n", n),
		"edifact": strings.Repeat("UNB+UNOC:3+A+B+261128:0930+1'UNZ+0+1'\n", n), "on one line": strings.Repeat("UNB+UNOC:3+A+B+261128:0930+1'UNZ+3+1'", n),
	} {
		began := time.Now()
		look, err := Examine(context.Background(), strings.NewReader(file), Request{Byte: -1, Records: 1})
		if err != nil {
			t.Fatal(err)
		}
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("%s: %d interchanges took %s", name, n, took)
		}
		wrong := name == "x12, all wrong" || name == "on one line"
		if (look.Errors > 0) != wrong || wrong && len(look.Findings) < mostFindings {
			t.Errorf("%s: %d errors, %d shown", name, look.Errors, len(look.Findings))
		}
	}
}
