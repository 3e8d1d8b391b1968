package workspace

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ydrion/core/finding"
	"ydrion/core/place"
)

// maxSettings is how large a file of settings may be.
const maxSettings = 1 << 20

// reader reads the mappings of a YAML file key by key. Every complaint has the
// place of the key or value it is about; keys that nobody asked for are
// complaints too.
type reader struct {
	file   string
	source []byte
	out    *finding.List
}

// mapping is a YAML mapping that is being read.
type mapping struct {
	*reader
	path   string
	at     place.Place
	values map[string]*ast.MappingValueNode
	known  []string
}

var yamlPosition = regexp.MustCompile(`^\[(\d+):(\d+)\] *`)

// parseYAML reads a file whose top level is a mapping.
func parseYAML(file string, source []byte, out *finding.List) *mapping {
	r := &reader{file: file, source: source, out: out}
	top := place.Place{File: file, Offset: -1, Line: 1, Column: 1}
	if len(source) > maxSettings {
		r.bad(top, "workspace.size", "the file is larger than %d bytes", maxSettings)
		return nil
	}
	if line := nested(source); line > 0 {
		top.Line = line
		r.bad(top, "workspace.depth", "the file is nested more than %d deep here", maxNesting)
		return nil
	}
	parsed, err := parser.ParseBytes(source, 0)
	if err != nil {
		message := strings.SplitN(err.Error(), "\n", 2)[0]
		if m := yamlPosition.FindStringSubmatch(message); m != nil {
			top.Line, _ = strconv.ParseInt(m[1], 10, 64)
			top.Column, _ = strconv.ParseInt(m[2], 10, 64)
			message = message[len(m[0]):]
		}
		r.bad(top, "workspace.yaml", "%s", message)
		return nil
	}
	if len(parsed.Docs) != 1 || parsed.Docs[0].Body == nil {
		r.bad(top, "workspace.yaml", "the file must hold one YAML document")
		return nil
	}
	return r.mapping("", parsed.Docs[0].Body, top)
}

// maxNesting is how deep settings may be nested: more than anybody needs, and little enough
// that parsing costs nothing.
const maxNesting = 100

// nested gives the line in which a file is nested too deeply, 0 if it is not. It looks at
// brackets and indents alone: text that holds a hundred brackets more than it closes counts.
func nested(source []byte) (line int64) {
	brackets := 0
	var columns []int
	for text := range bytes.Lines(source) {
		line++
		column, inner := 0, true
		for column < len(text) && inner {
			switch c := text[column]; {
			case c == ' ':
				column++
				continue
			case (c == '-' || c == '?') && column+1 < len(text) && text[column+1] == ' ':
			default:
				inner = false
			}
			if len(bytes.TrimSpace(text)) == 0 {
				break
			}
			for len(columns) > 0 && columns[len(columns)-1] >= column {
				columns = columns[:len(columns)-1]
			}
			if columns = append(columns, column); len(columns) > maxNesting {
				return line
			}
			column++
		}
		for _, c := range text {
			switch c {
			case '[', '{':
				brackets++
			case ']', '}':
				brackets = max(0, brackets-1)
			}
			if brackets > maxNesting {
				return line
			}
		}
	}
	return 0
}

func (r *reader) bad(at place.Place, code, format string, args ...any) {
	*r.out = append(*r.out, finding.New(code, at, format, args...))
}

func (r *reader) place(n ast.Node) place.Place {
	p := place.Place{File: r.file, Offset: -1, Line: 1, Column: 1}
	if t := n.GetToken(); t != nil && t.Position != nil {
		p.Line, p.Column = int64(t.Position.Line), int64(t.Position.Column)
	}
	return p
}

func (r *reader) mapping(path string, n ast.Node, at place.Place) *mapping {
	m := &mapping{reader: r, path: path, at: at, values: map[string]*ast.MappingValueNode{}}
	var pairs []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		pairs = n.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{n}
	default:
		r.bad(r.place(n), "workspace.type", "%s must be a mapping of keys to values", name(path))
		return m
	}
	for _, p := range pairs {
		key := strings.Trim(p.Key.String(), `"'`)
		m.values[key] = p
	}
	return m
}

func name(path string) string {
	if path == "" {
		return "the file"
	}
	return path
}

func (m *mapping) join(key string) string {
	if m.path == "" {
		return key
	}
	return m.path + "." + key
}

// get gives the value of a key, nil if it is not there.
func (m *mapping) get(key string) ast.Node {
	m.known = append(m.known, key)
	v, ok := m.values[key]
	if !ok || v.Value == nil || v.Value.Type() == ast.NullType {
		return nil
	}
	if a, isAlias := v.Value.(*ast.AliasNode); isAlias {
		m.bad(m.place(a), "workspace.yaml", "aliases are not used here")
		return nil
	}
	return v.Value
}

// where is the place of a key's value, or of the mapping.
func (m *mapping) where(key string) place.Place {
	if v, ok := m.values[key]; ok && v.Value != nil {
		return m.place(v.Value)
	}
	return m.at
}

func (m *mapping) sub(key string) *mapping {
	n := m.get(key)
	if n == nil {
		return &mapping{reader: m.reader, path: m.join(key), at: m.at, values: map[string]*ast.MappingValueNode{}}
	}
	return m.reader.mapping(m.join(key), n, m.place(m.values[key].Key))
}

func (m *mapping) has(key string) bool { _, ok := m.values[key]; return ok }

// listed tells whether a key's value is a list.
func (m *mapping) listed(key string) bool {
	v, ok := m.values[key]
	return ok && v.Value != nil && v.Value.Type() == ast.SequenceType
}

