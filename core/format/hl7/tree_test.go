package hl7

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/shape"
	"ydrion/core/text"
)

// result, order and patient are a message as a person reads it: values of which some are not there, and lists of them.
type (
	result struct {
		value      string
		notes, own []string // own: of a segment of the partner's own
	}
	order struct {
		control, code string
		notes, own    []string
		results       []result
	}
	patient struct {
		name, visit, own string
		notes            []string
		orders           []order
	}
)

// TestTreeOfAMessage: to each patient, order and result belongs what stands under it, whichever of them is the record, and others have what they stand
// under: of messages in which anything may be missing but what a group begins with.
func TestTreeOfAMessage(t *testing.T) {
	first := func(s []string) string { return strings.Join(s[:min(len(s), 1)], "") }
	list := func(at, fields string, lists ...shape.List) shape.List {
		return shape.List{Name: at, Shape: shape.Shape{Fields: shape.Of(strings.Fields(fields)...), Lists: lists}}
	}
	each := func(s []string) (out string) {
		for _, v := range s {
			out += "(" + v + ")"
		}
		return "[" + out + "]"
	}
	for seed := range uint64(800) {
		patients, message := patientsOf(rand.New(rand.NewPCG(seed, 3)))
		var byPatient, byOrder, byResult, byOwn []string
		whole := ""
		for _, p := range patients {
			orders, tree := "", ""
			for _, o := range p.orders {
				around := strings.Join([]string{p.name, p.visit, p.own, o.control, o.code, first(o.own)}, ",")
				results, nested, one := "", "", ""
				for i, r := range o.results {
					if i == 0 {
						one = r.value
					}
					results += fmt.Sprintf("(%s,%s)", r.value, first(r.notes))
					nested += fmt.Sprintf("(%s,%s,%s%s)", r.value, first(r.notes), first(r.own), each(r.notes))
					byResult = append(byResult, fmt.Sprintf("%s,%s,%s,%s%s%s", around, r.value, first(r.notes), first(r.own), each(r.notes), each(r.own)))
					for _, own := range r.own {
						byOwn = append(byOwn, fmt.Sprintf("%s,%s,%s", around, r.value, own))
					}
				}
				byOrder = append(byOrder, fmt.Sprintf("%s,%s,%s[%s]", around, first(o.notes), one, nested))
				orders += fmt.Sprintf("(%s,%s,%s[%s])", o.code, first(o.notes), first(o.own), results)
				tree += fmt.Sprintf("(%s[%s])", o.code, nested)
			}
			byPatient = append(byPatient, fmt.Sprintf("%s,%s,%s,%s[%s]", p.name, p.visit, p.own, first(p.notes), orders))
			whole += fmt.Sprintf("(%s,%s,%s[%s])", p.name, p.visit, p.own, tree)
		}
		const around = "PID-5 PV1-2 ZPD-2 ORC-2 OBR-4 ZOR-2 "
		results := list("OBX", "OBX-5 NTE-3 ZBX-2", list("NTE", "NTE-3"))
		for _, of := range []struct {
			unit, fields string
			lists        []shape.List
			want         []string
		}{
			{"PID", "PID-5 PV1-2 ZPD-2 PID/NTE-3", []shape.List{list("OBR", "OBR-4 NTE-3 ZOR-2", list("OBX", "OBX-5 NTE-3"))}, byPatient},
			{"OBR", around + "OBR/NTE-3 OBX-5", []shape.List{results}, byOrder},
			{"OBX", around + "OBX-5 NTE-3 ZBX-2", []shape.List{list("NTE", "NTE-3"), list("ZBX", "ZBX-2")}, byResult},
			{"ZBX", around + "OBX-5 ZBX-2", nil, byOwn},
			{"", "MSH-10", []shape.List{list("PID", "PID-5 PV1-2 ZPD-2", list("OBR", "OBR-4", results))}, []string{"1[" + whole + "]"}},
		} {
			wants := shape.Shape{Fields: shape.Of(strings.Fields(of.fields)...), Lists: of.lists}
			if got := treeOf(t, of.unit, wants, message); len(of.want) > 0 && strings.Join(got, "\n") != strings.Join(of.want, "\n") {
				t.Fatalf("seed %d, each %s is a record:\n%s\nnot\n%s\n%s", seed, of.unit, strings.Join(got, "\n"), strings.Join(of.want, "\n"), strings.ReplaceAll(message, "\r", "\n"))
			}
		}
	}
}

