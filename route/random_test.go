package route

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/workspace"
)

// perRecord keeps what became of each record.
type perRecord struct {
	output
	made     []string // what was written for it, empty if nothing
	outcomes []batch.Outcome
}

func (p *perRecord) Batch(b *batch.Batch) error {
	from := uint32(0)
	for i, end := range b.Branches[0].Ends {
		p.made = append(p.made, string(b.Branches[0].Out[from:end]))
		p.outcomes = append(p.outcomes, b.Outcomes[i])
		from = end
	}
	return p.output.Batch(b)
}

// fields are the fields of the random maps: two that records of one parent share, two of
// their own.
var fields = []string{"parent", "other", "own", "more"}

// group is a parent with its records: own and more of each. A nil is absent.
type group struct {
	parents [2]*string
	records [][2]*string
}

func (g group) value(record int, field string) *string {
	i := slices.Index(fields, field)
	if i < 2 {
		return g.parents[i]
	}
	return g.records[record][i-2]
}

// randomText has whatever some format treats in its own way.
func randomText(r *rand.Rand, absent bool) *string {
	if absent && r.IntN(6) == 0 {
		return nil
	}
	parts := []string{"a", `""`, "Brunholm", "7", "0", " ", ",", ";", "\"", "'", "|", "^", "&", "~", "\\", "+", ":", "?", "*", "}", "{", "]", ",,", "é", "#", "%", "=", "x"}
	s := ""
	for range r.IntN(5) {
		s += parts[r.IntN(len(parts))]
	}
	s = strings.TrimSpace(s)
	return &s
}

// source is a way to write groups as a file, and what the route says about it.
type source struct {
	read  string
	paths [4]string // of the fields; empty: by name
	write func(groups []group) string
}

