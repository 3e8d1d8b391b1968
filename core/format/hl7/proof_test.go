package hl7

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/format"
	"ydrion/core/format/formattest"
	"ydrion/core/standard"
)

// TestProof: of messages of all structures, mostly good ones, the same differences are told with and without proving segments
// as they are written, whatever happens to the messages.
func TestProof(t *testing.T) {
	seed := rand.Uint64()
	dice := rand.New(rand.NewPCG(seed, 3))
	t.Logf("seed %d", seed)
	var all string
	names, err := fs.Glob(files, "dictionary/*.txt")
	for _, name := range names {
		b, err := files.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all += string(b) + "\n\n"
	}
	if err != nil {
		t.Fatal(err)
	}
	descriptions := map[string][]*standard.Catalog{"standard": nil, "own": {formattest.Stricter(t, Versions, all)}}
	for name, own := range descriptions {
		judged, differences := 0, 0
		for _, version := range Versions.Versions {
			book := Versions.Version(version)
			if own != nil {
				book = own[0].Version(version)
			}
			kinds := book.Names("structure")
			for range 30 {
				kind := kinds[dice.IntN(len(kinds))]
				event := strings.Replace(strings.Replace(kind, "_", "^", 1), "RSP^K21", "RSP^K22^RSP_K21", 1)
				in := formattest.Message(dice, book, book.Structure(kind), "MSH|^~\\&|LAB|HOLM|SKERRY|SCSR|20261125093000||"+event+"^"+kind+"|M1|P|"+version, formattest.Writing{Element: "|", Component: "^", Repetition: "~", Sub: "&", Release: `\`, End: "\r"})
				for tries := range 12 {
					message := []byte(in)
					for range tries { // the first as it is
						at := dice.IntN(len(message))
						by := "|^~&\\\rö 1A\""[dice.IntN(11)]
						switch dice.IntN(3) {
						case 0:
							message[at] = by
						case 1:
							message = slices.Insert(message, at, by)
						default:
							message = slices.Delete(message, at, at+1)
						}
					}
					fast, plain, is := bothWays(own, message)
					if !is {
						continue
					}
					if judged, differences = judged+1, differences+len(plain); !slices.Equal(fast, plain) {
						t.Fatalf("%s, %s %s: %q\nproved %s\nplain  %s", name, version, kind, message, fmt.Sprint(fast), fmt.Sprint(plain))
					}
				}
			}
		}
		if t.Logf("%s: %d messages, %d differences", name, judged, differences); judged < 1000 || differences < 1000 {
			t.Error("that says little")
		}
	}
}

// bothWays judges a message by proof, and with all its segments taken apart, if that can be judged.
func bothWays(own []*standard.Catalog, message []byte) (fast, plain []format.Difference, is bool) {
	by := format.AsRead
	if own != nil {
		by = 0
	}
	(&taker{own: own, by: by, decoded: true}).judge(message, func(d format.Difference) { fast = append(fast, d) })
	m, problem := apart(&taker{own: own, by: by, decoded: true}, message, false)
	if problem != "" || m.Structure == nil {
		return nil, nil, false
	}
	m.Validate(func(d format.Difference) { plain = append(plain, d) })
	if own == nil {
		var alone []format.Difference
		(&Reader{bound: &bound{}}).Validate(message, func(d format.Difference) { alone = append(alone, d) })
		if m.Segments[0].Value(12) == "" {
			alone = alone[1:] // that is said first
		}
		if !slices.Equal(alone, plain) {
			return alone, plain, true
		}
	}
	return fast, plain, true
}

// TestProofOfTyped: the type that a field says of another is that of its first repetition, if it has no components.
func TestProofOfTyped(t *testing.T) {
	for segment, differences := range map[string]int{
		"OBX|1|NM|A||5||||||F": 0, "OBX|1|NM|A||x||||||F": 1, "OBX|1|NM^X|A||x||||||F": 2, "OBX|1|NM&X|A||x||||||F": 2, "OBX|1|ST~NM|A||x||||||F": 1, "OBX|1|NM~ST|A||x||||||F": 2,
		`OBX|1|N\T\M|A||x||||||F`: 1, `OBX|1|""|A||x||||||F`: 0, "OBX|1|ST|A||x||||||F": 0, "OBX|1|NM|A||5~x||||||F": 1, "OBX|1|DT|A||20260230||||||F": 1, "OBX|1|DT|A||20240229||||||F": 0,
		"OBX|1|DT|A||20230229||||||F": 1, "OBX|1|NM|A||-5.5||||||F": 0, "OBX|1|NM|A||5-||||||F": 1, "OBX|1|NM|A||--5||||||F": 1, "OBX|1|NM|A||.||||||F": 1, "OBX|1|NM|A||1.2.3||||||F": 1,
	} {
		fast, plain, is := bothWays(nil, []byte("MSH|^~\\&|LAB||||20261125||ORU^R01^ORU_R01|M1|P|2.5.1\rOBR|1|||X\r"+segment+"\r"))
		if !is || !slices.Equal(fast, plain) || len(plain) != differences {
			t.Errorf("%s:\n%v\n%v", segment, fast, plain)
		}
	}
}
