package flow

import (
	"io"

	"ydrion/core/batch"
	"ydrion/core/finding"
	"ydrion/core/lang"
)

// Peek makes texts from a file's first record (and the facts about the file)
// without reading on. Where that cannot be done - there is no record, or an
// expression fails - the text is empty and the reason is given.
func (p *Plan) Peek(in io.Reader, facts lang.Facts, texts ...*lang.Template) (made []string, problem string, err error) {
	made = make([]string, len(texts))
	env := &lang.Env{Facts: facts}
	var first *batch.Batch
	for i, t := range texts {
		switch {
		case t == nil:
			continue
		case t.PerRecord && first == nil && !p.Unread:
			first = batches.Get().(*batch.Batch)
			defer batches.Put(first)
			if problem, err = p.first(in, first); err != nil || problem != "" {
				return made, problem, err
			}
		}
		b := first
		if !t.PerRecord || p.Unread {
			b = nil
		}
		var why string
		if made[i], why = t.Text(env, b, 0); why != "" && problem == "" {
			problem = why
		}
	}
	return made, problem, nil
}

// first reads a file's first batch and splits it.
func (p *Plan) first(in io.Reader, b *batch.Batch) (problem string, err error) {
	defer defect(&err, "looking at the first record")
	reader, _, findings, err := p.Open(in)
	if err != nil {
		return "", err
	}
	if reader == nil {
		for _, f := range findings {
			if f.Severity == finding.Error {
				return f.Message, nil
			}
		}
		return "it cannot be read as described", nil
	}
	b.Reset()
	b.Turn, b.Next = nil, nil
	_, cut := reader.Cut(b)
	reader.Split(b)
	b.First, b.Seq = 1, 1
	switch {
	case b.Records() > 0:
		return "", nil
	case cut != nil:
		return cut.Error(), nil
	}
	return "it has no records", nil
}
