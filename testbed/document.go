package testbed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// document holds every JSON answer that a test's client gets from a service against the OpenAPI
// document: what it promises is what programs are written for.
type document struct {
	next  http.RoundTripper
	Paths map[string]map[string]struct {
		Responses map[string]struct {
			Content map[string]struct{ Schema schema }
		}
	}
	Components struct{ Schemas map[string]schema }

	mu     sync.Mutex
	broken []string
}

// schema is as much of JSON Schema (2020-12) as the document uses.
type schema struct {
	Ref        string            `json:"$ref"`
	Type       any               `json:"type"` // a name or several
	Properties map[string]schema `json:"properties"`
	Required   []string          `json:"required"`
	Additional any               `json:"additionalProperties"`
	Items      *schema           `json:"items"`
	Enum       []any             `json:"enum"`
	OneOf      []schema          `json:"oneOf"`
	Format     string            `json:"format"`
}

// holdAnswers begins to hold answers against the document; the function tells what did not fit.
func holdAnswers() (broken func() []string, err error) {
	_, here, _, _ := runtime.Caller(0)
	content, err := os.ReadFile(filepath.Join(filepath.Dir(here), "../docs/openapi.json"))
	if err != nil {
		return nil, err
	}
	d := &document{next: http.DefaultTransport}
	if err := json.Unmarshal(content, d); err != nil {
		return nil, err
	}
	http.DefaultTransport = d
	return func() []string {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.broken
	}, nil
}

func (d *document) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := d.next.RoundTrip(r)
	if err != nil || !strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/api/openapi") {
		return answer, err
	}
	kind, _, _ := strings.Cut(answer.Header.Get("Content-Type"), ";")
	if kind != "application/json" && kind != "application/problem+json" || r.Method == http.MethodHead {
		return answer, nil
	}
	body, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	answer.Body = io.NopCloser(io.MultiReader(bytes.NewReader(body), failing{err}))
	if err == nil {
		if problem := d.judge(r.Method, r.URL.Path, answer.StatusCode, kind, body); problem != "" {
			d.mu.Lock()
			d.broken = append(d.broken, fmt.Sprintf("%s %s: %d: %s\n%.600s", r.Method, r.URL, answer.StatusCode, problem, body))
			d.mu.Unlock()
		}
	}
	return answer, nil
}

// failing ends a body as it ended.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) {
	if f.err == nil {
		return 0, io.EOF
	}
	return 0, f.err
}

// judge says what is wrong with an answer.
func (d *document) judge(method, path string, status int, kind string, body []byte) string {
	var value any
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	if err := decoder.Decode(&value); err != nil {
		return err.Error()
	}
	for template, operations := range d.Paths {
		operation, known := operations[strings.ToLower(method)]
		if !known || !fits(template, path) {
			continue
		}
		response, stated := operation.Responses[fmt.Sprint(status)]
		if !stated {
			response = operation.Responses["default"]
		}
		content, stated := response.Content[kind]
		if !stated {
			return "the document has no " + kind + " for it"
		}
		return d.check(content.Schema, value, "")
	}
	if status < 400 {
		return "the document does not have this operation"
	}
	return ""
}

func fits(template, path string) bool {
	a, b := strings.Split(template, "/"), strings.Split(path, "/")
	for i := range a {
		if len(a) != len(b) || a[i] != b[i] && !strings.HasPrefix(a[i], "{") {
			return false
		}
	}
	return true
}

// check says where a value is not as its schema says.
func (d *document) check(s schema, value any, at string) string {
	if s.Ref != "" {
		s = d.Components.Schemas[strings.TrimPrefix(s.Ref, "#/components/schemas/")]
	}
	if len(s.OneOf) > 0 {
		var all []string
		for _, one := range s.OneOf {
			problem := d.check(one, value, at)
			if problem == "" {
				return ""
			}
			all = append(all, problem)
		}
		return strings.Join(all, " and ")
	}
	types, _ := s.Type.([]any)
	if name, one := s.Type.(string); one {
		types = []any{name}
	}
	is := kindOf(value)
	if len(types) > 0 && !slices.Contains(types, any(is)) && !(is == "integer" && slices.Contains(types, any("number"))) {
		return fmt.Sprintf("%s is of type %s, not %v", at, is, s.Type)
	}
	if len(s.Enum) > 0 && !slices.ContainsFunc(s.Enum, func(e any) bool { return fmt.Sprint(e) == fmt.Sprint(value) }) {
		return fmt.Sprintf("%s is %v, not one of %v", at, value, s.Enum)
	}
	switch value := value.(type) {
	case string:
		if s.Format == "date-time" {
			if _, err := time.Parse(time.RFC3339Nano, value); err != nil {
				return at + ": " + err.Error()
			}
		}
	case []any:
		for i, item := range value {
			if s.Items != nil {
				if problem := d.check(*s.Items, item, fmt.Sprintf("%s/%d", at, i)); problem != "" {
					return problem
				}
			}
		}
	case map[string]any:
		for _, name := range s.Required {
			if _, has := value[name]; !has {
				return at + " has no " + name
			}
		}
		for name, member := range value {
			of, known := s.Properties[name]
			if !known {
				switch more := s.Additional.(type) {
				case bool:
					if !more {
						return at + " has " + name + ", which the document does not have"
					}
					continue
				case map[string]any:
					b, err := json.Marshal(more)
					if err == nil {
						err = json.Unmarshal(b, &of)
					}
					if err != nil {
						return err.Error()
					}
				default:
					continue
				}
			}
			if problem := d.check(of, member, at+"/"+name); problem != "" {
				return problem
			}
		}
	}
	return ""
}

func kindOf(value any) string {
	switch value := value.(type) {
	case nil:
		return "null"
	case bool:
		return "boolean"
	case string:
		return "string"
	case []any:
		return "array"
	case map[string]any:
		return "object"
	case json.Number:
		if !strings.ContainsAny(value.String(), ".eE") {
			return "integer"
		}
	}
	return "number"
}