func orEmpty(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// inHL7 escapes a text by hand (HL7 v2, 2.7).
var inHL7 = strings.NewReplacer(`\`, `\E\`, "|", `\F\`, "^", `\S\`, "&", `\T\`, "~", `\R\`)

var sources = map[string]source{
	"csv": {read: "format: csv", write: func(groups []group) string {
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.Write(fields) //nolint: into memory
		for _, g := range groups {
			for i := range g.records {
				var row []string
				for _, f := range fields {
					row = append(row, orEmpty(g.value(i, f)))
				}
				w.Write(row) //nolint: into memory
			}
		}
		w.Flush()
		return b.String()
	}},
	"json": {read: "format: json\n  record: /groups/*/lines/*", paths: [4]string{"2/parent", "2/other", "/own", "/more"}, write: func(groups []group) string {
		object := func(names []string, values []*string) map[string]any {
			o := map[string]any{}
			for i, n := range names {
				if values[i] != nil {
					o[n] = *values[i]
				}
			}
			return o
		}
		var all []any
		for _, g := range groups {
			o := object(fields[:2], g.parents[:])
			lines := []any{}
			for _, r := range g.records {
				lines = append(lines, object(fields[2:], r[:]))
			}
			o["lines"] = lines
			all = append(all, o)
		}
		b, err := json.Marshal(map[string]any{"groups": all})
		if err != nil {
			panic(err)
		}
		return string(b)
	}},
	"hl7": {read: "format: hl7\n  record: OBX", paths: [4]string{"PID-3.1", "OBR-3.1", "OBX-5", "OBX-8"}, write: func(groups []group) string {
		out := ""
		for n, g := range groups {
			out += fmt.Sprintf("MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|%d|P|2.5.1||||||UNICODE UTF-8\rPID|1||%s\rOBR|1||%s\r", n, inHL7.Replace(orEmpty(g.parents[0])), inHL7.Replace(orEmpty(g.parents[1])))
			for i, r := range g.records {
				out += fmt.Sprintf("OBX|%d|ST|T||%s|||%s\r", i+1, inHL7.Replace(orEmpty(r[0])), inHL7.Replace(orEmpty(r[1])))
			}
		}
		return out
	}},
}

// assignment is one line of a random map, and what it makes of a record.
type assignment struct {
	expression string
	value      func(get func(field string) *string) *string
}

func randomAssignment(r *rand.Rand) assignment {
	f, g := fields[r.IntN(4)], fields[r.IntN(4)]
	switch r.IntN(8) {
	case 0:
		return assignment{f + " | upper", func(get func(string) *string) *string {
			v := get(f)
			if v == nil {
				return nil
			}
			u := strings.ToUpper(*v)
			return &u
		}}
	case 1:
		return assignment{`"always"`, func(func(string) *string) *string { s := "always"; return &s }}
	case 2:
		return assignment{f + ` | lookup names if unlisted "other" if empty "none"`, func(get func(string) *string) *string {
			v := get(f)
			if v == nil {
				return nil
			}
			s := map[string]string{"a": "A|^\"+'", "7": "seven", "": "none"}[*v]
			if s == "" {
				s = "other"
			}
			return &s
		}}
	case 3:
		return assignment{f + ` if absent ` + g + ` if empty "-"`, func(get func(string) *string) *string {
			v := get(f)
			if v == nil {
				v = get(g) // answers are given one after the other
			}
			if v != nil && *v == "" {
				s := "-"
				return &s
			}
			return v
		}}
	}
	return assignment{f, func(get func(string) *string) *string { return get(f) }}
}

// target is a format that random maps write.
type target struct {
	name   string
	sample string
	places []string // what is assigned
	also   string   // more lines of the map
	// reads takes what was written for one record apart, with a reader that is not ours:
	// what stands at each place, nil if nothing does.
	reads func(t *testing.T, written string) []*string
	// blank tells that an empty and an absent value are the same there.
	blank bool
	// cannot tells whether a value cannot be written there.
	cannot func(v string) bool
	// must are the places that the standard wants filled, where they are the only ones of their elements.
	must map[string]bool
}

// randomTarget makes a target with places for values.
func randomTarget(r *rand.Rand, format string) target {
	switch format {
	case "json":
		var places [][]string
		var build func(path []string, depth int) map[string]any
		build = func(path []string, depth int) map[string]any {
			o := map[string]any{}
			for n := range 1 + r.IntN(3) {
				name := fmt.Sprintf("m%d", n)
				at := append(slices.Clone(path), name)
				if depth < 3 && r.IntN(3) == 0 {
					o[name] = build(at, depth+1)
					continue
				}
				o[name] = ""
				places = append(places, at)
			}
			return o
		}
		sample, err := json.Marshal(build(nil, 0))
		if err != nil {
			panic(err)
		}
		t := target{name: format, sample: string(sample), cannot: func(string) bool { return false }}
		for _, p := range places {
			t.places = append(t.places, "/"+strings.Join(p, "/"))
		}
		t.reads = func(test *testing.T, written string) (out []*string) {
			test.Helper()
			var o map[string]any
			if err := json.Unmarshal([]byte(written), &o); err != nil {
				test.Fatalf("%q: %v", written, err)
			}
			for _, p := range places {
				var at any = o
				for _, name := range p {
					inner, _ := at.(map[string]any)
					at = inner[name]
				}
				if s, is := at.(string); is {
					out = append(out, &s)
				} else {
					out = append(out, nil)
				}
			}
			return out
		}
		return t
	case "csv":
		n := 2 + r.IntN(5)
		t := target{name: format, blank: true, cannot: func(string) bool { return false }}
		for i := range n {
			t.places = append(t.places, fmt.Sprintf("c%d", i))
		}
		comma := []rune{',', ';', '\t'}[r.IntN(3)]
		t.sample = strings.Join(t.places, string(comma)) + "\r\n"
		t.reads = func(test *testing.T, written string) (out []*string) {
			test.Helper()
			reader := csv.NewReader(strings.NewReader(written))
			reader.Comma = comma
			rows, err := reader.ReadAll()
			if err != nil || len(rows) != 1 || len(rows[0]) != n {
				test.Fatalf("%q: %q %v, not %d columns", written, rows, err, n)
			}
			for i := range rows[0] {
				out = append(out, &rows[0][i])
			}
			return out
		}
		return t
	case "hl7":
		all := []string{"PID-3.1", "PID-3.4", "PID-5.1", "PID-8", "OBR-3", "OBX-5", "OBX-6"}
		t := target{name: format, blank: true, cannot: func(v string) bool { return v == `""` }, // it says null
			sample: "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1||||||UNICODE UTF-8\rPID|1\rOBR|1\rOBX|1|ST|T\r",
			also:   "keep MSH, PID-1, OBR-1, OBX-1, OBX-2, OBX-3\n"}
		for _, p := range all {
			if r.IntN(3) > 0 || p == "OBX-5" {
				t.places = append(t.places, p)
			}
		}
		t.must = map[string]bool{"PID-5.1": true, "PID-3.1": !slices.Contains(t.places, "PID-3.4")}
		t.reads = func(test *testing.T, written string) (out []*string) {
			test.Helper()
			return bySegments(test, written, t.places, "\r", "|", "^", func(s string) string {
				return strings.NewReplacer(`\E\`, `\`, `\F\`, "|", `\S\`, "^", `\T\`, "&", `\R\`, "~").Replace(s)
			})
		}
		return t
	case "edifact":
		all := []string{"NAD-2.1", "NAD-2.3", "LIN-3.1", "IMD-3.4", "FTX-4.1"}
		t := target{name: format, blank: true, cannot: func(string) bool { return false },
			sample: "UNA:+.? '\nUNB+UNOC:3+A+B+261124:1630+1'\nUNH+1+ORDERS:D:96A:UN'\nBGM+220+PO+9'\nNAD+BY'\nLIN+1'\nIMD+F'\nFTX+DIN'\nUNS+S'\nUNT+7+1'\nUNZ+1+1'\n",
			also:   "keep UNB, UNH, BGM, NAD-1, LIN-1, IMD-1, FTX-1, UNS\n"}
		for _, p := range all {
			if r.IntN(3) > 0 || p == "FTX-4.1" {
				t.places = append(t.places, p)
			}
		}
		t.reads = func(test *testing.T, written string) (out []*string) {
			test.Helper()
			return bySegments(test, released(strings.ReplaceAll(written, "'\n", "'")), t.places, "\x01", "\x02", "\x03", func(s string) string { return s })
		}
		return t
	case "x12":
		all := []string{"N1-2", "N1-4", "PO1-7", "PID-5"}
		cannot := func(v string) bool { return strings.ContainsAny(v, "*~>^") }
		t := target{name: format, blank: true, cannot: cannot,
			sample: "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*HOLM           *261125*0930*^*00501*000000007*0*T*>~\nGS*PO*S*H*20261125*0930*3*X*005010~\nST*850*0001~\nBEG*00*SA*PO1**20261125~\nN1*BY~\nPO1*1*5*PCE*1.50**VP~\nPID*F~\nSE*6*0001~\nGE*1*3~\nIEA*1*000000007~\n",
			also:   "keep ISA, GS, ST, BEG, N1-1, PO1-1, PO1-2, PO1-3, PO1-4, PO1-6, PID-1\n"}
		for _, p := range all {
			if r.IntN(3) > 0 || p == "PID-5" {
				t.places = append(t.places, p)
			}
		}
		t.reads = func(test *testing.T, written string) (out []*string) {
			test.Helper()
			return bySegments(test, strings.ReplaceAll(written, "\n", ""), t.places, "~", "*", ">", func(s string) string { return s })
		}
		return t
	}
	panic(format)
}

// released puts control characters in place of the separators of an interchange, and takes
// the release characters away (ISO 9735, 8).
func released(written string) string {
	var b strings.Builder
	for i := 0; i < len(written); i++ {
		switch c := written[i]; c {
		case '?':
			if i++; i < len(written) {
				b.WriteByte(written[i])
			}
		case '\'':
			b.WriteByte(1)
		case '+':
			b.WriteByte(2)
		case ':':
			b.WriteByte(3)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// bySegments splits plainly and gives what stands at places such as PID-3.1.
func bySegments(t *testing.T, written string, places []string, terminator, element, component string, plain func(string) string) (out []*string) {
	t.Helper()
	found := map[string][]string{}
	for _, s := range strings.Split(written, terminator) {
		parts := strings.Split(s, element)
		found[parts[0]] = parts
	}
	for _, p := range places {
		var n, k int
		name, at, _ := strings.Cut(p, "-")
		if _, err := fmt.Sscanf(at+".1", "%d.%d", &n, &k); err != nil {
			t.Fatal(err)
		}
		parts := found[name]
		value := ""
		if n < len(parts) {
			if components := strings.Split(parts[n], component); k-1 < len(components) {
				value = plain(components[k-1])
			}
			if !strings.Contains(at, ".") && strings.Contains(parts[n], component) {
				t.Fatalf("%s holds several components: %q", p, written)
			}
		}
		out = append(out, &value)
	}
	return out
}

// TestRandomMaps runs random maps over random records, some of which have much in common,
// and checks what comes out against three other answers: each record run alone, in a file of
// its own; readers that are not ours; and what the map means, worked out in plain Go.
func TestRandomMaps(t *testing.T) {
	seed := rand.Uint64()
	rounds := 60
	if testing.Short() {
		rounds = 15
	}
	good := map[string]int{}
	for from, source := range sources {
		for _, to := range []string{"json", "csv", "hl7", "edifact", "x12"} {
			r := rand.New(rand.NewPCG(seed, uint64(len(from)*16+len(to))))
			for range rounds {
				good[from+" to "+to] += randomRound(t, r, seed, from, to, source)
				if t.Failed() {
					return
				}
			}
		}
	}
	for way, n := range good {
		if n < rounds {
			t.Errorf("%s: only %d records came out in %d rounds; the test tests little", way, n, rounds)
		}
	}
}

func randomRound(t *testing.T, r *rand.Rand, seed uint64, from, to string, source source) (good int) {
	t.Helper()
	target := randomTarget(r, to)
	var lines []assignment
	text := fmt.Sprintf("map m\nsource %s schemas/s.json\ntarget %s based on samples/sample.%s\n\nignore parent, other, own, more\n%s", from, to, to, target.also)
	for _, p := range target.places {
		a := randomAssignment(r)
		lines = append(lines, a)
		if r.IntN(4) == 0 { // the same by a name
			name := fmt.Sprintf("named_%d", len(lines))
			text += "let " + name + " = " + a.expression + "\n"
			a.expression = name
		}
		text += p + " = " + a.expression + "\n"
	}
	var described []string
	for i, f := range fields {
		path := ""
		if source.paths[i] != "" {
			path = fmt.Sprintf(`, "path": %q`, source.paths[i])
		}
		described = append(described, fmt.Sprintf(`{"name": %q%s}`, f, path))
	}
	differences := ""
	if r.IntN(2) == 0 {
		differences, target.must = "  differences: ignore\n", nil
	}
	files := map[string][]byte{
		"routes/r.yaml":        []byte(fmt.Sprintf("route: r\nlisten:\n  folder: in\n  names: \"*\"\nread:\n  %s\ncheck:\n  schema: schemas/s.json\nmap: maps/m.map\ndeliver:\n  folder: out\n  name: \"{file.stem}\"\n%s  one file per: pickup\nrejected:\n  folder: rejected\n", source.read, differences)),
		"schemas/s.json":       []byte(`{"fields": [` + strings.Join(described, ", ") + `]}`),
		"maps/m.map":           []byte(text),
		"samples/sample." + to: []byte(target.sample),
		"lookups/names.csv":    []byte("key,value\na,\"A|^\"\"+'\"\n7,seven\n"),
	}
	c, findings := Compile(workspace.FromFiles(files), "r")
	if c == nil {
		t.Fatalf("seed %d: %s\n%s\n%s", seed, findings.Error(), text, target.sample)
	}
	absent := from == "json"
	var groups []group
	for range 1 + r.IntN(4) {
		g := group{parents: [2]*string{randomText(r, absent), randomText(r, absent)}}
		for range 1 + r.IntN(6) {
			g.records = append(g.records, [2]*string{randomText(r, absent), randomText(r, absent)})
			if last := len(g.records) - 1; last > 0 && r.IntN(3) == 0 {
				g.records[last][r.IntN(2)] = g.records[last-1][r.IntN(2)]
			}
		}
		for i := range g.records {
			for _, v := range append(g.parents[:], g.records[i][:]...) {
				if from == "hl7" && v != nil && *v == `""` {
					*v = "x" // it says null there
				}
			}
		}
		groups = append(groups, g)
	}
	run := func(groups []group) *perRecord {
		o := &perRecord{}
		if _, err := c.Plan.Run(context.Background(), strings.NewReader(source.write(groups)), flow.Inputs{Cores: 1 + r.IntN(2)}, o); err != nil {
			t.Fatal(err)
		}
		return o
	}
	together := run(groups)
	n := 0
	for _, g := range groups {
		for i := range g.records {
			alone := run([]group{{g.parents, g.records[i : i+1]}})
			fail := func(f string, args ...any) {
				t.Helper()
				t.Fatalf("seed %d, record %d: %s\n%s\nsample %q\nin %q", seed, n, fmt.Sprintf(f, args...), text, target.sample, source.write(groups))
			}
			if n >= len(together.made) || len(alone.made) != 1 {
				fail("%d records came out together, %d alone", len(together.made), len(alone.made))
			}
			if together.made[n] != alone.made[0] || together.outcomes[n] != alone.outcomes[0] {
				fail("together %q (%v), alone %q (%v)", together.made[n], together.outcomes[n], alone.made[0], alone.outcomes[0])
			}
			var want []*string
			sayable := true
			for k, a := range lines {
				v := a.value(func(field string) *string {
					v := g.value(i, field)
					if v != nil && *v == "" && from == "hl7" {
						return nil // an empty field is absent there
					}
					return v
				})
				want = append(want, v)
				sayable = sayable && (v == nil && !target.must[target.places[k]] || v != nil && !target.cannot(*v))
			}
			if is := together.outcomes[n] == batch.Good; is != sayable {
				fail("good: %v, but it can be said: %v; %q", is, sayable, together.wrong)
			} else if is {
				good++
				got := target.reads(t, together.made[n])
				for k := range want {
					if orEmpty(got[k]) != orEmpty(want[k]) || !target.blank && (got[k] == nil) != (want[k] == nil) {
						fail("%s is %q, not %q, in %q", target.places[k], orEmpty(got[k]), orEmpty(want[k]), together.made[n])
					}
				}
			}
			n++
		}
	}
	if n != len(together.made) {
		t.Fatalf("seed %d: %d records came out of %d", seed, len(together.made), n)
	}
	return good
}
