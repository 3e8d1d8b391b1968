package flow

import (
	"encoding/json"
	"fmt"
	"strings"

	"ydrion/core/batch"
	"ydrion/core/lang"
)

// Saying is something that goes with an output where it is sent: an address, a subject, a header.
type Saying struct {
	What  string // to whoever sends it, such as "subject"
	Text  *lang.Template
	Check func(text string) (problem string)
}

// mostSaid is how long a saying may be, in bytes.
const mostSaid = 64 << 10

// made is an output's name, and behind it what goes with the output: it is known when the name is, and goes where the name goes.
func (o *Output) made(e *lang.Env, b *batch.Batch, record int) (made, problem string) {
	name, problem := o.Name.Name(e, b, record)
	if problem != "" || len(o.Said) == 0 {
		return name, problem
	}
	said := map[string]string{}
	for i := range o.Said {
		s := &o.Said[i]
		text, problem := s.Text.Say(e, b, record)
		if problem == "" && len(text) > mostSaid {
			problem = fmt.Sprintf("it has %d bytes; %d are the most", len(text), mostSaid)
		}
		if problem == "" && strings.Contains(text, "\x00") {
			problem = "there is a character in it that no text holds (U+0000)"
		}
		if problem == "" && s.Check != nil {
			problem = s.Check(text)
		}
		if problem != "" {
			return "", fmt.Sprintf("%s: %s", s.What, problem)
		}
		said[s.What] = strings.ToValidUTF8(text, "\uFFFD")
	}
	more, err := json.Marshal(said)
	if err != nil {
		return "", err.Error()
	}
	return name + saidBehind + string(more), ""
}

// saidBehind stands between a name and what is said: no name holds it.
const saidBehind = "\x00"

// Cut cuts what was made of an output's name into the name and what goes with the output, a JSON object of texts; empty if nothing does.
func Cut(made string) (name, said string) {
	name, said, _ = strings.Cut(made, saidBehind)
	return name, said
}
