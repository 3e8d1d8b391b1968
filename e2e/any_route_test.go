package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"

	"ydrion/testbed"
)

// weighing is a record of the files of random routes. Whatever a route does, its number is found by in what comes out.
type weighing struct {
	id, pool, kg, note string
	file               int
}

// unread is a weight that no schema takes for one.
const unread = "x7"

var weighingID = regexp.MustCompile(`M[0-9]{6}`)

// source is a way to write weighings, and where its values stand.
type source struct {
	format, read       string // as routes say it
	id, pool, kg, note string // paths
	parts              bool   // records are parts of messages
	notes              string // what stands in notes, apart by new lines
	file               func(r *rand.Rand, all []weighing) string
}

const (
	plainNotes = "plain\ntwo words\n\n0012\n-\nsemi;colon\nit is"
	oddNotes   = plainNotes + "\npipe|hat^tilde~amp&back\\\nplus+colon:q?ap'\nstar*gt>\né ü\na \"quote\"\ncomma, here"
)

const (
	ofMSH = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1||||||UNICODE UTF-8\r"
	ofISA = "ISA*00*          *00*          *ZZ*SKERRY         *ZZ*LABSUPPLY      *261125*0930*^*00501*000000007*0*T*>~\nGS*PO*S*L*20261125*0930*7*X*005010~\n"
	ofUNB = "UNB+UNOC:3+SKERRY+TIDEWRACK+261125:0930+7'\n"
)

var (
	ofHL7     = strings.NewReplacer("\\", "\\E\\", "|", "\\F\\", "^", "\\S\\", "~", "\\R\\", "&", "\\T\\")
	ofEDIFACT = strings.NewReplacer("?", "??", "+", "?+", ":", "?:", "'", "?'", "é", "\xe9", "ü", "\xfc")
)

// sheetOf writes a table.
func sheetOf(delimiter rune, encode func(string) string) func(*rand.Rand, []weighing) string {
	return func(_ *rand.Rand, all []weighing) string {
		var b strings.Builder
		w := csv.NewWriter(&b)
		w.Comma = delimiter
		w.Write([]string{"id", "pool", "kg", "note"}) //nolint: a builder takes everything
		for _, q := range all {
			w.Write([]string{q.id, q.pool, q.kg, q.note}) //nolint: as above
		}
		w.Flush()
		return encode(b.String())
	}
}

// objectsOf writes objects.
func objectsOf(before, between, behind string) func(*rand.Rand, []weighing) string {
	return func(_ *rand.Rand, all []weighing) string {
		var parts []string
		for _, q := range all {
			kg, note := q.kg, encoded(json.Marshal(q.note))
			if kg == unread {
				kg = `"` + unread + `"`
			}
			parts = append(parts, fmt.Sprintf(`{"id": %q, "at": {"pool": %q}, "kg": %s, "note": %s}`, q.id, q.pool, kg, note))
		}
		return before + strings.Join(parts, between) + behind
	}
}

func encoded(b []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return b
}

// messagesOf writes messages of so many weighings each, at random.
func messagesOf(before string, most int, message func(k int, of []weighing) string, behind func(messages int) string) func(*rand.Rand, []weighing) string {
	return func(r *rand.Rand, all []weighing) string {
		out, n := before, 0
		for len(all) > 0 {
			of := all[:min(1+r.IntN(most), len(all))]
			n++
			out, all = out+message(n, of), all[len(of):]
		}
		return out + behind(n)
	}
}

func utf16Of(s string) string {
	out := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u), byte(u>>8))
	}
	return string(out)
}

func latin(s string) string {
	s, err := charmap.Windows1252.NewEncoder().String(s)
	return string(encoded([]byte(s), err))
}

func nothingBehind(int) string { return "" }

func closingX12(n int) string { return fmt.Sprintf("GE*%d*7~\nIEA*1*000000007~\n", n) }

func closingEDIFACT(n int) string { return fmt.Sprintf("UNZ+%d+7'\n", n) }

