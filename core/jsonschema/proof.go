package jsonschema

import (
	"bytes"
	"unicode/utf8"

	"ydrion/core/value"
)

// verdict is what a proof finds about a value and the rules that it is held against.
type verdict uint8

const (
	open verdict = iota // it cannot tell: the library has to
	fits
	fails
)

// and is the verdict of two that must both hold.
func (v verdict) and(w verdict) verdict {
	switch {
	case v == fails || w == fails:
		return fails
	case v == open || w == open:
		return open
	}
	return fits
}

func holds(is bool) verdict {
	if is {
		return fits
	}
	return fails
}

// proof holds the text of a value, whose grammar is right, against rules: in one pass, without making anything of it.
// Most values fit, and nothing else has to be done for them. Those of which it cannot tell, and those that do not fit,
// are left to the library, which says what is wrong.
type proof struct {
	raw   []byte
	fast  bool // it ends where something fails; the library goes on
	all   bool // alternatives are gone through behind the first that fits, too, as the library does
	left  int  // so many bytes may still be gone through
	spent bool // there were not enough
	lost  bool // it cannot be followed
	// unlisted is told of members that are listed nowhere; nil: nobody asks.
	unlisted func(Unlisted)
	large    bool // there is a number with an exponent that may be larger than what is checked
}

// newProof begins one. Alternatives within alternatives go through what is in a value again and again; it may be gone
// through as often as any schema with a use asks for.
func newProof(raw []byte, of *ruled) proof {
	return proof{raw: raw, all: of.all, left: 1<<22 + 1000*len(raw)}
}

// mostApplied is how many rules one value may be held against because one is made of the other: a schema that is made of
// itself would go on for ever. How deep values are nested is bounded by their grammar.
const mostApplied = 200

// verdict of a value as a whole. Spent tells that the library would go through its alternatives without end.
func (d *ruled) verdict(raw []byte, unlisted func(Unlisted)) (v verdict, spent bool) {
	p := newProof(raw, d)
	p.fast, p.unlisted = true, unlisted
	if v = d.held(&p); v == fits {
		return fits, false
	}
	all := newProof(raw, d)
	d.held(&all)
	return v, all.spent
}

// held holds a value against all rules.
func (d *ruled) held(p *proof) verdict {
	v := fits
	for _, r := range d.top {
		end, w := p.value(p.blanks(0), r, 0)
		switch {
		case p.lost:
			return open
		case w == fails && p.fast:
			return fails
		case p.blanks(end) != len(p.raw):
			return open
		}
		v = v.and(w)
	}
	if p.large {
		return open
	}
	return v
}

func (p *proof) blanks(at int) int {
	for at < len(p.raw) && (p.raw[at] == ' ' || p.raw[at] == '\n' || p.raw[at] == '\r' || p.raw[at] == '\t') {
		at++
	}
	return at
}

// next goes from a part of an object or a list to the one behind it. If it was the last, end is behind what closes them.
func (p *proof) next(at int, closes byte) (next, end int) {
	if at = p.blanks(at); at < len(p.raw) && !p.lost {
		switch p.raw[at] {
		case ',':
			return p.blanks(at + 1), 0
		case closes:
			return at, at + 1
		}
	}
	p.lost = true
	return at, 0
}

// lose gives up.
func (p *proof) lose() (int, verdict) {
	p.lost = true
	return len(p.raw), open
}

// value holds the value at a place against rules, nil: anything fits. It gives where it ends, unless it fails
// in a proof that is fast.
func (p *proof) value(at int, r *rules, applied int) (end int, v verdict) {
	if p.lost || at >= len(p.raw) || applied > mostApplied {
		return p.lose()
	}
	kind, c := kinds(0), p.raw[at]
	switch c {
	case '{':
		kind = isObject
	case '[':
		kind = isList
	case '"':
		kind = isText
	case 't', 'f':
		kind = isTruth
	case 'n':
		kind = isNull
	default:
		kind = isNumber
	}
	if r != nil && (r.never || r.kinds != 0 && r.kinds&kind == 0 && (kind != isNumber || r.kinds&isWhole == 0)) {
		if p.fast {
			return at, fails
		}
		end, _ = p.value(at, nil, 0)
		return end, fails
	}
	switch kind {
	case isObject:
		end, v = p.object(at, r, applied)
	case isList:
		end, v = p.list(at, r)
	case isText:
		end, v = p.text(at, r)
	case isNumber:
		end, v = p.number(at, r)
	default:
		for end = at + 1; end < len(p.raw) && p.raw[end]-'a' < 26; end++ {
		}
		if v = fits; r != nil && r.among != nil {
			v = holds(c == 'n' && r.among.null || c == 't' && r.among.truth || c == 'f' && r.among.untrue)
		}
	}
	if p.left--; kind&(isObject|isList) == 0 {
		p.left -= end - at
	}
	if p.left < 0 {
		p.spent = true
		return p.lose()
	}
	if r == nil || v == fails && p.fast {
		return end, v
	}
	return end, v.and(p.combined(at, r, applied))
}

