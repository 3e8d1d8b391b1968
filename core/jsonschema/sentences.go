package jsonschema

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"

	js "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
)

// sentence says what is wrong with a value, and under which code.
func sentence(of string, problem js.ErrorKind) (code, text string) {
	say := func(code, format string, args ...any) (string, string) {
		return code, fmt.Sprintf(format, args...)
	}
	switch k := problem.(type) {
	case *kind.Type:
		return say("schema.type", "%s is %s, not %s", of, article(k.Got), oneOf(k.Want))
	case *kind.Enum:
		return say("schema.enum", "%s is %s, allowed are %s", of, written(k.Got), among(k.Want))
	case *kind.Const:
		return say("schema.enum", "%s is %s, allowed is %s", of, written(k.Got), written(k.Want))
	case *kind.Format:
		return say("schema.format", "%s is not of the format %s: %s", of, k.Want, written(k.Got))
	case *kind.Pattern:
		return say("schema.pattern", "%s does not match %s: %s", of, k.Want, written(k.Got))
	case *kind.MinLength:
		return say("schema.minLength", "%s has %s, at least %d are needed", of, many(k.Got, "character"), k.Want)
	case *kind.MaxLength:
		return say("schema.maxLength", "%s has %s, at most %d are allowed", of, many(k.Got, "character"), k.Want)
	case *kind.Minimum:
		return say("schema.minimum", "%s is %s, the least allowed is %s", of, number(k.Got), number(k.Want))
	case *kind.Maximum:
		return say("schema.maximum", "%s is %s, the most allowed is %s", of, number(k.Got), number(k.Want))
	case *kind.ExclusiveMinimum:
		return say("schema.minimum", "%s is %s, it must be more than %s", of, number(k.Got), number(k.Want))
	case *kind.ExclusiveMaximum:
		return say("schema.maximum", "%s is %s, it must be less than %s", of, number(k.Got), number(k.Want))
	case *kind.MultipleOf:
		return say("schema.multiple", "%s is %s, it must be a multiple of %s", of, number(k.Got), number(k.Want))
	case *kind.MinItems:
		return say("schema.items", "%s has %s, at least %d are needed", of, many(k.Got, "element"), k.Want)
	case *kind.MaxItems:
		return say("schema.items", "%s has %s, at most %d are allowed", of, many(k.Got, "element"), k.Want)
	case *kind.AdditionalItems:
		return say("schema.items", "%s has %s more than the schema allows", of, many(k.Count, "element"))
	case *kind.UniqueItems:
		return say("schema.unique", "elements %d and %d of %s are the same", k.Duplicates[0]+1, k.Duplicates[1]+1, of)
	case *kind.Contains:
		return say("schema.items", "no element of %s is one that must be among them", of)
	case *kind.MinContains:
		return say("schema.items", "%s has %s of a kind of which at least %d are needed", of, many(len(k.Got), "element"), k.Want)
	case *kind.MaxContains:
		return say("schema.items", "%s has %s of a kind of which at most %d are allowed", of, many(len(k.Got), "element"), k.Want)
	case *kind.MinProperties:
		return say("schema.members", "%s has %s, at least %d are needed", of, many(k.Got, "member"), k.Want)
	case *kind.MaxProperties:
		return say("schema.members", "%s has %s, at most %d are allowed", of, many(k.Got, "member"), k.Want)
	case *kind.PropertyNames:
		return say("schema.members", "a member of %s may not be called %q", of, k.Property)
	case *kind.FalseSchema:
		return say("schema.surplus", "%s may not be there", of)
	case *kind.Not:
		return say("schema.alternative", "%s is of a form that the schema forbids", of)
	}
	return say("schema.alternative", "%s does not fit the schema", of)
}

func many(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

var articles = map[string]string{"null": "null", "boolean": "true or false", "object": "an object", "array": "a list", "number": "a number", "string": "a text", "integer": "a whole number"}

func article(kind string) string {
	if a := articles[kind]; a != "" {
		return a
	}
	return kind
}

func oneOf(kinds []string) string {
	out := make([]string, len(kinds))
	for i, k := range kinds {
		out[i] = article(k)
	}
	return strings.Join(out, " or ")
}

// shown is how many allowed values are named.
const shown = 12

func among(values []any) string {
	var out []string
	for i, v := range values {
		if i == shown {
			out = append(out, fmt.Sprintf("and %d more", len(values)-shown))
			break
		}
		out = append(out, written(v))
	}
	return strings.Join(out, ", ")
}

// written is a value as JSON, cut where it is long.
func written(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if e.Encode(v) != nil {
		return fmt.Sprint(v)
	}
	s := []rune(strings.TrimSpace(b.String()))
	if len(s) > 60 {
		return string(s[:60]) + "…"
	}
	return string(s)
}

// number is a number as people write it: exact if that is short.
func number(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	s := strings.TrimRight(r.FloatString(12), "0")
	if exact, ok := new(big.Rat).SetString(s); ok && exact.Cmp(r) == 0 {
		return s
	}
	return r.FloatString(12)
}

// Offset finds the byte at which the value at a place begins: the nearest one around it that is
// there.
func Offset(raw []byte, at []string) int {
	p := proof{raw: raw, left: math.MaxInt}
	place := p.blanks(0)
	for _, step := range at {
		inner, found := p.part(place, step)
		if !found {
			break
		}
		place = inner
	}
	return place
}

// part finds a member of an object, or an element of a list by its number.
func (p *proof) part(at int, step string) (place int, found bool) {
	if at >= len(p.raw) || p.raw[at] != '{' && p.raw[at] != '[' {
		return 0, false
	}
	object, closes := p.raw[at] == '{', p.raw[at]+2 // } and ] are two behind { and [
	n, err := strconv.Atoi(step)
	if !object && err != nil {
		return 0, false
	}
	at = p.blanks(at + 1)
	for ; at < len(p.raw) && p.raw[at] != closes; n-- {
		is := n == 0
		if object {
			name, behind := p.quoted(at)
			at = p.blanks(min(p.blanks(behind)+1, len(p.raw)))
			is = string(name) == step
		}
		if is {
			return at, !p.lost && at < len(p.raw)
		}
		at, _ = p.value(at, nil, 0)
		end := 0
		if at, end = p.next(at, closes); p.lost || end > 0 {
			return 0, false
		}
	}
	return 0, false
}
