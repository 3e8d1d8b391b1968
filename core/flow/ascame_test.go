package flow_test

import (
	"bytes"
	"context"
	standard "encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"

	"ydrion/core/flow"
	"ydrion/core/format/hl7"
	"ydrion/core/format/json"
	"ydrion/core/text"
)

// messageSet is a character set that MSH-18 can name, and characters of it; where a separator may be a byte of one, such ones.
type messageSet struct {
	name  string
	of    encoding.Encoding
	chars []rune
}

func messageSets() []messageSet {
	sets := []messageSet{{"", encoding.Nop, []rune("xyz")}, {"UNICODE UTF-8", encoding.Nop, []rune("äł日€")}, {"8859/1", charmap.ISO8859_1, []rune("äßé")}, {"GB 18030-2000", simplifiedchinese.GB18030, nil},
		{"BIG-5", traditionalchinese.Big5, nil}, {"ISO IR14", japanese.ShiftJIS, nil}, {"ISO IR6~ISO IR87", japanese.ISO2022JP, nil}, {"KS X 1001", korean.EUCKR, []rune("가나다")}}
	for i := range sets {
		if sets[i].chars != nil {
			continue
		}
		for c := rune(0x3041); c < 0x9fa0; c++ {
			if b, err := sets[i].of.NewEncoder().Bytes([]byte(string(c))); err == nil && bytes.ContainsAny(b, `|^~\&`) {
				sets[i].chars = append(sets[i].chars, c)
			}
		}
	}
	return sets
}

// fieldOf makes a field of some repetitions of some components of some subcomponents.
func fieldOf(r *rand.Rand, word func() string) string {
	list := func(by string, of func() string) string {
		s := of()
		for r.IntN(3) == 0 {
			s += by + of()
		}
		return s
	}
	return list("~", func() string { return list("^", func() string { return list("&", word) }) })
}

