package lang

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/language"

	"ydrion/core/value"
)

// Function is one function of the language. This table is the only place that
// knows it: checking, completion and documentation are made from it.
type Function struct {
	Name    string
	In      []value.Kind // what it works on; empty: anything
	Args    []Argument
	Out     value.Kind // anyKind: that of its input
	Rows    bool       // it works on the rows of a list, and asks each for its first argument
	Doc     string
	Example string // an expression over a field `value`
	Field   string // what the field holds in the example
	Gives   string // what comes out
	// needs tells, for its arguments, what it asks for that is not known of a time; nil: it asks for nothing.
	needs func(args []argument) func(value.Moment) string
	// build prepares the function for its arguments. What it returns is only
	// called for a value that is there: absent, empty and null pass by.
	build func(args []argument) (operation, error)
}

// Argument describes an argument of a function.
type Argument struct {
	Name     string
	Kind     value.Kind
	Optional bool
	Constant bool // must be written out
	Table    bool // the name of a lookup table
}

// argument is a compiled argument.
type argument struct {
	eval evaluator
	text string // of a constant
	num  int64
}

type operation func(e *Env, in value.Value) value.Value

func (f *Function) takes(k value.Kind) bool {
	if len(f.In) == 0 || k == anyKind {
		return true
	}
	for _, in := range f.In {
		if in == k {
			return true
		}
	}
	return false
}

func (f *Function) inputs() string {
	names := make([]string, len(f.In))
	for i, k := range f.In {
		names[i] = "a " + k.String()
	}
	return strings.Join(names, " or ")
}

func (f *Function) needed() int {
	n := 0
	for _, a := range f.Args {
		if !a.Optional {
			n++
		}
	}
	return n
}

func (f *Function) usage() string {
	s := f.Name
	for _, a := range f.Args {
		if a.Optional {
			s += " [" + a.Name + "]"
		} else {
			s += " " + a.Name
		}
	}
	return s
}

// Functions are all functions, by name.
func Functions() []*Function {
	var out []*Function
	for _, n := range functionNames() {
		out = append(out, functions[n])
	}
	return out
}

// Usage is how a function is written in a pipeline.
func (f *Function) Usage() string { return f.usage() }

