package formats

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"regexp"
	"strings"

	"ydrion/core/text"
)

// Beginning is a first route for files such as one that was looked at: the files of a workspace, and what was
// guessed in them.
type Beginning struct {
	Files   map[string]string `json:"files" doc:"their texts, by name"`
	Guesses []string          `json:"guesses" doc:"what a person should look at"`
}

// Begin makes a first route: it reads such files, checks their records against what was seen, and passes good ones on
// as they came. The sample is where such a file stands in the workspace, empty if it does not. It is an error if the format is not
// known, or if nothing in it has a name. Of an archive, member is the one that was looked at.
func (l *Look) Begin(name, sample, member string) (*Beginning, error) {
	of := Named(l.Format)
	if of == nil {
		return nil, fmt.Errorf("%s is of no format that is known; a route with `read: {format: file}` passes such files on unread", l.Name)
	}
	b := &Beginning{Files: map[string]string{}, Guesses: []string{}}
	if l.Confidence != "certain" {
		b.guess("the file is taken for %s in %s", of.Title, l.Charset)
	}
	settings := append([]string{"format: " + l.Format}, l.Settings...)
	if l.Compression != "" && l.Compression != string(text.Unpacked) && !strings.Contains(strings.Join(settings, "\n"), "compression") {
		settings = append(settings, "compression: "+l.Compression)
	}
	check, source := "", l.Format
	if of.Standard {
		check = "  description: standard           # messages are checked against it,\n  differences: warn               # and what differs is told, and goes on; or reject\n"
	} else {
		schema := "schemas/" + name + ".json"
		fields, record := l.fields(b)
		if len(fields) == 0 {
			return nil, fmt.Errorf("nothing in %s has a name that a field could have; a route with `read: {format: file}` passes such files on unread", l.Name)
		}
		if record != "" {
			settings = append(settings, fmt.Sprintf("record: %q", record))
			b.guess("the records are taken to be the elements of %s", strings.TrimSuffix(record, "/*"))
		}
		b.Files[schema] = schemaText(fields)
		check, source = "  schema: "+schema+"\n", source+" "+schema
	}
	if sample != "" {
		settings = append(settings, "sample: "+sample)
	}
	b.Files["routes/"+name+".yaml"] = fmt.Sprintf(`route: %[1]s
notes: Begun from %[2]s.

listen:
  folder: "{in}/%[1]s"
  names: "*%[3]s"

read:
  %[4]s

check:
%[5]s
map: maps/%[1]s.map

deliver:
  folder: "{out}/%[1]s"
  name: "%[6]s"

rejected:
  folder: "{out}/rejected"
`, name, path.Base(l.Name), path.Ext(strings.TrimSuffix(l.Name, ".gz"))+map[bool]string{true: ".gz"}[l.Compression == string(text.Gzip)], strings.Join(settings, "\n  "), check,
		cmp.Or(map[text.Packing]string{text.Gzip: "{file.stem}", text.Zip: "{file.stem}" + path.Ext(member)}[text.Packing(l.Compression)], "{file.name}"))
	b.Files["maps/"+name+".map"] = fmt.Sprintf("map %s\nsource %s\ntarget %s as it came\n\n# Lines such as FIELD = EXPRESSION change records; without any they go on as they came.\n", strings.ReplaceAll(name, "-", "_"), source, l.Format)
	b.Files["environments/local.yaml"] = "environment: local\nplaces:                           # below the data folder of the service, unless they begin with /\n  in: in\n  out: out\n"
	return b, nil
}

func (b *Beginning) guess(says string, args ...any) {
	b.Guesses = append(b.Guesses, fmt.Sprintf(says, args...))
}

// field is one of a Table Schema.
type field struct {
	Name        string         `json:"name"`
	Path        string         `json:"path,omitempty"`
	Type        string         `json:"type"`
	Format      string         `json:"format,omitempty"`
	Decimal     string         `json:"decimalChar,omitempty"`
	Group       string         `json:"groupChar,omitempty"`
	Constraints map[string]any `json:"constraints,omitempty"`
}

