package flow_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"testing"

	"ydrion/core/batch"
	"ydrion/core/flow"
	"ydrion/core/format"
	source "ydrion/core/format/json"
)

// nested is JSON of samples with results: as one list in a document, or an object a line.
func nested(samples int, lines bool) []byte {
	var b bytes.Buffer
	if !lines {
		b.WriteString(`{"lab": "Skerry", "samples": [`)
	}
	for i := range samples {
		if i > 0 && !lines {
			b.WriteString(",\n")
		}
		fmt.Fprintf(&b, `{"id": "S-%06d", "taken": "2026-11-%02dT09:%02d:00Z", "station": {"code": "ST%02d", "name": "Brunholm \u2116 %d", "lat": 58.%04d, "lon": -3.%04d}, "animal": {"tag": "T-%05d", "species": "GS", "sex": "%c", "kg": %d.5}, "note": "calm, \"fed\"", "results": [`,
			i, 1+i%28, i%60, i%17, i%9, i%10000, i%9999, i%50000, "MFU"[i%3], 20+i%80)
		for k := range 1 + i%4 {
			if k > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, `{"code": "C%02d", "value": %d.%02d, "unit": "mmol/L", "flag": %v}`, k*7%30, i%200, k*13, []string{"null", `"H"`, `"L"`}[(i+k)%3])
		}
		b.WriteString("]}")
		if lines {
			b.WriteByte('\n')
		}
	}
	if !lines {
		b.WriteString("]}\n")
	}
	return b.Bytes()
}

var nestedFields = []string{"code", "value", "unit", "2/id", "2/taken", "2/station/code", "2/station/name", "2/station/lat", "2/station/lon", "2/animal/tag", "2/animal/species", "2/animal/kg"}

// nestedPlan makes a row of each result, with nine members of its sample.
func nestedPlan(tb testing.TB, lines bool) *flow.Plan {
	at := "/samples/*/results/*"
	if lines {
		at = "/results/*"
	}
	return copying(tb, source.Source{Records: at}, "json", nestedFields...)
}

// written is a sink that writes what comes.
type written struct {
	to     io.Writer
	opened *flow.Opened
	first  bool
}

func (w *written) Open(o *flow.Opened) error { w.opened, w.first = o, true; return nil }
func (w *written) Batch(b *batch.Batch) error {
	made, err := w.opened.Assemblies[0].All(b)
	w.first = false
	if err == nil {
		_, err = w.to.Write(made)
	}
	return err
}
func (w *written) Broken(*format.Broken) error { return nil }

// result and sample are what the standard library reads.
type result struct {
	Code, Unit string
	Value      json.Number
}

type sample struct {
	ID, Taken string
	Station   struct {
		Code, Name string
		Lat, Lon   json.Number
	}
	Animal struct {
		Tag, Species string
		KG           json.Number
	}
	Results []result
}

// library does the same with the standard library, as it is written in an hour.
func library(in io.Reader, lines bool, to io.Writer) error {
	d := json.NewDecoder(in)
	d.UseNumber()
	out := bufio.NewWriter(to)
	for i := range nestedFields {
		if i > 0 {
			out.WriteByte(',')
		}
		fmt.Fprintf(out, "f%d", i)
	}
	out.WriteByte('\n')
	if !lines {
		for range 5 { // {"lab": "Skerry", "samples": [
			if _, err := d.Token(); err != nil {
				return err
			}
		}
	}
	cell := func(s string) {
		if strings.ContainsAny(s, ",\"\r\n") {
			s = strconv.Quote(s)
		}
		out.WriteString(s)
	}
	for d.More() {
		var s sample
		if err := d.Decode(&s); err != nil {
			return err
		}
		for _, r := range s.Results {
			for i, v := range []string{r.Code, r.Value.String(), r.Unit, s.ID, s.Taken, s.Station.Code, s.Station.Name, s.Station.Lat.String(), s.Station.Lon.String(), s.Animal.Tag, s.Animal.Species, s.Animal.KG.String()} {
				if i > 0 {
					out.WriteByte(',')
				}
				cell(v)
			}
			out.WriteByte('\n')
		}
	}
	return out.Flush()
}

// TestNested: rows of nested lists are those that the standard library makes, and a scanner written by hand.
func TestNested(t *testing.T) {
	for _, lines := range []bool{false, true} {
		in := nested(3000, lines)
		var want, got, hands bytes.Buffer
		if err := library(bytes.NewReader(in), lines, &want); err != nil {
			t.Fatal(err)
		}
		r, err := nestedPlan(t, lines).Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 1}, &written{to: &got})
		if err != nil || r.Rejected > 0 || got.String() != want.String() {
			t.Errorf("lines %v: %+v %v\n%.600s\nnot\n%.600s", lines, r, err, got.String(), want.String())
		}
		h := hand{in: append(in, make([]byte, 8)...)}
		if err := h.rows(lines, &hands); err != nil || hands.String() != want.String() {
			t.Errorf("lines %v: by hand %v\n%.600s\nnot\n%.600s", lines, err, hands.String(), want.String())
		}
	}
}

func BenchmarkNested(b *testing.B) {
	for _, lines := range []bool{false, true} {
		in := nested(30_000, lines)
		kind := map[bool]string{false: "list", true: "lines"}[lines]
		b.Run(kind, func(b *testing.B) {
			b.SetBytes(int64(len(in)))
			b.ReportAllocs()
			p := nestedPlan(b, lines)
			for b.Loop() {
				if _, err := p.Run(context.Background(), bytes.NewReader(in), flow.Inputs{Cores: 1}, &written{to: io.Discard}); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(kind+" by hand", func(b *testing.B) {
			b.SetBytes(int64(len(in)))
			h := hand{in: append(bytes.Clone(in), make([]byte, 8)...)}
			for b.Loop() {
				if err := h.rows(lines, io.Discard); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(kind+" with encoding/json", func(b *testing.B) {
			b.SetBytes(int64(len(in)))
			for b.Loop() {
				if err := library(bytes.NewReader(in), lines, io.Discard); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