// combined holds a value against the rules that are made of others.
func (p *proof) combined(at int, r *rules, applied int) verdict {
	v := fits
	if r.open {
		v = open
	}
	of := func(r *rules) verdict {
		_, v := p.value(at, r, applied+1)
		return v
	}
	for _, r := range r.all {
		v = v.and(of(r))
	}
	for _, r := range r.left {
		if !p.fast { // it only counts how often the library goes through it
			of(r)
		}
	}
	if len(r.any) > 0 {
		some := fails
		for _, r := range r.any {
			if w := of(r); w == fits || some == fails {
				some = w
			}
			if some == fits && !p.all {
				break
			}
		}
		v = v.and(some)
	}
	if len(r.one) > 0 {
		n, unknown := 0, 0
		for _, r := range r.one {
			switch of(r) {
			case fits:
				n++
			case open:
				unknown++
			}
		}
		switch {
		case n > 1 || n+unknown == 0:
			v = fails
		case unknown > 0:
			v = v.and(open)
		}
	}
	if r.not != nil {
		switch of(r.not) {
		case fits:
			v = fails
		case open:
			v = v.and(open)
		}
	}
	if r.when != nil {
		switch of(r.when) {
		case fits:
			v = v.and(of(r.then))
		case fails:
			v = v.and(of(r.els))
		default:
			v = v.and(open)
		}
	}
	return v
}

// quoted gives what stands between the quotes of the text at a place, and where it ends. Escape sequences in it are undone.
func (p *proof) quoted(at int) (text []byte, end int) {
	rest := p.raw[at+1:]
	k := bytes.IndexByte(rest, '"')
	if k >= 0 && bytes.IndexByte(rest[:k], '\\') < 0 {
		return rest[:k], at + k + 2
	}
	for k = 0; k < len(rest) && rest[k] != '"'; k++ {
		if rest[k] == '\\' {
			k++
		}
	}
	if k >= len(rest) {
		p.lost = true
		return nil, len(p.raw)
	}
	end = at + k + 2
	written, _, ok := decode(p.raw[at:end])
	s, is := written.(string)
	p.lost = p.lost || !ok || !is
	return []byte(s), end
}

func (p *proof) text(at int, r *rules) (end int, v verdict) {
	text, end := p.quoted(at)
	if r == nil {
		return end, fits
	}
	return end, r.text(text)
}

// text holds a text against rules.
func (r *rules) text(text []byte) verdict {
	if r.among != nil && !r.among.texts[string(text)] {
		return fails
	}
	if r.shortest != nil || r.longest != nil {
		n := utf8.RuneCount(text)
		if r.shortest != nil && n < *r.shortest || r.longest != nil && n > *r.longest {
			return fails
		}
	}
	if r.pattern != nil && !r.pattern.MatchString(string(text)) {
		return fails
	}
	return holds(r.format == nil || r.format.Validate(string(text)) == nil)
}

func (p *proof) number(at int, r *rules) (end int, v verdict) {
	fraction, exponent := 0, 0 // where they begin
	for end = at; end < len(p.raw); end++ {
		c := p.raw[end]
		if c == '.' {
			fraction = end + 1
		} else if c|0x20 == 'e' {
			exponent = end + 1
		} else if c-'0' > 9 && c != '-' && c != '+' {
			break
		}
	}
	if exponent > 0 && len(bytes.TrimLeft(p.raw[exponent:end], "+-0")) > 3 {
		p.large = true
	}
	switch {
	case end == at:
		return p.lose()
	case r == nil:
		return end, fits
	}
	whole := r.kinds&isWhole != 0 && r.kinds&isNumber == 0
	if whole && exponent == 0 && fraction > 0 && len(bytes.Trim(p.raw[fraction:end], "0")) > 0 {
		return end, fails
	}
	if r.among == nil && r.least == nil && r.most == nil && r.above == nil && r.below == nil && r.multiple == nil && !(whole && exponent > 0) {
		return end, fits
	}
	read := value.ParseDecimal
	if exponent > 0 {
		read = value.ParseExponent
	}
	n, err := read(p.raw[at:end])
	if err != nil {
		return end, open
	}
	if whole && n.Cmp(n.Round(0, value.Down)) != 0 {
		return end, fails
	}
	if r.among != nil {
		is := false
		for _, m := range r.among.numbers {
			is = is || m.Cmp(n) == 0
		}
		if !is {
			return end, fails
		}
	}
	if r.least != nil && n.Cmp(*r.least) < 0 || r.most != nil && n.Cmp(*r.most) > 0 || r.above != nil && n.Cmp(*r.above) <= 0 || r.below != nil && n.Cmp(*r.below) >= 0 {
		return end, fails
	}
	if r.multiple != nil {
		whole, ok := n.Div(*r.multiple, 0, value.Down)
		if !ok {
			return end, open
		}
		return end, holds(whole.Mul(*r.multiple).Cmp(n) == 0)
	}
	return end, fits
}