func functionNames() []string {
	var names []string
	for n := range functions {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

var functions = map[string]*Function{}

func init() {
	for _, f := range slices.Concat(table, textFunctions, timeFunctions, codeFunctions) {
		functions[f.Name] = f
	}
}

var (
	onText   = []value.Kind{value.Text}
	onNumber = []value.Kind{value.Number}
	onTime   = []value.Kind{value.Time}
)

// appendUpper appends a text in capital letters, by the full mapping of Unicode (5.18): ß is SS.
func appendUpper(to, in []byte) []byte {
	for i, c := range in {
		if c >= utf8.RuneSelf {
			return append(to[:len(to)-i], cases.Upper(language.Und).Bytes(in)...)
		}
		to = append(to, byte(unicode.ToUpper(rune(c))))
	}
	return to
}

// appendLower appends a text in small letters, each of which is one letter: what is compared is written so.
func appendLower(to, in []byte) []byte {
	for _, r := range string(in) {
		to = utf8.AppendRune(to, unicode.ToLower(r))
	}
	return to
}

// texts makes an operation that appends a new text to the scratch space.
func texts(f func(to, in []byte) []byte) func([]argument) (operation, error) {
	return func([]argument) (operation, error) {
		return func(e *Env, in value.Value) value.Value { return e.text(in, f) }, nil
	}
}

var table = []*Function{
	{Name: "count", Rows: true, Out: value.Number, Doc: "how many rows a list has", Example: `lines | count`, Field: "2 3.5 1", Gives: "3"},
	{Name: "sum", Rows: true, Out: value.Number, Args: []Argument{{Name: "VALUE", Kind: value.Number}}, Doc: "the sum of a number of each row; those that have none are passed over", Example: `lines | sum (value | number)`, Field: "2 3.5 1", Gives: "6.5"},
	{Name: "smallest", Rows: true, Out: anyKind, Args: []Argument{{Name: "VALUE", Kind: anyKind}}, Doc: "the smallest number or earliest time of the rows", Example: `lines | smallest (value | number)`, Field: "2 3.5 1", Gives: "1"},
	{Name: "largest", Rows: true, Out: anyKind, Args: []Argument{{Name: "VALUE", Kind: anyKind}}, Doc: "the largest number or latest time of the rows", Example: `lines | largest (value | date "dd/MM/yyyy") | format "MMM"`, Field: "03/11/2026 25/10/2026", Gives: "Nov"},
	{Name: "first", Rows: true, Out: anyKind, Args: []Argument{{Name: "VALUE", Kind: anyKind}}, Doc: "a value of the first row; absent if there is no row", Example: `(lines where value != "2") | first value`, Field: "2 3.5 1", Gives: "3.5"},
	{Name: "last", Rows: true, Out: anyKind, Args: []Argument{{Name: "VALUE", Kind: anyKind}}, Doc: "a value of the last row; absent if there is no row", Example: `lines | last value`, Field: "2 3.5 1", Gives: "1"},
	{Name: "join", Rows: true, Out: value.Text, Args: []Argument{{Name: "VALUE", Kind: anyKind}, {Name: "BETWEEN", Kind: value.Text, Constant: true, Optional: true}}, Doc: "the texts of all rows, with another text between them", Example: `lines | join (value | upper) ", "`, Field: "ab cd", Gives: "AB, CD"},
	{Name: "trim", In: onText, Out: value.Text, Doc: "without white space at both ends", Example: `value | trim`, Field: "  pup ", Gives: "pup",
		build: func([]argument) (operation, error) {
			return func(_ *Env, in value.Value) value.Value { return value.OfText(bytes.TrimSpace(in.Bytes)) }, nil
		}},
	{Name: "upper", In: onText, Out: value.Text, Doc: "in capital letters", Example: `value | upper`, Field: "gs", Gives: "GS", build: texts(appendUpper)},
	{Name: "lower", In: onText, Out: value.Text, Doc: "in small letters", Example: `value | lower`, Field: "GS", Gives: "gs", build: texts(appendLower)},
	{Name: "ascii", In: onText, Out: value.Text, Doc: "with every character outside ASCII replaced by ?", Example: `value | ascii`, Field: "4 °C", Gives: "4 ?C",
		build: texts(func(to, in []byte) []byte {
			for _, r := range string(in) {
				if r >= utf8.RuneSelf {
					r = '?'
				}
				to = append(to, byte(r))
			}
			return to
		})},
	{Name: "part", In: onText, Out: value.Text, Args: []Argument{{Name: "from", Kind: value.Number, Constant: true}, {Name: "length", Kind: value.Number, Constant: true, Optional: true}},
		Doc: "some characters, counted from 1", Example: `value | part 3 2`, Field: "T-0815", Gives: "08", build: buildPart},
	{Name: "before", In: onText, Out: value.Text, Args: []Argument{{Name: "separator", Kind: value.Text, Constant: true}}, Doc: "what stands before the first separator; the whole text if there is none",
		Example: `value | before "-"`, Field: "T-0815", Gives: "T",
		build: func(args []argument) (operation, error) {
			sep := []byte(args[0].text)
			return func(_ *Env, in value.Value) value.Value {
				before, _, _ := bytes.Cut(in.Bytes, sep)
				return value.OfText(before)
			}, nil
		}},
	{Name: "after", In: onText, Out: value.Text, Args: []Argument{{Name: "separator", Kind: value.Text, Constant: true}}, Doc: "what stands after the first separator; empty if there is none",
		Example: `value | after "-"`, Field: "T-0815", Gives: "0815",
		build: func(args []argument) (operation, error) {
			sep := []byte(args[0].text)
			return func(_ *Env, in value.Value) value.Value {
				_, after, _ := bytes.Cut(in.Bytes, sep)
				return value.OfText(after)
			}, nil
		}},
	{Name: "pad", In: []value.Kind{value.Text, value.Number}, Out: value.Text, Args: []Argument{{Name: "width", Kind: value.Number, Constant: true}, {Name: "with", Kind: value.Text, Constant: true, Optional: true}},
		Doc: "made at least so many characters wide on the left, with spaces or another character", Example: `value | pad 6 "0"`, Field: "815", Gives: "000815", build: buildPad},
	{Name: "replace", In: onText, Out: value.Text, Args: []Argument{{Name: "old", Kind: value.Text, Constant: true}, {Name: "new", Kind: value.Text, Constant: true}}, Doc: "every occurrence of a text replaced by another",
		Example: `value | replace "-" ""`, Field: "T-08-15", Gives: "T0815",
		build: func(args []argument) (operation, error) {
			old, with := []byte(args[0].text), []byte(args[1].text)
			if len(old) == 0 {
				return nil, fmt.Errorf("the text to be replaced is empty")
			}
			return func(e *Env, in value.Value) value.Value {
				return e.text(in, func(to, in []byte) []byte {
					for {
						i := bytes.Index(in, old)
						if i < 0 {
							return append(to, in...)
						}
						to = append(append(to, in[:i]...), with...)
						in = in[i+len(old):]
					}
				})
			}, nil
		}},
	{Name: "matches", In: onText, Out: value.Bool, Args: []Argument{{Name: "pattern", Kind: value.Text, Constant: true}}, Doc: "whether the whole text matches a regular expression (RE2)",
		Example: `value | matches "T-[0-9]+"`, Field: "T-0815", Gives: "true",
		build: func(args []argument) (operation, error) {
			re, err := regexp.Compile("^(?:" + args[0].text + ")$")
			return func(_ *Env, in value.Value) value.Value { return value.OfBool(re.Match(in.Bytes)) }, err
		}},
	{Name: "capture", In: onText, Out: value.Text, Args: []Argument{{Name: "pattern", Kind: value.Text, Constant: true}}, Doc: "what the first group of a regular expression (RE2) finds; absent if it does not match",
		Example: `value | capture "T-0*([0-9]+)"`, Field: "T-0815", Gives: "815",
		build: func(args []argument) (operation, error) {
			re, err := regexp.Compile(args[0].text)
			if err == nil && re.NumSubexp() < 1 {
				err = fmt.Errorf("the pattern has no group in parentheses")
			}
			return func(_ *Env, in value.Value) value.Value {
				if m := re.FindSubmatch(in.Bytes); m != nil {
					return value.OfText(m[1])
				}
				return value.Value{}
			}, err
		}},
	{Name: "length", In: onText, Out: value.Number, Doc: "how many characters", Example: `value | length`, Field: "°C", Gives: "2",
		build: func([]argument) (operation, error) {
			return func(_ *Env, in value.Value) value.Value {
				return value.OfNumber(value.Int(int64(utf8.RuneCount(in.Bytes))))
			}, nil
		}},
	{Name: "text", Out: value.Text, Doc: "a number or a truth value as text", Example: `value | text`, Field: "12.50", Gives: "12.50",
		build: func([]argument) (operation, error) {
			return func(e *Env, in value.Value) value.Value {
				return e.text(in, func(to, _ []byte) []byte { return in.Append(to) })
			}, nil
		}},
	{Name: "number", In: onText, Out: value.Number, Args: []Argument{{Name: "decimal mark", Kind: value.Text, Constant: true, Optional: true}, {Name: "grouping mark", Kind: value.Text, Constant: true, Optional: true}},
		Doc: "a text read as a number, with a point unless other marks are declared", Example: `value | number ","`, Field: "12,5", Gives: "12.5", build: buildNumber},
	{Name: "round", In: onNumber, Out: value.Number, Args: []Argument{{Name: "decimals", Kind: value.Number, Constant: true}, {Name: "mode", Kind: value.Text, Constant: true, Optional: true}},
		Doc: "rounded to so many decimals; mode is half-even (the usual one), half-up, down or up", Example: `value | number | round 1`, Field: "12.25", Gives: "12.2", build: buildRound},
	{Name: "abs", In: onNumber, Out: value.Number, Doc: "without its sign", Example: `value | number | abs`, Field: "-1.50", Gives: "1.50",
		build: func([]argument) (operation, error) {
			return func(_ *Env, in value.Value) value.Value {
				if in.Number.Sign() < 0 {
					return value.OfNumber(in.Number.Neg())
				}
				return in
			}, nil
		}},
	{Name: "date", In: onText, Out: value.Time, Args: []Argument{{Name: "pattern", Kind: value.Text, Constant: true}, {Name: "code or year", Kind: anyKind, Optional: true}},
		Doc:     "a text read as a date or time in a TR 35 pattern, or as a standard writes it, with the precision that it has: \"HL7\", \"ISO 8601\", or \"EDIFACT\" and \"X12\" with the code that names its form. Years of two digits (yy) are those from 1969 to 2068, or the hundred from a year that is said: date \"dd.MM.yy\" 1930",
		Example: `value | date "dd/MM/yyyy" | format "yyyyMMdd"`, Field: "25/11/2026", Gives: "20261125", build: buildDate},
	{Name: "format", In: onTime, Out: value.Text, Args: []Argument{{Name: "pattern", Kind: value.Text, Constant: true}},
		Doc:     "a date or time written in a TR 35 pattern, or as a standard writes it, as exactly as it is known: \"HL7\" or \"ISO 8601\". What is not known is never made up, but for minutes and seconds of a known hour",
		Example: `value | date "yyyy-MM-dd" | format "d.M.yyyy"`, Field: "2026-11-05", Gives: "5.11.2026", needs: formatNeeds, build: buildFormat},
	{Name: "lookup", In: []value.Kind{value.Text, value.Number, value.Time}, Out: value.Text, Args: []Argument{{Name: "table", Table: true}, optional(textArgument("answer")), {Name: "key", Kind: anyKind, Optional: true}, {Name: "key", Kind: anyKind, Optional: true}}, Doc: "a code looked up in a table's first column, for the answer in its second or in the column of that heading; further keys are looked up in the columns behind the first. Columns `kg from` and `kg to` are one key, a range of numbers or days in which a number or time is looked for. `if unlisted` answers for a code that the table does not have, otherwise the record is rejected"},
}

func buildPart(args []argument) (operation, error) {
	from, length := args[0].num, int64(1)<<40
	if len(args) > 1 {
		length = args[1].num
	}
	if from < 1 || length < 0 {
		return nil, fmt.Errorf("characters are counted from 1")
	}
	return func(_ *Env, in value.Value) value.Value {
		b := in.Bytes
		for n := int64(1); n < from && len(b) > 0; n++ {
			_, k := utf8.DecodeRune(b)
			b = b[k:]
		}
		end := 0
		for n := int64(0); n < length && end < len(b); n++ {
			_, k := utf8.DecodeRune(b[end:])
			end += k
		}
		return value.OfText(b[:end])
	}, nil
}

func buildPad(args []argument) (operation, error) {
	width, with := args[0].num, " "
	if len(args) > 1 {
		with = args[1].text
	}
	if utf8.RuneCountInString(with) != 1 || width < 1 || width > 1000 {
		return nil, fmt.Errorf("pad needs a width from 1 to 1000 and one character")
	}
	return func(e *Env, in value.Value) value.Value {
		return e.text(in, func(to, _ []byte) []byte {
			var scratch [64]byte
			v := in.Append(scratch[:0])
			for n := int64(utf8.RuneCount(v)); n < width; n++ {
				to = append(to, with...)
			}
			return append(to, v...)
		})
	}, nil
}

func buildNumber(args []argument) (operation, error) {
	marks := [2]byte{'.', 0}
	for i, a := range args {
		if len(a.text) != 1 {
			return nil, fmt.Errorf("a mark is one character")
		}
		marks[i] = a.text[0]
	}
	field := numberField(marks[0], marks[1])
	return func(e *Env, in value.Value) value.Value {
		v, ok := field.Read(in.Bytes)
		if !ok {
			return e.fail("%q is not a number", in, "")
		}
		return v
	}, nil
}

func buildRound(args []argument) (operation, error) {
	modes := map[string]value.Rounding{"half-even": value.HalfEven, "half-up": value.HalfUp, "down": value.Down, "up": value.Up}
	mode := value.HalfEven
	if len(args) > 1 {
		var ok bool
		if mode, ok = modes[args[1].text]; !ok {
			return nil, fmt.Errorf("the mode of round is half-even, half-up, down or up, not %q", args[1].text)
		}
	}
	decimals := args[0].num
	if decimals < 0 || decimals > 100 {
		return nil, fmt.Errorf("round to 0 to 100 decimals")
	}
	return func(_ *Env, in value.Value) value.Value {
		return value.OfNumber(in.Number.Round(int32(decimals), mode))
	}, nil
}
