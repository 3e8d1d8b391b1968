package segments_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ydrion/core/format"
	"ydrion/core/format/edifact"
	"ydrion/core/format/formattest"
	"ydrion/core/format/x12"
	"ydrion/core/segments"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// TestProof: of messages of all structures, mostly good ones, the same differences are told with and without proving segments
// as they are written, whatever happens to the messages.
func TestProof(t *testing.T) {
	for name, of := range map[string]struct {
		rules    *segments.Rules
		catalog  *standard.Catalog
		w        formattest.Writing
		around   func(version, kind string) (before, head, behind string)
		scramble string
	}{
		"edifact": {edifact.Rules, edifact.Directories, formattest.Writing{Element: "+", Component: ":", Release: "?", End: "'"}, func(version, kind string) (string, string, string) {
			return "UNB+UNOC:3+HOLM+SKERRY+261125:0930+1'", "UNH+1+" + kind + ":D:" + strings.TrimPrefix(version, "D.") + ":UN", "UNZ+1+1'"
		}, "+:?'\"ö 1A"},
		"x12": {x12.Rules, x12.Releases, formattest.Writing{Element: "*", Component: ":", Repetition: "^", End: "~\n"}, func(version, kind string) (string, string, string) {
			return "ISA*00*          *00*          *ZZ*HOLM           *ZZ*SKERRY         *261125*0930*^*00501*000000001*0*P*:~\nGS*PO*HOLM*SKERRY*20261125*0930*1*X*" + version + "~\n", "ST*" + strings.TrimRight(kind, "PIDA") + "*0001", "GE*1*1~\nIEA*1*000000001~\n"
		}, "*:^~\"ö 1A"},
	} {
		t.Run(name, func(t *testing.T) {
			seed := rand.Uint64()
			dice := rand.New(rand.NewPCG(seed, 3))
			t.Logf("seed %d", seed)
			good, all, differences := 0, 0, 0
			stricter := formattest.Stricter(t, of.catalog, textOf(t, "../format/"+name+"/descriptions"))
			for i, version := range slices.Concat(of.catalog.Versions, of.catalog.Versions) {
				book, own := of.catalog.Version(version), []*standard.Catalog(nil)
				if i >= len(of.catalog.Versions) {
					book, own = stricter.Version(version), []*standard.Catalog{stricter}
				}
				for range 100 {
					kinds := book.Names("structure")
					kind := kinds[dice.IntN(len(kinds))]
					before, head, behind := of.around(version, kind)
					in := before + formattest.Message(dice, book, book.Structure(kind), head, of.w) + behind
					r := opened(t, of.rules, own, in)
					for tries := range 12 {
						message := []byte(in)
						for range tries { // the first as it is
							at := len(before) + dice.IntN(len(message)-len(before))
							by := []byte(of.scramble[dice.IntN(len(of.scramble)):])[:1]
							switch dice.IntN(3) {
							case 0:
								message[at] = by[0]
							case 1:
								message = slices.Insert(message, at, by[0])
							default:
								message = slices.Delete(message, at, at+1)
							}
						}
						var fast, plain []format.Difference
						r.(format.Validator).Validate(message, func(d format.Difference) { fast = append(fast, d) })
						g, a := segments.ValidatePlainly(r, message, func(d format.Difference) { plain = append(plain, d) })
						if good, all, differences = good+g, all+a, differences+len(plain); !slices.Equal(fast, plain) {
							t.Fatalf("%s %s: %q\nproved %s\nplain  %s", version, kind, message, fmt.Sprint(fast), fmt.Sprint(plain))
						}
					}
				}
			}
			if t.Logf("%d of %d segments are proved, %d differences", good, all, differences); good < all/3 || good > all*19/20 || differences < 1000 {
				t.Error("that says little")
			}
		})
	}
}

// opened is a reader of a file.
func opened(t *testing.T, rules *segments.Rules, own []*standard.Catalog, in string) format.Reader {
	set := text.UTF8
	if rules.Declares {
		set = text.Declared
	}
	decoded, err := text.Decode(strings.NewReader(in), set)
	if err != nil {
		t.Fatal(err)
	}
	r, wrong, err := format.Open(segments.Interchanges{Rules: rules, Own: own}, decoded, nil)
	if r == nil || err != nil {
		t.Fatal(wrong, err)
	}
	return r
}

// textOf is what the files of a folder say together.
func textOf(t *testing.T, folder string) string {
	names, err := filepath.Glob(filepath.Join(folder, "*.txt"))
	if err != nil || len(names) == 0 {
		t.Fatal(names, err)
	}
	var all []string
	for _, name := range names {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, string(b))
	}
	return strings.Join(all, "\n\n")
}