func (p *proof) object(at int, r *rules, applied int) (end int, v verdict) {
	v = fits
	begins := at
	came, n := uint64(0), 0
	if at = p.blanks(at + 1); at < len(p.raw) && p.raw[at] == '}' {
		end = at + 1
	}
	for end == 0 {
		if at >= len(p.raw) || p.raw[at] != '"' {
			return p.lose()
		}
		named := at
		name, behind := p.quoted(at)
		if at = p.blanks(behind); p.lost || at >= len(p.raw) || p.raw[at] != ':' {
			return p.lose()
		}
		at = p.blanks(at + 1)
		n++
		var w verdict
		if r == nil {
			at, w = p.value(at, nil, 0)
		} else {
			at, w = p.member(named, at, r, name, &came)
		}
		if v = v.and(w); v == fails && p.fast {
			return at, fails
		}
		if at, end = p.next(at, '}'); p.lost {
			return p.lose()
		}
	}
	if r == nil {
		return end, v
	}
	if came&r.required != r.required || r.fewest != nil && n < *r.fewest || r.greatest != nil && n > *r.greatest {
		return end, fails
	}
	for i := range r.depends {
		of := &r.depends[i]
		if came&of.on == 0 {
			continue
		}
		if came&of.needs != of.needs {
			return end, fails
		}
		if of.of != nil {
			_, w := p.value(begins, of.of, applied+1)
			v = v.and(w)
		}
	}
	return end, v.and(r.among.deeply())
}

// deeply is the verdict of an object or a list that must be one of certain values.
func (a *allowed) deeply() verdict {
	switch {
	case a == nil:
		return fits
	case a.deep:
		return open
	}
	return fails
}

// member holds one, whose name is at a place, against all rules that are about it.
func (p *proof) member(named, at int, r *rules, name []byte, came *uint64) (end int, v verdict) {
	v = fits
	held := false
	var w verdict
	if known := r.members.find(name); known == nil {
		if r.listed && p.unlisted != nil {
			p.unlisted(Unlisted{named, name, r})
		}
	} else {
		*came |= known.bit
		if known.ruled {
			if end, v = p.value(at, known.of, 0); v == fails && p.fast {
				return end, v
			}
			held = true
		}
	}
	for i := range r.patterns {
		if of := &r.patterns[i]; of.names.MatchString(string(name)) {
			if end, w = p.value(at, of.of, 0); w == fails && p.fast {
				return end, w
			}
			v, held = v.and(w), true
		}
	}
	if !held {
		if r.closed && p.fast {
			return at, fails
		}
		if end, v = p.value(at, r.others, 0); r.closed {
			v = fails
		}
	}
	if r.names != nil {
		_, w = p.value(named, r.names, 0)
		v = v.and(w)
	}
	return end, v
}

// mostCompared is how many elements are compared each with each.
const mostCompared = 32

func (p *proof) list(at int, r *rules) (end int, v verdict) {
	v = fits
	n, held, unknown := 0, 0, 0
	var each [mostCompared]span
	if at = p.blanks(at + 1); at < len(p.raw) && p.raw[at] == ']' {
		end = at + 1
	}
	for end == 0 {
		var of *rules
		if r != nil {
			if n < len(r.first) {
				of = r.first[n]
			} else if of = r.rest; r.full {
				v = fails
			}
			if r.contains != nil {
				switch _, w := p.value(at, r.contains, 0); w {
				case fits:
					held++
				case open:
					unknown++
				}
			}
		}
		from := at
		var w verdict
		at, w = p.value(at, of, 0)
		if v = v.and(w); v == fails && p.fast {
			return at, fails
		}
		if n < mostCompared {
			each[n] = span{from, at}
		}
		n++
		if at, end = p.next(at, ']'); p.lost {
			return p.lose()
		}
	}
	if r == nil {
		return end, v
	}
	if r.fewestIn != nil && n < *r.fewestIn || r.mostIn != nil && n > *r.mostIn {
		return end, fails
	}
	if r.unique && n > 1 {
		v = v.and(p.differ(each[:min(n, mostCompared)], n))
	}
	if r.contains != nil {
		v = v.and(r.holds(held, unknown))
	}
	return end, v.and(r.among.deeply())
}

// holds tells whether a list may have so many elements of a kind, of which some may be of it.
func (r *rules) holds(held, unknown int) verdict {
	least, most := 1, held+unknown
	if r.leastHeld != nil {
		least = *r.leastHeld
	}
	if r.maxHeld != nil {
		most = *r.maxHeld
	}
	switch {
	case held >= least && held+unknown <= most:
		return fits
	case held+unknown < least || held > most:
		return fails
	}
	return open
}

// span is where a value stands.
type span struct{ from, to int }

// differ tells whether no two elements are the same, of few that are texts as they stand, whole numbers, truths or null.
func (p *proof) differ(each []span, n int) verdict {
	if n > len(each) {
		return open
	}
	for i, a := range each {
		text := p.raw[a.from:a.to]
		if text[0] == '{' || text[0] == '[' || bytes.IndexByte(text, '\\') >= 0 || text[0] != '"' && bytes.ContainsAny(text, "-.") {
			return open
		}
		for _, b := range each[:i] {
			if bytes.Equal(p.raw[b.from:b.to], text) {
				return fails
			}
		}
	}
	return fits
}