var waysToWrite = []source{
	{format: "csv", id: "id", pool: "pool", kg: "kg", note: "note", notes: oddNotes + "\nnew\\nline", file: sheetOf(',', strings.Clone)},
	{format: "csv", read: "encoding: windows-1252, delimiter: \";\"", id: "id", pool: "pool", kg: "kg", note: "note", notes: oddNotes, file: sheetOf(';', latin)},
	{format: "csv", read: "encoding: utf-16, delimiter: tab", id: "id", pool: "pool", kg: "kg", note: "note", notes: oddNotes, file: sheetOf('\t', utf16Of)},
	{format: "json", read: "record: /data/rows/*", id: "/id", pool: "/at/pool", kg: "/kg", note: "/note", notes: oddNotes + "\nnew\\nline", file: objectsOf(`{"of": "x", "data": {"k": [1], "rows": [`, ", ", `], "behind": true}}`)},
	{format: "json", id: "/id", pool: "/at/pool", kg: "/kg", note: "/note", notes: oddNotes, file: objectsOf("", "\n", "\n")},
	{format: "hl7", id: "PID-3.1", pool: "PID-8", kg: "OBX-5", note: "PID-5.1", notes: oddNotes, file: messagesOf("", 1, func(_ int, of []weighing) string {
		return fmt.Sprintf("%sPID|1||%s||%s|||%s\rOBR|1|||C\rOBX|1|NM|WBC||%s|g/L|||||F\r", ofMSH, of[0].id, ofHL7.Replace(of[0].note), of[0].pool, of[0].kg)
	}, nothingBehind)},
	{format: "hl7", read: "record: OBX", parts: true, id: "OBX-4", pool: "OBX-8", kg: "OBX-5", note: "OBX-7", notes: oddNotes, file: messagesOf("", 5, func(_ int, of []weighing) string {
		out := ofMSH + "PID|1||9||Pup\rOBR|1|||C\r"
		for i, q := range of {
			out += fmt.Sprintf("OBX|%d|NM|WBC|%s|%s|g/L|%s|%s|||F\rNTE|1||of it\r", i+1, q.id, q.kg, ofHL7.Replace(q.note), q.pool)
		}
		return out
	}, nothingBehind)},
	{format: "x12", id: "BEG-3", pool: "REF(ZZ)-2", kg: "PO1-2", note: "N1(BY)-2", notes: plainNotes, file: messagesOf(ofISA, 1, func(k int, of []weighing) string {
		return fmt.Sprintf("ST*850*%04d~\nBEG*00*SA*%s**20261125~\nREF*ZZ*%s~\nN1*BY*%s~\nPO1*1*%s*EA~\nCTT*1~\nSE*7*%04[1]d~\n", k, of[0].id, of[0].pool, of[0].note, of[0].kg)
	}, closingX12)},
	{format: "x12", read: "record: PO1", parts: true, id: "PO1-7", pool: "PO1-9", kg: "PO1-2", note: "PO1-11", notes: plainNotes, file: messagesOf(ofISA, 5, func(k int, of []weighing) string {
		out := fmt.Sprintf("ST*850*%04d~\nBEG*00*SA*P1**20261125~\n", k)
		for i, q := range of {
			out += fmt.Sprintf("PO1*%d*%s*EA***VP*%s*CB*%s*PD*%s~\n", i+1, q.kg, q.id, q.pool, q.note)
		}
		return out + fmt.Sprintf("CTT*%d~\nSE*%d*%04d~\n", len(of), len(of)+4, k)
	}, closingX12)},
	{format: "edifact", id: "BGM-2", pool: "RFF(ZZZ)-1.2", kg: "CNT(2)-1.2", note: "FTX-4.1", notes: oddNotes, file: messagesOf(ofUNB, 1, func(k int, of []weighing) string {
		return fmt.Sprintf("UNH+%d+ORDERS:D:96A:UN'\nBGM+220+%s+9'\nDTM+137:20261125:102'\nFTX+AAI+++%s'\nRFF+ZZZ:%s'\nLIN+1'\nUNS+S'\nCNT+2:%s'\nUNT+9+%[1]d'\n", k, of[0].id, ofEDIFACT.Replace(of[0].note), of[0].pool, of[0].kg)
	}, closingEDIFACT)},
	{format: "edifact", read: "record: LIN", parts: true, id: "LIN-3.1", pool: "RFF(ZZZ)-1.2", kg: "QTY(21)-1.2", note: "IMD-3.4", notes: oddNotes, file: messagesOf(ofUNB, 5, func(k int, of []weighing) string {
		out := fmt.Sprintf("UNH+%d+ORDERS:D:96A:UN'\nBGM+220+P+9'\nDTM+137:20261125:102'\n", k)
		for i, q := range of {
			out += fmt.Sprintf("LIN+%d++%s:SA'\nIMD+F++:::%s'\nQTY+21:%s'\nRFF+ZZZ:%s'\n", i+1, q.id, ofEDIFACT.Replace(q.note), q.kg, q.pool)
		}
		return out + fmt.Sprintf("UNS+S'\nUNT+%d+%d'\n", 5+4*len(of), k)
	}, closingEDIFACT)},
}

