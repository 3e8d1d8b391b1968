package hl7

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestJSONForm(t *testing.T) {
	message := "MSH|^~\\&|LAB||SEALNET\rPID|1||T-1^^^SCSR~O&x^b||\"\"|a\\T\\b|\\X41\\||\rZX1\r"
	want := `{"segments":[["MSH","|","^~\\&","LAB",null,"SEALNET"],["PID","1",null,{"repeat":[["T-1",null,null,"SCSR"],[["O","x"],"b"]]},null,"\"\"","a&b",{"raw":"\\X41\\"},null,null],["ZX1"]]}`
	got, sep, err := AppendJSON(nil, []byte(message), Usual)
	if err != nil || string(got) != want || sep != Usual {
		t.Fatalf("got\n%s %v\nwant\n%s", got, err, want)
	}
	back, _, err := FromJSON(got, Usual)
	if err != nil || string(back) != message {
		t.Errorf("back %q %v", back, err)
	}
	for in, says := range map[string]string{
		`{}`: "no segments", `[]`: "not a message in JSON", `{"segments":[["pid"]]}`: "its name", `{"segments":[["MSH"]]}`: "must name its separators", `{"segments":[["PID",5]]}`: "numbers are written as text",
		`{"segments":[["PID",[["a",["b"]]]]]}`: "is neither text", `{"segments":[["PID",{"raw":"a|b"}]]}`: "cannot hold", `{"segments":[["PID",[{"repeat":["a"]}]]]}`: "stands where", `{"segments":[],"x":1}`: "unknown field",
		`{"ends":"x","segments":[["PID"]]}`: "end with CR", `{"segments":[["MSH","|","^~^&"]]}`: "separators",
	} {
		if _, _, err := FromJSON([]byte(in), Usual); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v does not say %q", in, err, says)
		}
	}
	for in, says := range map[string]string{"MSH|^~^&|\r": "separators 2 and 4 are the same", "MSH|^~\\&|\rpid|1\r": "is not a segment"} {
		if out, _, err := AppendJSON(nil, []byte(in), Usual); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q became %s, %v", in, out, err)
		}
	}
}

// FuzzJSONForm: what can be said in JSON comes back as it was.
func FuzzJSONForm(f *testing.F) {
	f.Add("MSH|^~\\&|LAB\rPID|1||T^b&c~d\\F\\|\\Q\\|\\.br\\|\\X0D\\\r")
	f.Add("MSH$%~\\&#$LAB\nOBX$\"\"$a\\P\\b\n")
	f.Fuzz(func(t *testing.T, message string) {
		if !utf8.ValidString(message) || !strings.HasPrefix(message, "MSH") {
			return
		}
		ends := "\r"
		if i := strings.IndexAny(message, "\r\n"); i >= 0 && message[i] == '\n' {
			ends = "\n"
		}
		object, _, err := AppendJSON(nil, []byte(message), Usual)
		if err != nil {
			return
		}
		if !json.Valid(object) {
			t.Fatalf("%q became %s", message, object)
		}
		back, _, err := FromJSON(object, Usual)
		if err != nil {
			t.Fatalf("%q became %s, which is refused: %v", message, object, err)
		}
		// Line ends may be doubled, mixed or missing in what came.
		var lines []string
		for _, line := range strings.Split(message, ends) {
			if line = strings.Trim(line, "\r\n\x0b\x1c"); line != "" {
				lines = append(lines, line)
			}
		}
		got := strings.TrimRight(string(back), "\r\n")
		if strings.ReplaceAll(got, "\r\n", ends) != strings.TrimLeft(strings.Join(lines, ends), " ") {
			t.Fatalf("%q became %s became %q", message, object, back)
		}
	})
}