// schemaText writes a Table Schema, a line for each field.
func schemaText(fields []field) string {
	var out strings.Builder
	out.WriteString("{\n  \"fields\": [\n")
	for i, f := range fields {
		var line strings.Builder
		e := json.NewEncoder(&line)
		e.SetEscapeHTML(false)
		e.Encode(f) //nolint: texts and numbers can be said
		comma := ","
		if i == len(fields)-1 {
			comma = ""
		}
		fmt.Fprintf(&out, "    %s%s\n", strings.TrimSpace(line.String()), comma)
	}
	out.WriteString("  ]\n}\n")
	return out.String()
}

// inList is the path of something in a list: the list, and the path in its elements.
var inList = regexp.MustCompile(`^((?:/[^/*]+)*)/\*(/.*)?$`)

// fields makes the fields of a schema of those that were seen, and finds which list the records are elements of.
func (l *Look) fields(b *Beginning) (out []field, record string) {
	lists := map[string]int{}
	for i := range l.Fields {
		if m := inList.FindStringSubmatch(l.Fields[i].Path); m != nil && l.Format == "json" && m[2] != "" { // a list of objects
			if lists[m[1]]++; record == "" || lists[m[1]] > lists[strings.TrimSuffix(record, "/*")] {
				record = m[1] + "/*"
			}
		}
	}
	if l.Type == "lines" || l.Type == "list" || l.Records > 1 {
		record = ""
	}
	named, left := map[string]bool{}, false
	for i := range l.Fields {
		f := &l.Fields[i]
		switch {
		case l.Format == "csv" && (f.Path == "" || int64(f.Filled+f.Empty) > l.Records): // which of two with one name is meant nobody knows
			left = true
			continue
		case l.Format == "json" && strings.Trim(f.Path, "/") == "": // the record is no object
			continue
		}
		one := field{Name: f.Path}
		if strings.HasPrefix(f.Path, "/") {
			rest, within := strings.CutPrefix(f.Path, record)
			if !within || strings.Contains(rest, "*") || rest == "" {
				continue // what stands around the records, and their lists, are left to a person
			}
			one.Path, one.Name = rest, strings.ReplaceAll(strings.TrimPrefix(rest, "/"), "/", "_")
		}
		for named[one.Name] || one.Name == "" {
			one.Name += "_"
		}
		named[one.Name] = true
		f.typed(&one, b)
		if f.Empty == 0 && int64(f.Filled) == max(l.Records, 1) && f.Filled > 1 && record == "" {
			one.Constraints = map[string]any{"required": true}
		}
		out = append(out, one)
	}
	if left {
		b.guess("nothing is said of columns that have no name, or one that another has: they go on as they came")
	}
	return out, record
}

// strptime writes a date pattern as schemas do.
var strptime = strings.NewReplacer("yyyy", "%Y", "yy", "%y", "MMM", "%b", "MM", "%m", "dd", "%d", "HH", "%H", "mm", "%M", "ss", "%S", "'", "")

// typed says of which type a field is.
func (f *Field) typed(out *field, b *Beginning) {
	looks, but, _ := strings.Cut(f.Looks, ", but for ")
	out.Type = "string"
	date, isDate := strings.CutPrefix(looks, "date ")
	switch {
	case strings.HasPrefix(looks, "date, "):
		b.guess("%s is taken for text: it could be a %s", out.Name, looks)
		return
	case date == "HL7":
		b.guess("%s is taken for text: read it by `date \"HL7\"`", out.Name)
		return
	case date == "ISO 8601":
		out.Type = "datetime"
	case isDate:
		if out.Type = "date"; strings.Contains(date, "HH") {
			if out.Type = "datetime"; !strings.Contains(date, "dd") {
				out.Type = "time"
			}
		}
		out.Format = strptime.Replace(date)
	case looks == "integer":
		out.Type = "integer"
	case strings.HasPrefix(looks, "number"):
		out.Type = "number"
		if strings.Contains(looks, "with a comma") {
			out.Decimal = ","
		}
		if strings.Contains(looks, "grouping points") {
			out.Group = "."
		} else if strings.Contains(looks, "grouping commas") {
			out.Group = ","
		}
	default:
		return
	}
	b.guess("%s is taken for %s %s", out.Name, map[bool]string{true: "an", false: "a"}[looks[0] == 'i'], looks)
	if but != "" {
		b.guess("%s of the sample at %s %s not: the route rejects such records", but, out.Name, map[bool]string{true: "is", false: "are"}[but == "1 value"])
	}
}
