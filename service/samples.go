package service

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"ydrion/core/finding"
	"ydrion/core/formats"
	"ydrion/core/standard"
	"ydrion/core/text"
)

// Limits of the samples that people look at.
const (
	maxSample    = 1 << 30 // of text, in bytes
	mostSamples  = 16
	sampleUnused = 30 * time.Minute
)

// ErrSample says why a file cannot be looked at.
var ErrSample = errors.New("the file cannot be looked at")

// samples are files that somebody looks at. Their texts stand in files without a name,
// of which nothing is left when the service ends, however it ends.
type samples struct {
	mu        sync.Mutex
	kept      map[string]*kept
	described map[string]*standard.Catalog
	order     []string // of what is described
}

type kept struct {
	sample *formats.Sample
	text   *os.File
	used   time.Time
	users  sync.RWMutex // held while it is read
}

// SampleView is a sample with its number, or the members of an archive, of which one must
// be chosen.
type SampleView struct {
	ID      string        `json:"id" doc:"empty if a member must be chosen"`
	Look    *formats.Look `json:"look,omitempty" doc:"left out if a member must be chosen"`
	Rows    int64         `json:"rows" doc:"lines of text; very long ones are broken"`
	Members []text.Member `json:"members" doc:"of an archive that has several"`
}

// RecordsView are records of a sample.
type RecordsView struct {
	Items  []formats.Shown            `json:"items"`
	Tables map[string]*standard.Table `json:"tables" doc:"the code tables that they refer to"`
}

// nameless makes a file that vanishes when it is closed.
func (s *Service) nameless() (*os.File, error) {
	folder := filepath.Join(s.Data, "samples")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(folder, "sample-*")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// Sample looks at a file and keeps its text for a while, for looking at more of it. Of a
// zip archive with several members one must be named.
// Messages are checked against a description by its number, if that is not empty.
func (s *Service) Sample(ctx context.Context, in io.Reader, name, member, description string) (view *SampleView, err error) {
	var own *standard.Catalog
	if description != "" {
		if own = s.described(description); own == nil {
			return nil, fmt.Errorf("%w: the description is not kept any more; send it again", ErrSample)
		}
	}
	head := make([]byte, 4)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	}
	in = io.MultiReader(bytes.NewReader(head[:n]), in)
	if string(head[:n]) == "PK\x03\x04" {
		packed, err := s.nameless()
		if err != nil {
			return nil, err
		}
		defer packed.Close()
		size, err := io.Copy(packed, io.LimitReader(in, maxSample+1))
		if err != nil {
			return nil, err
		}
		if size > maxSample {
			return nil, fmt.Errorf("%w: the archive has more than %d MiB", ErrSample, maxSample>>20)
		}
		list, _ := text.Members(packed, size)
		if member == "" && len(list) != 1 {
			return &SampleView{Members: list}, nil
		}
		opened, chosen, err := text.OpenMember(packed, size, member)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrSample, err)
		}
		defer opened.Close()
		in, name = opened, name+": "+chosen
	}
	store, err := s.nameless()
	if err != nil {
		return nil, err
	}
	sample, err := formats.NewSample(ctx, in, name, own, store, maxSample)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %w", ErrSample, err), store.Close())
	}
	id := rand.Text()
	s.samples.mu.Lock()
	defer s.samples.mu.Unlock()
	s.samples.sweep(s.Clock(), mostSamples-1)
	if s.samples.kept == nil {
		s.samples.kept = map[string]*kept{}
	}
	s.samples.kept[id] = &kept{sample: sample, text: store, used: s.Clock()}
	return &SampleView{ID: id, Look: sample.Look, Rows: sample.Rows(), Members: []text.Member{}}, nil
}

// sweep forgets samples that nobody has used for long, and the oldest ones until no more
// than most are left.
func (k *samples) sweep(now time.Time, most int) {
	for {
		oldest := ""
		for id, s := range k.kept {
			if oldest == "" || s.used.Before(k.kept[oldest].used) {
				oldest = id
			}
		}
		if oldest == "" || len(k.kept) <= most && now.Sub(k.kept[oldest].used) < sampleUnused {
			return
		}
		k.forget(oldest)
	}
}

