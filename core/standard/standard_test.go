package standard

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

const sample = `# made up
segment AAA 1,2 First
R* CX(1..20)#0001 Number
O*3 ST Text

segment AAA 3 First
X ST Nothing

type CX 1 A number
R ST(15) Digits

table 0001 Kinds
b x = Second
a = First

structure ORU_R01 1 Results
structure ORU_R02 1 More results
MSH RESULT+(PATIENT?(PID PD1? NTE* VISIT?(PV1 PV2?)) ORDER+(ORC? OBR NTE* OBSERVATION*(OBX NTE*) SPECIMEN*(SPM OBX*))) DSC?
`

func book(t *testing.T, content, version string) *Dictionary {
	t.Helper()
	b, err := Read(fstest.MapFS{"x.txt": {Data: []byte(content)}}, version)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.Check(); err != nil {
		t.Fatal(err)
	}
	return b
}

func TestRead(t *testing.T) {
	b := book(t, sample, "1")
	for i, want := range []string{"Number CX R 0 1 20 0001", "Text ST O 3 0 0 "} {
		e := b.Segment("AAA").Elements[i]
		if got := fmt.Sprint(e.Title, " ", e.Type, " ", string(e.Usage), " ", e.Repeats, " ", e.Min, " ", e.Max, " ", e.Table); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if e := b.Segment("AAA").Elements[0]; e.Codes() == nil || e.Of() == nil || b.Segment("AAA").Elements[1].Codes() != nil {
		t.Error("an element does not know its codes and components")
	}
	if got := book(t, sample, "3"); got.Segment("AAA").Elements[0].Usage != NotUsed || len(got.Names("type")) != 0 || len(got.Names("table")) != 1 {
		t.Errorf("version 3 reads %+v", got)
	}
	if m, ok := b.Table("0001").Meaning("b x"); !ok || m != "Second" {
		t.Error("the code with a blank is not found")
	}
	if b.Structure("ORU_R02") == nil || b.Structure("ORU_R02").Title != "More results" {
		t.Error("two names for one structure")
	}
	if v, _ := Versions(fstest.MapFS{"x.txt": {Data: []byte(sample)}}); fmt.Sprint(v) != "[1 2 3]" {
		t.Error(v)
	}
}

func TestReadRefuses(t *testing.T) {
	for content, want := range map[string]string{
		"segment A 1 x\nQ ST y\n":         "does not begin with a usage",
		"segment A 1 x\nR*1 ST y\n":       "a repetition is written",
		"segment A 1 x\nR ST(9..3) y\n":   "a length is written",
		"table 1 x\ncode\n":               "not a code with its meaning",
		"structure A 1 x\nA (B\n":         "a name is missing",
		"structure A 1 x\nA G(B\n":        "is not closed",
		"structure A 1 x\nA) B\n":         "was not opened",
		"structure A 1 x\nA{2,} B\n":      "how often A comes",
		"# one\nstructure A 1 x\nA{2 B\n": "structure A: {2 B",
	} {
		b, err := Read(fstest.MapFS{"x.txt": {Data: []byte(content)}}, "1")
		if err == nil {
			err = b.Check()
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", content, err, want)
		}
	}
}

// walk follows segments and says where each stands and what is wrong.
func walk(s *Structure, segments string) string {
	var out []string
	at := 0
	name := func(nodes []int) (names string) {
		for _, n := range nodes {
			names += " -" + s.Nodes[n].Name
		}
		return names
	}
	for _, segment := range strings.Fields(segments) {
		step := s.Next(at, []byte(segment))
		if step.Node < 0 {
			out = append(out, segment+"?")
			continue
		}
		at = step.Node
		line := strings.Join(append(s.Path(at), segment), ".") + "<" + s.Nodes[step.Started].Name + name(step.Skipped)
		if step.Odd {
			line += "!"
		}
		if step.Passed {
			line += "!"
		}
		out = append(out, line)
	}
	return strings.Join(out, " ") + name(s.Missing(at))
}

func TestNext(t *testing.T) {
	s := book(t, sample, "1").Structure("ORU_R01")
	for in, want := range map[string]string{
		"MSH PID OBR OBX OBX NTE": "MSH<MSH RESULT.PATIENT.PID<RESULT RESULT.ORDER.OBR<ORDER RESULT.ORDER.OBSERVATION.OBX<OBSERVATION RESULT.ORDER.OBSERVATION.OBX<OBSERVATION RESULT.ORDER.OBSERVATION.NTE<NTE",
		// The second order has no ORC: it is another order all the same.
		"MSH ORC OBR OBX OBR OBX": "MSH<MSH RESULT.ORDER.ORC<RESULT RESULT.ORDER.OBR<OBR RESULT.ORDER.OBSERVATION.OBX<OBSERVATION RESULT.ORDER.OBR<ORDER RESULT.ORDER.OBSERVATION.OBX<OBSERVATION",
		// What follows a specimen is its observation, and what follows that the next patient.
		"MSH OBR SPM OBX OBX PID OBR": "MSH<MSH RESULT.ORDER.OBR<RESULT RESULT.ORDER.SPECIMEN.SPM<SPECIMEN RESULT.ORDER.SPECIMEN.OBX<OBX RESULT.ORDER.SPECIMEN.OBX<OBX RESULT.PATIENT.PID<RESULT RESULT.ORDER.OBR<ORDER",
		"MSH PID PV2 ZZZ OBR":         "MSH<MSH RESULT.PATIENT.PID<RESULT RESULT.PATIENT.VISIT.PV2<VISIT -PV1! ZZZ? RESULT.ORDER.OBR<ORDER",
		"MSH PID":                     "MSH<MSH RESULT.PATIENT.PID<RESULT -ORDER",
		"MSH PID OBX":                 "MSH<MSH RESULT.PATIENT.PID<RESULT RESULT.ORDER.OBSERVATION.OBX<ORDER -OBR!",
		"PID OBR DSC":                 "RESULT.PATIENT.PID<RESULT -MSH RESULT.ORDER.OBR<ORDER DSC<DSC",
		"MSH OBR OBX MSH":             "MSH<MSH RESULT.ORDER.OBR<RESULT RESULT.ORDER.OBSERVATION.OBX<OBSERVATION MSH<MSH!! -RESULT",
		"":                            " -MSH -RESULT",
	} {
		if got := walk(s, in); got != want {
			t.Errorf("%s\n got %s\nwant %s", in, got, want)
		}
	}
}

// TestChoice: segments of one name are told apart by an element.
func TestChoice(t *testing.T) {
	b := book(t, "structure CLAIMS 1 Claims\nST BILL+(HL[3=20] A?(NM1[1=85] N3?) B?(NM1[1=87,88] N3?) SUB*(HL[3=22] C(NM1[1=IL]) CLAIM*(CLM REF*) DEP*(HL[3=23] D(NM1[1=QC]) CLAIM*(CLM REF*)))) SE\n", "1")
	s := b.Structure("CLAIMS")
	if unreached := s.Walk(); unreached != nil {
		t.Error(unreached)
	}
	if s.Times("HL") != 3 || s.Times("CLM") != 2 || s.Times("X") != 0 || !s.Chooses([]byte("NM1")) || s.Chooses([]byte("CLM")) {
		t.Error("what is chosen is not known")
	}
	holding := s.Holding("CLM")
	for i, n := range s.Nodes {
		if want := strings.Contains(" CLAIMS BILL SUB DEP CLAIM CLM ", " "+n.Name+" "); holding[i] != want {
			t.Errorf("%s holds claims: %t", n.Name, holding[i])
		}
	}
	follow := func(segments string) string {
		var out []string
		at := 0
		for _, segment := range strings.Fields(segments) {
			name, value, _ := strings.Cut(segment, ":")
			step := s.Follow(at, []byte(name), func(c *Choice) bool { return c.Holds(value) })
			if step.Node < 0 {
				out = append(out, segment+"?")
				continue
			}
			at = step.Node
			path := strings.Join(s.Path(at), "/")
			if step.Odd {
				path += "!"
			}
			out = append(out, path)
		}
		return strings.Join(out, " ")
	}
	for in, want := range map[string]string{
		"ST HL:20 NM1:85 N3 NM1:88 N3 HL:22 NM1:IL CLM REF CLM":  " BILL BILL/A BILL/A BILL/B BILL/B BILL/SUB BILL/SUB/C BILL/SUB/CLAIM BILL/SUB/CLAIM BILL/SUB/CLAIM",
		"ST HL:20 HL:22 NM1:IL HL:23 NM1:QC CLM HL:23 CLM HL:22": " BILL BILL/SUB BILL/SUB/C BILL/SUB/DEP BILL/SUB/DEP/D BILL/SUB/DEP/CLAIM BILL/SUB/DEP BILL/SUB/DEP/CLAIM BILL/SUB",
		"ST HL:20 HL:22 HL:20 NM1:85":                            " BILL BILL/SUB BILL BILL/A",
		"ST HL:99 NM1:85":                                        " HL:99? BILL/A!",
	} {
		if got := follow(in); got != want {
			t.Errorf("%s\n got %s\nwant %s", in, got, want)
		}
	}
	for text, wrong := range map[string]string{"A[x=1]": "does not say which A", "A[1=]": "does not say which A", "A[1": "does not say which A"} {
		bad, err := Read(fstest.MapFS{"x.txt": {Data: []byte("structure S 1 x\n" + text + "\n")}}, "1")
		if err == nil {
			err = bad.Check()
		}
		if err == nil || !strings.Contains(err.Error(), wrong) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestShelf: versions are read once, and what does not hold together is told.
func TestShelf(t *testing.T) {
	files := fstest.MapFS{"d/x.txt": {Data: []byte("segment AAA 1 First\nR CX#9 Number\nO ST Text\n\nstructure S 1,2 x\nA G(B)\n")}}
	catalog := NewCatalog(files, "d", "1", "2")
	if catalog.Version("1") == nil || catalog.Version("1") != catalog.Version("1") || catalog.Version("3") != nil {
		t.Error("books are not kept")
	}
	if got := strings.Join(catalog.Check([]string{"ST"}), "; "); got != "1 AAA: there is no type CX" {
		t.Error(got)
	}
	if got := strings.Join(catalog.Check([]string{"ST", "CX"}), "; "); got != "1 AAA: there is no table 9" {
		t.Error(got)
	}
	if got := NewCatalog(files, "d", "1").Check(nil); len(got) != 1 || !strings.Contains(got[0], "tell of [1 2]") {
		t.Error(got)
	}
}

// TestHolds: whether a condition holds is told by bits as it is told one by one.
func TestHolds(t *testing.T) {
	for _, s := range []string{"P0304", "R010203", "E0102", "C0304", "L040506", "D1(010,020)", "D7(030,010,020)", "D3(010,640)", "D2(010,650)", "P0303", "D5(010,020)"} {
		c, err := ParseCondition(s)
		if err != nil {
			t.Fatal(err)
		}
		beyond := s == "D2(010,650)" || s == "P0303"
		for there := range uint64(1 << 7) {
			for _, there := range []uint64{there, there | 1<<63} {
				wrong := c.Wrong(func(n int) bool { return n <= 64 && there>>(n-1)&1 != 0 })
				if is := c.Holds(there); is != (wrong == "") && (is || !beyond) {
					t.Errorf("%s of %b: %v, %q", s, there, is, wrong)
				}
			}
		}
	}
}
