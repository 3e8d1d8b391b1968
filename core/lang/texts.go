package lang

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"ydrion/core/value"
)

// Arguments that must be written out.
func textArgument(name string) Argument {
	return Argument{Name: name, Kind: value.Text, Constant: true}
}
func numberArgument(name string) Argument {
	return Argument{Name: name, Kind: value.Number, Constant: true}
}
func optional(a Argument) Argument { a.Optional = true; return a }

// longest is how long a text may become by a function, in bytes.
const longest = 1 << 20

var textFunctions = []*Function{
	{Name: "fill", In: []value.Kind{value.Text, value.Number}, Out: value.Text, Args: []Argument{numberArgument("width"), optional(textArgument("with"))},
		Doc: "made at least so many characters wide on the right, with spaces or another character", Example: `value | fill 6 "."`, Field: "815", Gives: "815...", build: buildFill},
	{Name: "title", In: onText, Out: value.Text, Doc: "each word with a capital letter, the rest small", Example: `value | title`, Field: "SKERRY coast", Gives: "Skerry Coast",
		build: texts(func(to, in []byte) []byte {
			begins := true
			for _, r := range string(in) {
				if begins {
					to = utf8.AppendRune(to, unicode.ToTitle(r))
				} else {
					to = utf8.AppendRune(to, unicode.ToLower(r))
				}
				begins = !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && r != '\''
			}
			return to
		})},
	{Name: "word", In: onText, Out: value.Text, Args: []Argument{numberArgument("n")}, Doc: "the nth word, from 1; absent if there are not so many", Example: `value | word 2`, Field: " Grey  seal pup", Gives: "seal",
		build: func(args []argument) (operation, error) {
			if args[0].num < 1 {
				return nil, fmt.Errorf("words are counted from 1")
			}
			return func(_ *Env, in value.Value) value.Value {
				n := args[0].num
				for word := range bytes.FieldsSeq(in.Bytes) {
					if n--; n == 0 {
						return value.OfText(word)
					}
				}
				return value.Value{}
			}, nil
		}},
	{Name: "piece", In: onText, Out: value.Text, Args: []Argument{textArgument("separator"), numberArgument("n")}, Doc: "the nth piece between separators, from 1; absent if there are not so many",
		Example: `value | piece ";" 2`, Field: "ST18;night;3", Gives: "night",
		build: func(args []argument) (operation, error) {
			separator := []byte(args[0].text)
			if len(separator) == 0 || args[1].num < 1 {
				return nil, fmt.Errorf("piece needs a separator, and pieces are counted from 1")
			}
			return func(_ *Env, in value.Value) value.Value {
				piece, rest, more := bytes.Cut(in.Bytes, separator)
				for n := args[1].num; n > 1; n-- {
					if !more {
						return value.Value{}
					}
					piece, rest, more = bytes.Cut(rest, separator)
				}
				return value.OfText(piece)
			}, nil
		}},
	{Name: "rewrite", In: onText, Out: value.Text, Args: []Argument{textArgument("pattern"), textArgument("with")}, Doc: "what matches a regular expression (RE2) replaced; $1 stands for what its first group found",
		Example: `value | rewrite "T-0*([0-9]+)" "tag $1"`, Field: "T-0815", Gives: "tag 815",
		build: func(args []argument) (operation, error) {
			re, err := regexp.Compile(args[0].text)
			with := []byte(args[1].text)
			return func(e *Env, in value.Value) value.Value {
				out := re.ReplaceAll(in.Bytes, with)
				if len(out) > longest+len(in.Bytes) {
					return e.fail("%q would become longer than %s bytes", in, fmt.Sprint(longest))
				}
				return value.OfText(out)
			}, err
		}},
	{Name: "translate", In: onText, Out: value.Text, Args: []Argument{textArgument("from"), textArgument("to")}, Doc: "each character of one text replaced by the one in its place in another; those behind the other's end are left out",
		Example: `value | translate "/.#" "--"`, Field: "1/2.3#", Gives: "1-2-3", build: buildTranslate},
	{Name: "times", In: onText, Out: value.Text, Args: []Argument{numberArgument("n")}, Doc: "written so many times, up to 1000", Example: `value | times 3`, Field: "ab", Gives: "ababab",
		build: func(args []argument) (operation, error) {
			if args[0].num < 0 || args[0].num > 1000 {
				return nil, fmt.Errorf("a text can be written 0 to 1000 times")
			}
			return func(e *Env, in value.Value) value.Value {
				if len(in.Bytes)*int(args[0].num) > longest {
					return e.fail("%q would become longer than %s bytes", in, fmt.Sprint(longest))
				}
				return value.OfText(bytes.Repeat(in.Bytes, int(args[0].num)))
			}, nil
		}},
	{Name: "plain", In: onText, Out: value.Text, Doc: "in ASCII letters: without accents, ae for æ, ss for ß; what has no such letters is ?", Example: `value | plain`, Field: "Ærø, Señor Weiß", Gives: "AEro, Senor Weiss", build: texts(plainLetters)},
	{Name: "contains", In: onText, Out: value.Bool, Args: []Argument{{Name: "text", Kind: value.Text}}, Doc: "whether another text stands in it", Example: `value | contains "seal"`, Field: "grey seal", Gives: "true", build: comparing(bytes.Contains)},
	{Name: "begins", In: onText, Out: value.Bool, Args: []Argument{{Name: "text", Kind: value.Text}}, Doc: "whether it begins with another text", Example: `value | begins "T-"`, Field: "T-0815", Gives: "true", build: comparing(bytes.HasPrefix)},
	{Name: "ends", In: onText, Out: value.Bool, Args: []Argument{{Name: "text", Kind: value.Text}}, Doc: "whether it ends with another text", Example: `value | ends "15"`, Field: "T-0815", Gives: "true", build: comparing(bytes.HasSuffix)},
	{Name: "base64", In: onText, Out: value.Text, Doc: "its UTF-8 in base64 (RFC 4648, 4)", Example: `value | base64`, Field: "café", Gives: "Y2Fmw6k=",
		build: texts(func(to, in []byte) []byte { return base64.StdEncoding.AppendEncode(to, in) })},
	{Name: "unbase64", In: onText, Out: value.Text, Doc: "the text whose UTF-8 stands there in base64", Example: `value | unbase64`, Field: "Y2Fmw6k=", Gives: "café",
		build: func([]argument) (operation, error) {
			return func(e *Env, in value.Value) value.Value {
				out, err := base64.StdEncoding.AppendDecode(nil, in.Bytes)
				if err != nil || !utf8.Valid(out) {
					return e.fail("%q is not a text in base64", in, "")
				}
				return value.OfText(out)
			}, nil
		}},
	{Name: "marks", In: onNumber, Out: value.Text, Args: []Argument{textArgument("decimal"), optional(textArgument("grouping"))}, Doc: "a number written with other marks than a point", Example: `value | number | marks "," "."`, Field: "1234567.50", Gives: "1.234.567,50", build: buildMarks},
	{Name: "min", In: onNumber, Out: value.Number, Args: []Argument{{Name: "number", Kind: value.Number}}, Doc: "the smaller of it and another number", Example: `value | number | min 10`, Field: "12.5", Gives: "10", build: choosing(-1)},
	{Name: "max", In: onNumber, Out: value.Number, Args: []Argument{{Name: "number", Kind: value.Number}}, Doc: "the larger of it and another number", Example: `value | number | max 0`, Field: "-1.5", Gives: "0", build: choosing(1)},
	{Name: "remainder", In: onNumber, Out: value.Number, Args: []Argument{{Name: "divisor", Kind: value.Number}}, Doc: "what is left of it when it is divided into whole parts; with its own sign", Example: `value | number | remainder 7`, Field: "17.5", Gives: "3.5",
		build: func(args []argument) (operation, error) {
			return func(e *Env, in value.Value) value.Value {
				by := args[0].eval(e)
				if !by.Has() || e.failed {
					return by
				}
				q, ok := in.Number.Div(by.Number, 0, value.Down)
				if !ok {
					return e.fail("%q cannot be divided by zero", in, "")
				}
				return value.OfNumber(in.Number.Sub(q.Mul(by.Number)))
			}, nil
		}},
}

