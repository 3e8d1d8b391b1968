package csv

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"ydrion/core/format"
	"ydrion/core/text"
)

// object is a row as an object of texts: all of it, however long.
func object(r format.Reader, raw []byte) ([]byte, error) {
	out := []byte{'{'}
	for i, value := range r.(*Reader).Values(raw) {
		if i > 0 {
			out = append(out, ',')
		}
		name := ""
		if names := r.(*Reader).names; i < len(names) {
			name = names[i]
		}
		out = text.JSON.Append(append(text.JSON.Append(out, []byte(name)), ':'), []byte(value))
	}
	return append(out, '}'), nil
}

// table is written from objects without lists and objects in them. The first one says which columns
// there are.
type table struct{ columns []string }

// escapes are those of RFC 4180.
var escapes = text.NewEscapes(map[byte]string{'"': `""`, ',': ",", '\n': "\n", '\r': "\r"}).Quoted('"', false)

func (t *table) row(out, object []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(object))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return out, errors.New("it is not an object")
	}
	var names []string
	values := map[string]string{}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return out, err
		}
		value, err := d.Token()
		if err != nil {
			return out, err
		}
		name := key.(string) // the decoder lets nothing else be a name
		if _, nested := value.(json.Delim); nested {
			return out, fmt.Errorf("the member %q holds more than one value", name)
		}
		names = append(names, name)
		if value != nil {
			values[name] = fmt.Sprint(value)
		}
	}
	if t.columns == nil {
		t.columns = names
		out = t.line(out, func(name string) string { return name })
	}
	for _, n := range names {
		if !slices.Contains(t.columns, n) {
			return out, fmt.Errorf("the member %q is not among those of the first record, which are the columns", n)
		}
	}
	return t.line(out, func(name string) string { return values[name] }), nil
}

func (t *table) line(out []byte, value func(name string) string) []byte {
	begin := len(out)
	for i, name := range t.columns {
		if i > 0 {
			out = append(out, ',')
		}
		out = escapes.Append(out, []byte(value(name)))
	}
	if len(t.columns) == 1 && len(out) == begin {
		out = append(out, `""`...) // an empty line is not a row
	}
	return append(out, '\n')
}
