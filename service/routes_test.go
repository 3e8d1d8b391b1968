package service_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ydrion/core/flow"
	"ydrion/core/lang"
	"ydrion/demo"
	"ydrion/route"
	"ydrion/service"
	"ydrion/workspace"
)

// specimens are rows as the route results of bench/workspace reads them.
func specimens(n int, r *rand.Rand) []byte {
	var b bytes.Buffer
	b.WriteString("specimen_id,animal_tag,species_code,station,collected_at,sex,weight_kg,note,test_code,priority,lat,lon\n")
	for range n {
		weight := fmt.Sprintf("%d.%d", 5+r.IntN(280), r.IntN(100))
		if r.IntN(100) == 0 {
			weight = "heavy"
		}
		fmt.Fprintf(&b, "SC%08d,T-%06X,%s,ST%02d,%02d/%02d/2024 %02d:%02d,%s,%s,%s,%s,R,%d.%04d,-%d.%05d\n", r.IntN(1e8), r.IntN(1<<24), []string{"GS", "HP", "CS", "RS"}[r.IntN(4)], 1+r.IntN(22), 1+r.IntN(28), 1+r.IntN(12), r.IntN(24), r.IntN(60),
			[]string{"M", "F", "U", ""}[r.IntN(4)], weight, []string{"", "moult in progress; tag scanned", `"said ""lively"" by crew, twice"`, "a & b | c"}[r.IntN(4)], []string{"CRP", "CBC", "GLU"}[r.IntN(3)], 58+r.IntN(3), r.IntN(10000), r.IntN(4), r.IntN(100000))
	}
	return b.Bytes()
}

// observed are messages as the route observations of bench/workspace reads them.
func observed(n int, r *rand.Rand) []byte {
	var b bytes.Buffer
	for i := range n {
		day := fmt.Sprintf("2025%02d%02d%02d%02d", 1+r.IntN(12), 1+r.IntN(28), r.IntN(24), r.IntN(60))
		fmt.Fprintf(&b, "MSH|^~\\&|LABSYS|ST%02d|SKERRY|SCSR|%s00||ORU^R01^ORU_R01|M%08d|P|2.5.1||||||UNICODE UTF-8\rPID|1||T-%06X^^^SCSR||GS|||U\rOBR|1|ORD%06d|SC%08d^SCSR|CBC^Blood panel^L|||%s\r", 1+r.IntN(22), day, i, r.IntN(1<<24), i, r.IntN(1e8), day)
		for k := range 1 + r.IntN(9) {
			fmt.Fprintf(&b, "OBX|%d|NM|%s||%d.%02d|%s|%d-%d|%s|||F\r", k+1, []string{"ALT^ALT^L", "HCT^Packed cell volume^L", `CRP^C\T\reactive^L`}[r.IntN(3)], r.IntN(300), r.IntN(100), []string{"U/L", "%", "10*9/L"}[r.IntN(3)], r.IntN(20), 20+r.IntN(70), []string{"", "L", "H"}[r.IntN(3)])
		}
	}
	return b.Bytes()
}

// ordered are messages as the routes order-lines and purchases of bench/workspace read them, in one interchange.
func ordered(n int, r *rand.Rand) []byte {
	var b bytes.Buffer
	b.WriteString("UNA:+.? '\nUNB+UNOC:3+SKERRYCOAST+TIDEWRACK+250102:1530+IC000001'\n")
	for i := range n {
		fmt.Fprintf(&b, "UNH+%d+ORDERS:D:96A:UN'\nBGM+220+PO%07d+9'\nDTM+137:2024%02d%02d:102'\nNAD+BY+ST%02d::92++SKERRY COAST SEAL RESCUE'\nNAD+SU+SUP%02d::92++TIDEWRACK STORES'\nCUX+2:EUR:9'\n", i+1, i, 1+r.IntN(12), 1+r.IntN(28), 1+r.IntN(22), 1+r.IntN(9))
		lines := 1 + r.IntN(12)
		for k := range lines {
			fmt.Fprintf(&b, "LIN+%d++IT%04d:SA'\nIMD+F++:::%s'\nQTY+21:%d:PCE'\nPRI+AAA:%d.%02d'\n", k+1, r.IntN(10000), []string{"Heat lamp bulb", "Lid ?+ box ?+ clip", "Pup crate medium"}[r.IntN(3)], 1+r.IntN(200), r.IntN(400), r.IntN(100))
		}
		fmt.Fprintf(&b, "UNS+S'\nCNT+2:%d'\nUNT+%d+%d'\n", lines, 9+4*lines, i+1)
	}
	fmt.Fprintf(&b, "UNZ+%d+IC000001'\n", n)
	return b.Bytes()
}

// sheets are rows of one of the demo's files, over and over.
func sheets(name string) func(n int, r *rand.Rand) []byte {
	return func(n int, _ *rand.Rand) []byte {
		text, err := fs.ReadFile(demo.Files(), name)
		if err != nil {
			panic(err)
		}
		head, rows, _ := strings.Cut(string(text), "\n")
		return []byte(head + "\n" + strings.Repeat(strings.TrimRight(rows, "\n")+"\n", n))
	}
}

// BenchmarkRoutes takes files through whole routes on one core.
func BenchmarkRoutes(b *testing.B) {
	bench, err := workspace.Load(os.DirFS(filepath.Join("..", "bench", "workspace")))
	if err != nil {
		b.Fatal(err)
	}
	shipped, err := workspace.Load(demo.Workspace())
	if err != nil {
		b.Fatal(err)
	}
	for _, of := range []struct {
		route string
		in    *workspace.Workspace
		make  func(n int, r *rand.Rand) []byte
		n     int
	}{
		{"results", bench, specimens, 40_000},
		{"rows", bench, specimens, 40_000},
		{"observations", bench, observed, 10_000},
		{"order-lines", bench, ordered, 6_000},
		{"purchases", bench, ordered, 6_000},
		{"reagent-orders", shipped, sheets("reagents-2026-11-26.csv"), 500},
	} {
		b.Run(of.route, func(b *testing.B) {
			compiled, findings := route.Compile(of.in, of.route)
			if compiled == nil {
				b.Fatal(findings)
			}
			text := of.make(of.n, rand.New(rand.NewPCG(1, 2)))
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				open := func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
				trial, err := service.Try(context.Background(), compiled, []flow.File{{Name: "a.csv", Size: int64(len(text)), Open: open}}, flow.Inputs{Facts: lang.Facts{Name: "a.csv", Route: of.route}, Cores: 1}, service.TrialRequest{Output: io.Discard, Rejects: io.Discard, Whole: true})
				if err != nil {
					b.Fatal(err)
				}
				if trial.Balance.Good == 0 || trial.Balance.Rejected > trial.Balance.In/2 {
					b.Fatalf("%s %v", trial.Balance, trial.Findings)
				}
			}
		})
	}
}