// waysToMake are targets: a sample, and what a map says of it.
var waysToMake = map[string]struct{ format, sample, lines string }{
	"csv":     {"csv", "id,pool,kg,note\n", "id = id\npool = pool\nkg = kg\nnote = note\n"},
	"json":    {"json", `{"id": "", "pool": "", "kg": 1, "note": ""}`, "id = id\npool = pool\nkg = kg\nnote = note\n"},
	"hl7":     {"hl7", ofMSH + "PID|1||9||Pup\rOBR|1|||C\rOBX|1|NM|WBC||4|g/L|||||F\r", "keep MSH, PID-1, OBR, OBX\nPID-3 = id\nPID-8 = pool\nOBX-5 = kg\nPID-5 = note if absent \"\" if empty \"\"\n"},
	"x12":     {"x12", ofISA + "ST*850*0001~BEG*00*SA*A**20261125~REF*ZZ*g~N1*BY*x~PO1*1*3*EA***VP*a~CTT*1~SE*7*0001~GE*1*7~IEA*1*000000007~", "keep ISA, GS, ST-1, BEG-1, BEG-2, BEG-5, REF-1, N1-1, PO1-1, PO1-3, PO1-6, PO1-7, CTT\nST-2 = record | pad 4 \"0\"\nBEG-3 = id\nREF-2 = pool\nN1-2 = note\nPO1-2 = kg\n"},
	"edifact": {"edifact", ofUNB + "UNH+1+ORDERS:D:96A:UN'BGM+220+A+9'DTM+137:20261125:102'FTX+AAI+++t'RFF+ZZZ:g'LIN+1'QTY+21:1'UNS+S'UNT+9+1'UNZ+1+7'", "keep UNB, UNH, BGM-1, BGM-3, DTM, FTX-1, RFF-1.1, LIN, QTY-1.1, UNS\nBGM-2 = id\nFTX-4.1 = note\nRFF-1.2 = pool\nQTY-1.2 = kg\n"},
	"as came": {"", "", ""},
}

// anyRoute is a random route, the files for it, and what must become of their records.
type anyRoute struct {
	name, about string
	from        *source
	to          string
	files       map[string]string // of the workspace
	inputs      []string
	records     []weighing
	whole       []bool                         // files that are rejected as one piece
	folders     map[string]func(weighing) bool // which records each has
	rejects     string                         // records of this weight
	skips       string
	tolerates   bool // any number of wrong ones
}

func oneOf[T any](r *rand.Rand, of ...T) T { return of[r.IntN(len(of))] }

// wrong tells whether a record is rejected by itself.
func (a *anyRoute) wrong(q weighing) bool { return q.kg == unread || q.kg == a.rejects }

func (a *anyRoute) good(q weighing) bool {
	return !a.wrong(q) && q.kg != a.skips && !a.whole[q.file]
}