// comparing makes an operation that asks something of two texts.
func comparing(holds func(text, other []byte) bool) func([]argument) (operation, error) {
	return func(args []argument) (operation, error) {
		return func(e *Env, in value.Value) value.Value {
			other := args[0].eval(e)
			return value.OfBool(!e.failed && other.Has() && holds(in.Bytes, other.Bytes))
		}, nil
	}
}

// choosing makes an operation that takes the smaller (-1) or larger of two numbers.
func choosing(order int) func([]argument) (operation, error) {
	return func(args []argument) (operation, error) {
		return func(e *Env, in value.Value) value.Value {
			if other := args[0].eval(e); other.Has() && !e.failed && other.Number.Cmp(in.Number) == order {
				return other
			}
			return in
		}, nil
	}
}

func buildFill(args []argument) (operation, error) {
	width, with := args[0].num, " "
	if len(args) > 1 {
		with = args[1].text
	}
	if utf8.RuneCountInString(with) != 1 || width < 1 || width > 1000 {
		return nil, fmt.Errorf("fill needs a width from 1 to 1000 and one character")
	}
	return func(e *Env, in value.Value) value.Value {
		return e.text(in, func(to, _ []byte) []byte {
			begin := len(to)
			to = in.Append(to)
			for n := int64(utf8.RuneCount(to[begin:])); n < width; n++ {
				to = append(to, with...)
			}
			return to
		})
	}, nil
}

