package lang

import (
	"crypto/sha1" // #nosec: RFC 9562, 5.5 asks for it
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"strings"

	"ydrion/core/value"
)

var codeFunctions = []*Function{
	{Name: "hash", In: onText, Out: value.Text, Args: []Argument{optional(textArgument("kind"))}, Doc: `the hash of its UTF-8 in hexadecimal: "sha256", the usual one, or "sha512"`, Example: `value | hash | part 1 16`, Field: "T-0815", Gives: "536b47670230ea35",
		build: func(args []argument) (operation, error) {
			kind := "sha256"
			if len(args) > 0 {
				kind = args[0].text
			}
			if kind != "sha256" && kind != "sha512" {
				return nil, fmt.Errorf("hashes are sha256 or sha512, not %q", kind)
			}
			return func(e *Env, in value.Value) value.Value {
				return e.text(in, func(to, in []byte) []byte {
					if kind == "sha512" {
						sum := sha512.Sum512(in)
						return hex.AppendEncode(to, sum[:])
					}
					sum := sha256.Sum256(in)
					return hex.AppendEncode(to, sum[:])
				})
			}, nil
		}},
	{Name: "uuid", In: onText, Out: value.Text, Args: []Argument{optional(textArgument("namespace"))}, Doc: "an identifier made of the text, always the same for it: a UUID of version 5 (RFC 9562) in a namespace, which is a UUID or any name of one's own", Example: `value | uuid "6ba7b810-9dad-11d1-80b4-00c04fd430c8"`, Field: "www.example.com", Gives: "2ed6657d-e927-568b-95e1-2665a8aea6a2",
		build: func(args []argument) (operation, error) {
			namespace := "ydrion"
			if len(args) > 0 {
				namespace = args[0].text
			}
			space, err := hex.DecodeString(strings.ReplaceAll(namespace, "-", ""))
			if err != nil || len(space) != 16 || len(namespace) != 36 {
				made := named(nil, make([]byte, 16), []byte(namespace))
				space, _ = hex.DecodeString(strings.ReplaceAll(string(made), "-", ""))
			}
			return func(e *Env, in value.Value) value.Value {
				return e.text(in, func(to, in []byte) []byte { return named(to, space, in) })
			}, nil
		}},
	{Name: "checkdigit", In: onText, Out: value.Text, Args: []Argument{textArgument("kind")}, Doc: `the check digit that belongs behind it: "gs1", "luhn", "mod 11-2" (ISO/IEC 7064) or "mod 97-10" (two digits)`, Example: `"{value}{value | checkdigit "gs1"}"`, Field: "400638133393", Gives: "4006381333931",
		build: func(args []argument) (operation, error) {
			of, err := checkKind(args[0].text)
			return func(e *Env, in value.Value) value.Value {
				digits, ok := of(in.Bytes)
				if !ok {
					return e.fail("%q has characters that no check digit of that kind is made of", in, "")
				}
				return value.OfText([]byte(digits))
			}, err
		}},
	{Name: "checked", In: onText, Out: value.Bool, Args: []Argument{textArgument("kind")}, Doc: "whether it ends with its right check digit, as checkdigit makes it", Example: `value | checked "luhn"`, Field: "79927398713", Gives: "true",
		build: func(args []argument) (operation, error) {
			of, err := checkKind(args[0].text)
			size := 1
			if args[0].text == "mod 97-10" {
				size = 2
			}
			return func(_ *Env, in value.Value) value.Value {
				n := len(in.Bytes) - size
				if n < 1 {
					return value.OfBool(false)
				}
				digits, ok := of(in.Bytes[:n])
				return value.OfBool(ok && digits == string(in.Bytes[n:]))
			}, err
		}},
}

// named writes a UUID of version 5: of a name in a namespace.
func named(to, space, name []byte) []byte {
	h := sha1.New()
	h.Write(space)
	h.Write(name)
	id := h.Sum(nil)[:16]
	id[6], id[8] = id[6]&0x0f|0x50, id[8]&0x3f|0x80
	for i, b := range id {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			to = append(to, '-')
		}
		to = hex.AppendEncode(to, []byte{b})
	}
	return to
}

// checkKind finds how check digits of a kind are made.
func checkKind(kind string) (func([]byte) (string, bool), error) {
	switch kind {
	case "gs1": // General Specifications, 7.9: 3 and 1 in turn, from the right
		return weighted(func(digit, place int) int { return digit * (3 - 2*(place%2)) }), nil
	case "luhn": // ISO/IEC 7812-1, annex B: each second one doubled, from the right
		return weighted(func(digit, place int) int {
			if place%2 == 1 {
				return digit
			}
			return 2*digit/10 + 2*digit%10
		}), nil
	case "mod 11-2":
		return func(b []byte) (string, bool) {
			sum := 0
			for _, c := range b {
				if c-'0' > 9 {
					return "", false
				}
				sum = (sum + int(c-'0')) * 2 % 11
			}
			if n := (12 - sum) % 11; n < 10 {
				return fmt.Sprint(n), true
			}
			return "X", true
		}, nil
	case "mod 97-10":
		return func(b []byte) (string, bool) {
			sum := 0
			for _, c := range b {
				switch {
				case c-'0' <= 9:
					sum = (sum*10 + int(c-'0')) % 97
				case c >= 'A' && c <= 'Z': // A is 10
					sum = (sum*100 + int(c-'A') + 10) % 97
				default:
					return "", false
				}
			}
			return fmt.Sprintf("%02d", 98-sum*100%97), true
		}, nil
	}
	return nil, fmt.Errorf("check digits are gs1, luhn, mod 11-2 or mod 97-10, not %q", kind)
}

// weighted makes a check digit that brings the sum of weighted digits to a multiple of ten. Places
// are counted from the right, from 0.
func weighted(weigh func(digit, place int) int) func([]byte) (string, bool) {
	return func(b []byte) (string, bool) {
		sum := 0
		for i := range b {
			c := b[len(b)-1-i]
			if c-'0' > 9 {
				return "", false
			}
			sum += weigh(int(c-'0'), i)
		}
		return fmt.Sprint((10 - sum%10) % 10), true
	}
}