// randomRoute makes one. Number hands out those of records.
func randomRoute(r *rand.Rand, k int, number *int) *anyRoute {
	a := &anyRoute{name: fmt.Sprintf("any-%d", k), from: &waysToWrite[r.IntN(len(waysToWrite))], to: oneOf(r, "csv", "csv", "json", "json", "hl7", "x12", "edifact", "as came"), files: map[string]string{}, folders: map[string]func(weighing) bool{}}
	if a.from.parts && a.to == "as came" {
		a.to = "json"
	}
	notes := a.from.notes
	if a.to == "x12" { // it has no way to say the rest
		notes = plainNotes
	} else if a.to == "hl7" || a.to == "edifact" {
		notes = strings.TrimSuffix(notes, "\nnew\\nline")
	}
	together, count := r.IntN(3) == 0, 1+r.IntN(3)
	together = together && count > 1
	tolerate := oneOf(r, "", "", "20%", "12%")
	a.tolerates = tolerate == ""
	if r.IntN(2) == 0 {
		a.rejects = "13"
	}
	if r.IntN(2) == 0 {
		a.skips = "17"
	}
	for file := range count {
		var all []weighing
		bad := 0
		for range oneOf(r, 1, 2, 5, 17, 40, 300, 1100) {
			*number++
			q := weighing{fmt.Sprintf("M%06d", *number), oneOf(r, "a", "b", "c", "d"), strconv.Itoa(r.IntN(20)), strings.ReplaceAll(oneOf(r, strings.Split(notes, "\n")...), "\\n", "\n"), file}
			if r.IntN(9) == 0 {
				q.kg = unread
			}
			if all = append(all, q); a.wrong(q) {
				bad++
			}
		}
		limit, _ := strconv.Atoi(strings.TrimSuffix(tolerate, "%"))
		a.whole = append(a.whole, !a.tolerates && bad*100 > limit*len(all))
		a.records, a.inputs = append(a.records, all...), append(a.inputs, a.from.file(r, all))
	}
	collect, shape, check := "", "", "schema: schemas/"+a.name+".json"
	if together {
		collect = fmt.Sprintf("collect: {by: '{file.stem | before \"_\"}', complete: %d}\norder: {by: name}\n", count)
	}
	if tolerate != "" {
		check += ", tolerate: " + tolerate
	}
	if (a.from.format == "csv" || a.from.format == "json") && a.to != "as came" {
		shape = oneOf(r, "", "shape: [{sort: [kg]}]\n", "shape: [{sort: [pool, kg descending]}]\n", "shape: [{one per: [id], keep: last}]\n", "shape: [{one per: [id]}, {sort: [note]}]\n")
	}
	path := func(name, path string) string { return fmt.Sprintf(`{"name": %q, "path": %q`, name, path) }
	if a.from.format == "csv" {
		path = func(name, _ string) string { return fmt.Sprintf(`{"name": %q`, name) }
	}
	a.files["schemas/"+a.name+".json"] = `{"fields": [` + path("id", a.from.id) + "}, " + path("pool", a.from.pool) + "}, " + path("kg", a.from.kg) + `, "type": "integer", "constraints": {"required": true}}, ` + path("note", a.from.note) + "}]}"
	route := "route: " + a.name + "\nlisten: {folder: \"{stations}/" + a.name + "\", quiet: 1ms}\n" + collect + "read: {" + strings.TrimSuffix("format: "+a.from.format+", "+a.from.read, ", ") + "}\ncheck: {" + check + "}\n" + shape
	kg := func(q weighing) int { n, _ := strconv.Atoi(q.kg); return n }
	per := oneOf(r, "pickup", "pickup", "record", "\"{pool}\"", "2 records", "100 records", "1k")
	switch all := a.folder("all", a.good); {
	case r.IntN(3) == 0:
		first, second := func(q weighing) bool { return kg(q) < 8 }, func(q weighing) bool { return q.pool == "b" }
		neither := func(q weighing) bool { return !first(q) && !second(q) }
		route += "branches:\n"
		for i, b := range []struct {
			when string
			is   func(weighing) bool
		}{{"kg < 8", first}, {`pool = "b"`, second}, {"otherwise", neither}} {
			branch, per := fmt.Sprintf("b%d", i), oneOf(r, "pickup", "record", "\"{pool}\"", "3 records")
			route += fmt.Sprintf("  - {name: %s, when: %s, map: %s, deliver: {folder: %s, name: %s, one file per: %s}}\n", branch, strconv.Quote(b.when), a.mapped(branch), a.folder(branch, func(q weighing) bool { return a.good(q) && b.is(q) }), namedFor(per), per)
		}
		delete(a.folders, a.name+"/all")
	case (per == "record" || per[0] == '"') && r.IntN(2) == 0:
		light := func(q weighing) bool { return a.good(q) && kg(q) < 10 }
		route += fmt.Sprintf("map: %s\ndeliver:\n  name: %s\n  one file per: %s\n  to:\n    - {folder: %s, when: kg < 10}\n    - {folder: %s, when: 'pool = \"a\"'}\n    - {folder: %s, when: otherwise}\n", a.mapped("m"), namedFor(per), per, a.folder("light", light),
			a.folder("pool", func(q weighing) bool { return a.good(q) && q.pool == "a" }), a.folder("others", func(q weighing) bool { return a.good(q) && !light(q) && q.pool != "a" }))
		delete(a.folders, a.name+"/all")
	default:
		route += fmt.Sprintf("map: %s\ndeliver: {folder: %s, name: %s, one file per: %s}\n", a.mapped("m"), all, namedFor(per), per)
	}
	a.files["routes/"+a.name+".yaml"] = route + "rejected: {folder: \"{stations}/rejected/" + a.name + "\"}\n"
	a.about = fmt.Sprintf("%s to %s:\n%s%s", a.from.format, a.to, a.files["routes/"+a.name+".yaml"], a.files["maps/"+a.name+"-m.map"])
	return a
}