func (m *mapping) text(key string) string {
	n := m.get(key)
	if n == nil {
		return ""
	}
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value
	case *ast.LiteralNode:
		return n.Value.Value
	case *ast.MappingNode, *ast.MappingValueNode, *ast.SequenceNode:
		m.bad(m.place(n), "workspace.type", "%s must be a text", m.join(key))
		return ""
	}
	return n.GetToken().Value
}

func (m *mapping) required(key string) string {
	s := m.text(key)
	if s == "" {
		m.bad(m.where(key), "workspace.missing", "%s is missing", m.join(key))
	}
	return s
}

func (m *mapping) oneOf(key, usual string, allowed ...string) string {
	s := m.text(key)
	if s == "" {
		return usual
	}
	for _, a := range allowed {
		if s == a {
			return s
		}
	}
	m.bad(m.where(key), "workspace.value", "%s is %q; it can be %s", m.join(key), s, strings.Join(allowed, " or "))
	return usual
}

func (m *mapping) flag(key string, usual bool) bool {
	n := m.get(key)
	if n == nil {
		return usual
	}
	if b, ok := n.(*ast.BoolNode); ok {
		return b.Value
	}
	m.bad(m.place(n), "workspace.type", "%s must be true or false", m.join(key))
	return usual
}

func (m *mapping) number(key string) int {
	s := m.text(key)
	if s == "" {
		return 0
	}
	n, err := strconv.Atoi(s)
	if err != nil || n < 0 {
		m.bad(m.where(key), "workspace.type", "%s must be a whole number, 0 or more", m.join(key))
	}
	return n
}

func (m *mapping) duration(key string, usual time.Duration) time.Duration {
	s := m.text(key)
	if s == "" {
		return usual
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 {
		m.bad(m.where(key), "workspace.type", "%s must be a duration such as 500ms, 10s or 2m", m.join(key))
		return usual
	}
	return d
}

// span reads a duration that may be given in days (30d) or be forever.
func (m *mapping) span(key string, usual time.Duration) time.Duration {
	s := m.text(key)
	switch days, isDays := strings.CutSuffix(s, "d"); {
	case s == "forever":
		return Forever
	case isDays:
		n, err := strconv.Atoi(days)
		if err != nil || n < 0 || n > 36500 {
			m.bad(m.where(key), "workspace.type", "%s must be a time such as 12h or 30d, or forever", m.join(key))
		}
		return time.Duration(n) * 24 * time.Hour
	}
	return m.duration(key, usual)
}

// bytes reads a size such as 200, 20k or 3M (powers of 1024).
func (m *mapping) bytes(key string) int64 {
	s := m.text(key)
	if s == "" {
		return 0
	}
	n, ok := size(s)
	if !ok {
		m.bad(m.where(key), "workspace.type", "%s must be a size in bytes such as 200, 20k or 3M", m.join(key))
	}
	return n
}

// size is what a text says such as 200, 20k or 3M, in bytes.
func size(s string) (bytes int64, ok bool) {
	digits, unit := s, int64(1)
	for i, suffix := range []string{"k", "M", "G"} {
		if d, ok := strings.CutSuffix(s, suffix); ok {
			digits, unit = d, 1<<(10*(i+1))
		}
	}
	n, err := strconv.ParseInt(digits, 10, 32)
	return n * unit, err == nil && n >= 0
}

// each reads a list of mappings.
func (m *mapping) each(key string) []*mapping {
	n := m.get(key)
	if n == nil {
		return nil
	}
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		m.bad(m.place(n), "workspace.type", "%s must be a list", m.join(key))
		return nil
	}
	var out []*mapping
	for i, v := range s.Values {
		out = append(out, m.reader.mapping(fmt.Sprintf("%s[%d]", m.join(key), i+1), v, m.place(v)))
	}
	return out
}

// listOrText reads a list, or one text as a list of one.
func (m *mapping) listOrText(key string) []string {
	if _, isList := m.get(key).(*ast.SequenceNode); isList {
		return m.list(key)
	}
	if s := m.text(key); s != "" {
		return []string{s}
	}
	return nil
}

func (m *mapping) time(key string) time.Time {
	s := m.text(key)
	if s == "" {
		return time.Time{}
	}
	t, err := time.Parse(time.RFC3339, s)
	if err != nil {
		m.bad(m.where(key), "workspace.type", "%s must be a time with its zone, such as 2026-11-25T06:30:00Z", m.join(key))
	}
	return t
}

// percent reads 10% as 0.1; without the key it is -1.
func (m *mapping) percent(key string) float64 {
	s := m.text(key)
	if s == "" {
		return -1
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(s, "%"), 64)
	if err != nil || !strings.HasSuffix(s, "%") || n < 0 || n > 100 {
		m.bad(m.where(key), "workspace.type", "%s must be a percentage from 0%% to 100%%", m.join(key))
		return -1
	}
	return n / 100
}

func (m *mapping) list(key string) []string {
	n := m.get(key)
	if n == nil {
		return nil
	}
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		m.bad(m.place(n), "workspace.type", "%s must be a list", m.join(key))
		return nil
	}
	var out []string
	for _, v := range s.Values {
		out = append(out, strings.Trim(v.GetToken().Value, "\n"))
	}
	return out
}

// done complains about the keys that nobody asked for.
func (m *mapping) done() {
	for key, v := range m.values {
		known := key == "notes" && m.path != "" // of a stage, a step, a branch
		for _, k := range m.known {
			known = known || k == key
		}
		if known {
			continue
		}
		f := finding.New("workspace.key-unknown", m.place(v.Key), "%s has no key %q", name(m.path), key)
		if near := finding.Nearest(key, m.known); near != "" {
			f = f.Suggest("was %q meant?", near)
		} else {
			f = f.Suggest("the keys are %s", fmt.Sprint(strings.Join(m.known, ", ")))
		}
		*m.out = append(*m.out, f)
	}
}