// TestVersionsThatNobodyKnows: their messages are read by the groups of the nearest, as are those that name none: an order without a control segment has
// none, though the one before it had.
func TestVersionsThatNobodyKnows(t *testing.T) {
	wants := shape.Shape{Fields: shape.Of(strings.Fields("PID-5 PV1-2 ORC-2 OBR-4 OBX-5")...)}
	for _, version := range []string{"2.5.1", "2.0", "2.5.2", "2.8.2", "2.10", "", " 2.4", "v2.5", "2", "2.5.1.1", "2.8^DEU"} {
		got := treeOf(t, "OBX", wants, "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|"+version+"\rPID|1||9||one\rPV1||v\rORC|RE|o\rOBR|1|||c\rOBX|1|TX|c||a\rOBR|2|||d\rOBX|1|TX|c||b\rPID|1||9||two\rOBR|1|||e\rOBX|1|TX|c||f\r")
		if fmt.Sprint(got) != "[one,v,o,c,a one,v,,d,b two,,,e,f]" {
			t.Errorf("%q: %v", version, got)
		}
	}
}

// patientsOf makes a message and what it says.
func patientsOf(r *rand.Rand) (patients []patient, message string) {
	n := 0
	put := func(segment string) string {
		n++
		value := fmt.Sprint("w", n)
		message += segment + value + "\r"
		return value
	}
	maybe := func(segment string) string {
		if r.IntN(2) == 0 {
			return ""
		}
		return put(segment)
	}
	some := func(segment string, most int) (out []string) {
		for range r.IntN(most + 1) {
			out = append(out, put(segment))
		}
		return out
	}
	message = "MSH|^~\\&|A|B|C|D|20261128||ORU^R01^ORU_R01|1|P|2.5.1\r"
	for range 1 + r.IntN(3) {
		p := patient{name: put("PID|1||9||"), notes: some("NTE|1||", 2), visit: maybe("PV1||"), own: maybe("ZPD|1|")}
		for range 1 + r.IntN(3) {
			o := order{control: maybe("ORC|RE|"), code: put("OBR|1|||"), notes: some("NTE|1||", 2), own: some("ZOR|1|", 1)}
			for range r.IntN(4) {
				o.results = append(o.results, result{put("OBX|1|TX|c||"), some("NTE|1||", 2), some("ZBX|1|", 2)})
			}
			p.orders = append(p.orders, o)
		}
		patients = append(patients, p)
	}
	return patients, message
}

// treeOf reads a message, and gives what is wanted of each record: a,b[(row of the first list)(…)][…].
func treeOf(t *testing.T, unit string, wants shape.Shape, message string) (out []string) {
	bound, findings := Source{Unit: unit}.Bind(wants)
	if bound == nil || findings.HasErrors() {
		t.Fatal(findings)
	}
	decoded, err := text.Decode(strings.NewReader(message), text.UTF8)
	if err != nil {
		t.Fatal(err)
	}
	reader, _, err := bound.Open(decoded)
	if err != nil {
		t.Fatal(err)
	}
	b := &batch.Batch{First: 1}
	if _, err := reader.Cut(b); err != nil {
		t.Fatal(err)
	}
	reader.Split(b)
	values := func(spans []batch.Span) string {
		var out []string
		for _, s := range spans {
			value := ""
			if !s.Absent() {
				value = string(b.Buf[s.Off:s.End])
			}
			out = append(out, value)
		}
		return strings.Join(out, ",")
	}
	var lists func(above, row int) string
	lists = func(above, row int) (out string) {
		for i := range b.Tables {
			if table := &b.Tables[i]; table.Above == above {
				out += "["
				for at, end := b.Rows(i, row); at < end; at++ {
					out += "(" + values(table.Spans[at*table.Slots:][:table.Slots]) + lists(i, at) + ")"
				}
				out += "]"
			}
		}
		return out
	}
	for i := range b.Bounds {
		out = append(out, values(b.Spans[i*b.Slots:][:b.Slots])+lists(-1, i))
	}
	return out
}