// TestMessagesAsTheyCame: messages in all character sets, with whatever values have, are those that came, but for what the map says; by hand, on decoded
// texts that are cut at each separator.
func TestMessagesAsTheyCame(t *testing.T) {
	sets := messageSets()
	same := 0
	for seed := range uint64(1200) {
		r := rand.New(rand.NewPCG(seed, 11))
		set := sets[r.IntN(len(sets))]
		ends := []string{"\r", "\r", "\n", "\r\n"}[r.IntN(4)]
		pick := func(of ...string) string { return of[r.IntN(len(of))] }
		word := func() string {
			var b strings.Builder
			for range r.IntN(4) {
				b.WriteString(pick("a", "Q7", " ", `\F\`, `\T\`, `\.br\`, `\XB5\`, `\H\`, "\t", string(set.chars[r.IntN(len(set.chars))]), string(set.chars[r.IntN(len(set.chars))])))
			}
			if r.IntN(20) == 0 { // of the other kind of line end
				b.WriteString(map[string]string{"\r": "x\ny", "\n": "x\ry", "\r\n": "x\ny"}[ends])
			}
			return b.String()
		}
		field := func() string { return fieldOf(r, word) }
		segment := func(name string, fields int) string {
			for range fields {
				name += "|" + field()
			}
			return name
		}
		lines := []string{`MSH|^~\&|A|` + word() + `|C|D|20261130||ORU^R01^ORU_R01|1|P|2.5.1||||||` + strings.Replace(set.name, "ISO IR6", "ASCII", 1)}
		chosen := word()
		lines = append(lines, segment("PID|1", 2)+"~7^^^S^MR|"+field()+"|"+field()+"|"+field())
		lines = append(lines, segment("OBR|1", 3))
		for k := range 1 + r.IntN(4) {
			lines = append(lines, fmt.Sprintf("OBX|%d|TX|%s|%s|%s|||||F", k+1, pick("C1", "C2^x", chosen), field(), field()))
		}
		message := strings.Join(lines, ends) + ends
		in, err := set.of.NewEncoder().Bytes([]byte(message))
		if err != nil {
			continue
		}
		value := pick("N", word(), "a|b^c~d&e", string(set.chars[0])+"w")
		value = strings.NewReplacer("\t", "", "\r", "", "\n", "", `"`, "", `\`, "").Replace(value)
		position := pick("PID-3", "PID-3.1", "PID-3[2].1", "PID-3[2].4.2", "PID-4", "PID-5.2", "PID-8", "OBR-4.1", "OBX[1]-5", "OBX[2]-11", "OBX(3=C1)-11", "OBX(3=C2)-5.1", "PID-3[5=MR].1", "PID-3[5=MR].4")
		mapped := fmt.Sprintf("map m\nsource hl7 s\ntarget hl7 as it came\n%s = %q\n", position, value)
		if value == "" {
			mapped = fmt.Sprintf("map m\nsource hl7 s\ntarget hl7 as it came\nclear %s\n", position)
		}
		plan := planned(t, `{"fields":[{"name":"id","path":"MSH-10"}]}`, mapped, hl7.Source{Marked: true}, hl7.NewAsCame())
		plan.Charset = text.Declared
		h := &heard{}
		result, err := plan.Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 1}, h)
		if err != nil || result.Good != 1 {
			continue
		}
		got, err := set.of.NewDecoder().Bytes(h.out.Bytes())
		want := changedByHand(message, ends, position, value)
		if same++; err != nil || string(got) != want {
			t.Errorf("seed %d, %s in %s, %s is to be %q: %v\n%q, not\n%q, of\n%q", seed, set.name, ends, position, value, err, got, want, message)
		}
	}
	if same < 700 {
		t.Errorf("only %d messages went on: this says little", same)
	}
}

// changedByHand puts a value at a position of a message.
func changedByHand(message, ends, position, value string) string {
	escaped := strings.NewReplacer(`\`, `\E\`, "|", `\F\`, "^", `\S\`, "~", `\R\`, "&", `\T\`).Replace(value)
	segment, path, _ := strings.Cut(position, "-")
	name, nth, by := segment[:3], 1, ""
	if strings.Contains(segment, "[") {
		fmt.Sscanf(segment[3:], "[%d]", &nth)
	} else if strings.Contains(segment, "(") {
		by = strings.TrimSuffix(segment[strings.Index(segment, "=")+1:], ")")
	}
	first, _ := strings.CutPrefix(path, "")
	var numbers []int // field, repetition, component, subcomponent
	mr := strings.Contains(first, "[5=MR]")
	first = strings.Replace(first, "[5=MR]", "[1]", 1)
	whole := !strings.Contains(first, "[") && !strings.Contains(first, ".")
	n, repetition := 0, 1
	if i := strings.Index(first, "["); i >= 0 {
		fmt.Sscanf(first, "%d[%d]", &n, &repetition)
		first = first[strings.Index(first, "]")+1:]
	} else {
		fmt.Sscanf(first, "%d", &n)
		first = first[len(fmt.Sprint(n)):]
	}
	for _, part := range strings.Split(strings.TrimPrefix(first, "."), ".") {
		k := 0
		fmt.Sscan(part, &k)
		numbers = append(numbers, k)
	}
	var put func(s string, by []string, at []int) string
	put = func(s string, by []string, at []int) string {
		if len(at) == 0 || at[0] == 0 {
			return escaped
		}
		parts := strings.Split(s, by[0])
		for len(parts) < at[0] {
			if escaped == "" {
				return s
			}
			parts = append(parts, "")
		}
		parts[at[0]-1] = put(parts[at[0]-1], by[1:], at[1:])
		return strings.Join(parts, by[0])
	}
	lines := strings.Split(message, ends)
	met := 0
	for i, line := range lines {
		if !strings.HasPrefix(line, name+"|") {
			continue
		}
		fields := strings.Split(line, "|")
		switch {
		case by == "":
			if met++; met != nth && value != "" || value == "" && strings.Contains(segment, "[") && met != nth {
				continue
			}
		default:
			code, _, _ := strings.Cut(fields[3], "^")
			if code, _, _ = strings.Cut(code, "~"); code != by && !strings.HasPrefix(code, by+"&") {
				continue
			}
		}
		for len(fields) <= n && escaped != "" {
			fields = append(fields, "")
		}
		if n < len(fields) {
			at := repetition
			if mr {
				for k, of := range strings.Split(fields[n], "~") {
					if parts := strings.Split(of, "^"); len(parts) > 4 && (parts[4] == "MR" || strings.HasPrefix(parts[4], "MR&")) {
						at = k + 1
						break
					}
				}
			}
			if whole {
				fields[n] = escaped
			} else {
				fields[n] = put(fields[n], []string{"~", "^", "&"}, append([]int{at}, numbers...))
			}
		}
		lines[i] = strings.Join(fields, "|")
		if by != "" && value != "" {
			break
		}
	}
	return strings.Join(lines, ends)
}

// TestMessagesInAllSets: what messages in all character sets become is what their decoded texts say, cut at each separator.
func TestMessagesInAllSets(t *testing.T) {
	to, err := json.NewTarget("s.json", []byte(`{"sender":"","name":"","given":"","code":"","value":"","part":"","note":""}`))
	if err != nil {
		t.Fatal(err)
	}
	const schemaText = `{"fields":[{"name":"sender","path":"MSH-3"},{"name":"name","path":"PID-5.1"},{"name":"given","path":"PID-5[2].2"},{"name":"code","path":"OBX-3.1"},{"name":"value","path":"OBX-5"},{"name":"part","path":"OBX-5.2.2"},{"name":"note","path":"NTE-3"}]}`
	plan := planned(t, schemaText, "map m\nsource hl7 s\ntarget json based on s\nsender = sender\nname = name\ngiven = given\ncode = code\nvalue = value\npart = part\nnote = note\n", hl7.Source{Unit: "OBX"}, to)
	plan.Charset = text.Declared
	sets, read := messageSets(), 0
	for seed := range uint64(1200) {
		r := rand.New(rand.NewPCG(seed, 12))
		set := sets[r.IntN(len(sets))]
		ends := []string{"\r", "\n", "\r\n"}[r.IntN(3)]
		word := func() string {
			var b strings.Builder
			for range r.IntN(4) {
				b.WriteString([]string{"a", "Q7", " ", `\F\`, `\T\`, `\E\`, `\S\`, string(set.chars[r.IntN(len(set.chars))]), string(set.chars[r.IntN(len(set.chars))])}[r.IntN(9)])
			}
			return b.String()
		}
		field := func() string { return fieldOf(r, word) }
		var in strings.Builder
		var want []map[string]string
		for n := range 1 + r.IntN(3) {
			sender, name := word(), field()
			lines := []string{`MSH|^~\&|` + sender + `|` + word() + `|C|D|20261130||ORU^R01^ORU_R01|` + fmt.Sprint(n) + `|P|2.5.1||||||` + strings.Replace(set.name, "ISO IR6", "ASCII", 1), "PID|1||" + field() + "||" + name, "OBR|1|" + field()}
			for k := range 1 + r.IntN(3) {
				code, value, note := field(), field(), field()
				lines = append(lines, fmt.Sprintf("OBX|%d|TX|%s||%s||||||F", k+1, code, value), "NTE|1||"+note)
				of := map[string]string{"sender": part(sender), "name": part(name, 1, 1), "given": part(name, 2, 2), "code": part(code, 1, 1), "value": part(value), "part": part(value, 1, 2, 2), "note": part(note)}
				for name, v := range of {
					if v == "" {
						delete(of, name)
					}
				}
				want = append(want, of)
			}
			in.WriteString(strings.Join(lines, ends) + ends)
		}
		encoded, err := set.of.NewEncoder().Bytes([]byte(in.String()))
		if err != nil {
			continue
		}
		h := &heard{}
		result, err := plan.Run(context.Background(), bytes.NewReader(encoded), flow.Inputs{Cores: 1}, h)
		if err != nil || int(result.Good) != len(want) {
			t.Errorf("seed %d, %s: %v, %d of %d, %v\n%q", seed, set.name, err, result.Good, len(want), result.Findings, in.String())
			continue
		}
		read++
		for i, line := range strings.Split(strings.TrimSpace(h.out.String()), "\n") {
			var got map[string]string
			if err := standard.Unmarshal([]byte(line), &got); err != nil || fmt.Sprintf("%q", got) != fmt.Sprintf("%q", want[i]) {
				t.Errorf("seed %d, %s: %v\n%q, not\n%q, of\n%q", seed, set.name, err, got, want[i], in.String())
			}
		}
	}
	if read < 1000 {
		t.Errorf("only %d files could be read", read)
	}
}

// part is a piece of a field, chosen by repetition, component and subcomponent, as it reads.
func part(field string, at ...int) string {
	for i, by := range []string{"~", "^", "&"} {
		n := 1
		if i < len(at) {
			n = at[i]
		}
		parts := strings.Split(field, by)
		if n > len(parts) {
			return ""
		}
		field = parts[n-1]
	}
	return strings.NewReplacer(`\F\`, "|", `\S\`, "^", `\T\`, "&", `\R\`, "~", `\E\`, `\`).Replace(field)
}