// folder is one for outputs, as routes name it, in which these records must be.
func (a *anyRoute) folder(name string, has func(weighing) bool) string {
	a.folders[a.name+"/"+name] = has
	return "\"{laboratory}/" + a.name + "/" + name + "\""
}

// mapped writes a map.
func (a *anyRoute) mapped(name string) string {
	to, file := waysToMake[a.to], "maps/"+a.name+"-"+name+".map"
	target := "target " + a.from.format + " as it came"
	if a.to != "as came" {
		a.files["samples/any."+a.to] = to.sample
		target = "target " + to.format + " based on samples/any." + a.to
	}
	lines := to.lines
	if a.rejects != "" {
		lines += "reject when kg = " + a.rejects + " because \"it cannot be\"\n"
	}
	if a.skips != "" {
		lines += "skip when kg = " + a.skips + " because \"it is known\"\n"
	}
	a.files[file] = "map m\nsource " + a.from.format + " schemas/" + a.name + ".json\n" + target + "\n\n" + lines
	return file
}

// namedFor is a name for outputs of so many records.
func namedFor(per string) string {
	switch {
	case per == "pickup":
		return "\"{file.stem}.out\""
	case per == "record":
		return "\"{file.stem}-{id}-{sequence}.out\""
	case per[0] == '"':
		return "\"{pool}.out\"" // of which there are others, from other files
	}
	return "\"{file.stem}-{part.number}.out\""
}

// lookedThrough is how often the numbers of records stand in the files of a folder, but in what is said of them.
func lookedThrough(t *testing.T, folder string, each func(path string, content []byte)) map[string]int {
	t.Helper()
	found := map[string]int{}
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(path, ".findings.") {
			return nil
		}
		content, err := os.ReadFile(path)
		for _, id := range weighingID.FindAllString(string(bytes.ReplaceAll(content, []byte{0}, nil)), -1) { // UTF-16, too
			found[id]++
		}
		each(path, content)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return found
}

// TestAnyRoute: whatever a route reads, makes, puts together, tells apart and rejects, each record comes out once wherever it has to, with its values,
// or is rejected, once; the counts say so, and each is found. What is rejected is mended and handed in again, and then is as if it had been good.
func TestAnyRoute(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r, number, count := rand.New(rand.NewPCG(seed, 7)), 0, 25
	if soak {
		count = 400
	}
	b := testbed.Start(t)
	var routes []*anyRoute
	files := map[string]string{}
	for k := range count {
		a := randomRoute(r, k, &number)
		routes = append(routes, a)
		for name, content := range a.files {
			files[name] = content
		}
	}
	b.Publish(files)
	ended := func(pattern string, want int) {
		testbed.Until(t, "all have ended", func() bool {
			n := 0
			b.Ask(&n, `select count(*) from pickups where name like $1 and ended_at is not null`, pattern)
			return n >= want
		})
	}
	dropped, handed := 0, 0
	for _, a := range routes {
		for file, content := range a.inputs {
			b.Drop("stations/"+a.name, fmt.Sprintf("%s_%d.any", a.name, file), content)
			dropped++
		}
	}
	ended("%.any", dropped)
	for _, a := range routes {
		a.check(t, b)
		a.counted(t, b)
		a.find(t, b, a.records[r.IntN(len(a.records))])
		lookedThrough(t, b.Path("stations/rejected", a.name), func(_ string, content []byte) {
			if !a.tolerates {
				return
			}
			content = bytes.ReplaceAll(content, []byte(`"`+unread+`"`), []byte("3"))
			content = bytes.ReplaceAll(bytes.ReplaceAll(content, []byte("x\x007\x00"), []byte("3\x00")), []byte(unread), []byte("3"))
			if _, err := b.Client.Hand(context.Background(), a.name, fmt.Sprintf("%s_%d.mended", a.name, handed), bytes.NewReader(content)); err != nil {
				t.Fatal(err)
			}
			handed++
		})
	}
	ended("%.mended", handed)
	for _, a := range routes {
		for i := range a.records {
			if a.tolerates && a.records[i].kg == unread {
				a.records[i].kg = "3"
			}
		}
		a.check(t, b)
	}
	t.Logf("%d files of %d records, %d mended", dropped, number, handed)
}