func buildTranslate(args []argument) (operation, error) {
	from, to := []rune(args[0].text), []rune(args[1].text)
	if len(to) > len(from) {
		return nil, fmt.Errorf("there are %d characters to write for %d", len(to), len(from))
	}
	table := map[rune]rune{}
	for i, r := range from {
		if _, twice := table[r]; twice {
			return nil, fmt.Errorf("%q stands there twice", r)
		}
		if table[r] = -1; i < len(to) {
			table[r] = to[i]
		}
	}
	return texts(func(to, in []byte) []byte {
		for _, r := range string(in) {
			if with, is := table[r]; is {
				r = with
			}
			if r >= 0 {
				to = utf8.AppendRune(to, r)
			}
		}
		return to
	})(args)
}

func buildMarks(args []argument) (operation, error) {
	decimal, grouping := args[0].text, ""
	if len(args) > 1 {
		grouping = args[1].text
	}
	if utf8.RuneCountInString(decimal) != 1 || utf8.RuneCountInString(grouping) > 1 || decimal == grouping || strings.ContainsAny(decimal+grouping, "0123456789+-") {
		return nil, fmt.Errorf("the marks of a number are two different characters, and no digits")
	}
	return func(e *Env, in value.Value) value.Value {
		return e.text(in, func(to, _ []byte) []byte {
			whole, part, has := strings.Cut(in.Number.String(), ".")
			if strings.HasPrefix(whole, "-") {
				to, whole = append(to, '-'), whole[1:]
			}
			for i, c := range []byte(whole) {
				if i > 0 && (len(whole)-i)%3 == 0 {
					to = append(to, grouping...)
				}
				to = append(to, c)
			}
			if has {
				to = append(append(to, decimal...), part...)
			}
			return to
		})
	}, nil
}

// letters are those that no decomposition turns into ASCII.
var letters = map[rune]string{'ß': "ss", 'ẞ': "SS", 'æ': "ae", 'Æ': "AE", 'œ': "oe", 'Œ': "OE", 'ø': "o", 'Ø': "O", 'đ': "d", 'Đ': "D", 'ð': "d", 'Ð': "D", 'þ': "th", 'Þ': "TH", 'ł': "l", 'Ł': "L",
	'ı': "i", 'ħ': "h", 'Ħ': "H", 'ŋ': "n", 'Ŋ': "N", 'ŧ': "t", 'Ŧ': "T", '–': "-", '—': "-", '‘': "'", '’': "'", '“': `"`, '”': `"`, '„': `"`, '…': "...", '\u00a0': " ", '\u202f': " "}

// plainLetters writes a text in ASCII.
func plainLetters(to, in []byte) []byte {
	for _, r := range string(in) {
		if r < utf8.RuneSelf {
			to = append(to, byte(r))
			continue
		}
		if s, known := letters[r]; known {
			to = append(to, s...)
			continue
		}
		begin := len(to)
		var character [utf8.UTFMax]byte
		for _, part := range norm.NFKD.Properties(utf8.AppendRune(character[:0], r)).Decomposition() {
			if part < utf8.RuneSelf {
				to = append(to, part)
			}
		}
		if len(to) == begin && !unicode.Is(unicode.Mn, r) { // a mark stands on the letter before it
			to = append(to, '?')
		}
	}
	return to
}