func (k *samples) forget(id string) {
	if s := k.kept[id]; s != nil {
		delete(k.kept, id)
		s.users.Lock()
		defer s.users.Unlock()
		_ = s.text.Close() // it has no name, and nothing of it is wanted any more
	}
}

// DescriptionView is a description of messages that samples can be checked against.
type DescriptionView struct {
	ID       string       `json:"id" doc:"empty if it cannot be read"`
	Name     string       `json:"name"`
	Messages []string     `json:"messages" doc:"with their versions"`
	Findings finding.List `json:"findings" doc:"what of it is not taken, or why it cannot be read"`
}

// maxDescription is how long a description may be, and mostDescriptions how many are kept.
const (
	maxDescription   = 16 << 20
	mostDescriptions = 16
)

// Describe reads a guideline or a description in our own format and keeps it for a while.
func (s *Service) Describe(in io.Reader, name string) (*DescriptionView, error) {
	b, err := io.ReadAll(io.LimitReader(in, maxDescription+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxDescription {
		return nil, fmt.Errorf("%w: the description has more than %d MiB", ErrSample, maxDescription>>20)
	}
	catalog, _, findings := formats.Description(name, b)
	view := &DescriptionView{Name: name, Messages: []string{}, Findings: append(finding.List{}, findings...)}
	if catalog == nil {
		return view, nil
	}
	for _, v := range catalog.Versions {
		for _, m := range catalog.Version(v).Names("structure") {
			view.Messages = append(view.Messages, m+" "+v)
		}
	}
	view.ID = rand.Text()
	s.samples.mu.Lock()
	defer s.samples.mu.Unlock()
	if s.samples.described == nil {
		s.samples.described = map[string]*standard.Catalog{}
	}
	if s.samples.order = append(s.samples.order, view.ID); len(s.samples.order) > mostDescriptions {
		delete(s.samples.described, s.samples.order[0])
		s.samples.order = s.samples.order[1:]
	}
	s.samples.described[view.ID] = catalog
	return view, nil
}

func (s *Service) described(id string) *standard.Catalog {
	s.samples.mu.Lock()
	defer s.samples.mu.Unlock()
	return s.samples.described[id]
}

// ForgetSample drops a sample. It is no error if it is not there any more.
func (s *Service) ForgetSample(id string) {
	s.samples.mu.Lock()
	defer s.samples.mu.Unlock()
	s.samples.forget(id)
}

// reading hands a sample to f.
func (s *Service) reading(id string, f func(*formats.Sample) error) error {
	s.samples.mu.Lock()
	k := s.samples.kept[id]
	if k == nil {
		s.samples.mu.Unlock()
		return fmt.Errorf("%w: it is not kept any more; send it again", ErrSample)
	}
	k.used = s.Clock()
	k.users.RLock()
	defer k.users.RUnlock()
	s.samples.mu.Unlock()
	return f(k.sample)
}

// SampleRows gives lines of a sample's text, from one on, counted from 0.
func (s *Service) SampleRows(id string, from, n int64) (rows []formats.Row, err error) {
	return rows, s.reading(id, func(k *formats.Sample) (err error) { rows, err = k.Read(from, n); return err })
}

// SampleRecords shows records of a sample.
func (s *Service) SampleRecords(ctx context.Context, id string, request formats.Request) (*RecordsView, error) {
	view := &RecordsView{}
	return view, s.reading(id, func(k *formats.Sample) (err error) {
		view.Items, view.Tables, err = k.Records(ctx, request)
		return err
	})
}

// SampleFind looks for a text in a sample.
func (s *Service) SampleFind(ctx context.Context, id, what string, from int64, backwards bool) (hit *formats.Hit, err error) {
	return hit, s.reading(id, func(k *formats.Sample) (err error) { hit, err = k.Find(ctx, what, from, backwards); return err })
}

// SampleRow finds the line in which a byte of a sample's text stands.
func (s *Service) SampleRow(id string, offset int64) (row int64, err error) {
	return row, s.reading(id, func(k *formats.Sample) (err error) { row, err = k.RowAt(offset); return err })
}