// check compares what came out with what had to.
func (a *anyRoute) check(t *testing.T, b *testbed.Bed) {
	t.Helper()
	told := 0
	bad := func(format string, args ...any) {
		if told++; told < 4 {
			t.Errorf("%s\nof %s", fmt.Sprintf(format, args...), a.about)
		}
	}
	by := map[string]weighing{}
	for _, q := range a.records {
		by[q.id] = q
	}
	for folder, has := range a.folders {
		found := lookedThrough(t, b.Path("laboratory", folder), func(path string, content []byte) {
			for _, q := range a.values(bad, content) {
				if is := by[q.id]; q.pool != is.pool || q.kg != is.kg || q.note != is.note {
					bad("%s has %+v, and not %+v", path, q, is)
				}
			}
		})
		for _, q := range a.records {
			if want := map[bool]int{true: 1}[has(q)]; found[q.id] != want {
				bad("%+v is %d times in %s, and not %d", q, found[q.id], folder, want)
			}
		}
	}
	rejected := lookedThrough(t, b.Path("stations/rejected", a.name), func(string, []byte) {})
	for _, q := range a.records {
		if is := rejected[q.id] > 0; is != (a.wrong(q) || a.whole[q.file]) && !(is && q.kg == "3") { // it was, and has been mended
			bad("%+v is %d times among what is rejected", q, rejected[q.id])
		}
	}
}

// values reads what was made, where the standard library can.
func (a *anyRoute) values(bad func(string, ...any), content []byte) (out []weighing) {
	switch a.to {
	case "csv":
		rows, err := csv.NewReader(bytes.NewReader(content)).ReadAll()
		if err != nil || strings.Join(rows[0], ",") != "id,pool,kg,note" {
			bad("%v: %q", err, content[:min(len(content), 200)])
			return nil
		}
		for _, row := range rows[1:] {
			out = append(out, weighing{row[0], row[1], row[2], row[3], 0})
		}
	case "json":
		for d := json.NewDecoder(bytes.NewReader(content)); d.More(); {
			var q struct {
				ID, Pool, Note string
				Kg             json.Number
			}
			if err := d.Decode(&q); err != nil {
				bad("%v: %q", err, content[:min(len(content), 200)])
				return nil
			}
			out = append(out, weighing{q.ID, q.Pool, q.Kg.String(), q.Note, 0})
		}
	}
	return out
}

// counted compares the counts of pickups.
func (a *anyRoute) counted(t *testing.T, b *testbed.Bed) {
	t.Helper()
	var want, got struct{ in, good, rejected, filtered int64 }
	for _, q := range a.records {
		want.in++
		switch {
		case q.kg == a.skips: // which counts as that in a file that is rejected, too
			want.filtered++
		case a.wrong(q) || a.whole[q.file]:
			want.rejected++
		default:
			want.good++
		}
	}
	page, err := b.Client.Pickups(context.Background(), url.Values{"route": {a.name}})
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range page.Items {
		got.in, got.good, got.rejected, got.filtered = got.in+p.In, got.good+p.Good, got.rejected+p.Rejected, got.filtered+p.Filtered
	}
	if got != want {
		t.Errorf("%+v is counted, and not %+v, of %s", got, want, a.about)
	}
}

// find asks where a record is.
func (a *anyRoute) find(t *testing.T, b *testbed.Bed, q weighing) {
	t.Helper()
	answer, err := b.Client.Find(context.Background(), url.Values{"text": {q.id}, "route": {a.name}})
	if err != nil || len(answer.Items) != 1 {
		t.Errorf("%+v: %+v %v of %s", q, answer, err, a.about)
		return
	}
	into := answer.Items[0].WentInto
	for _, has := range a.folders {
		if has(q) {
			into = append(into, "")
		}
	}
	if len(into) != 2*len(answer.Items[0].WentInto) {
		t.Errorf("%+v is said to be in %q, of %s", q, answer.Items[0].WentInto, a.about)
	}
	for _, file := range answer.Items[0].WentInto {
		if content := b.Read(below(b, []string{file}, "")); !strings.Contains(strings.ReplaceAll(content, "\x00", ""), q.id) {
			t.Errorf("%+v is not in %s, of %s", q, file, a.about)
		}
	}
}
