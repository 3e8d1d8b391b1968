package remote

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"

	"ydrion/workspace"
)

// Signing makes the signature of a content: a keyed hash (HMAC with SHA-256, RFC 2104), written as sha256= and hexadecimal digits.
type Signing struct{ hash.Hash }

// NewSigning begins a signature by a place's key.
func NewSigning(p *workspace.Place) (*Signing, error) {
	key, err := Secret(p.SigningKey)
	if err == nil && key == "" {
		err = errors.New("the key of signatures is empty")
	}
	if err != nil {
		return nil, err
	}
	return &Signing{hmac.New(sha256.New, []byte(key))}, nil
}

func (s *Signing) String() string { return "sha256=" + hex.EncodeToString(s.Sum(nil)) }

// ErrSignature says that a signature is not that of the content.
var ErrSignature = errors.New("the signature is not that of the content")

// Signed reads a content whose signature is found to be right before its end is told.
func Signed(content io.Reader, by *Signing, signature string) io.Reader {
	return &signed{io.TeeReader(content, by), by, signature}
}

type signed struct {
	in        io.Reader
	by        *Signing
	signature string
}

func (s *signed) Read(b []byte) (int, error) {
	n, err := s.in.Read(b)
	if err == io.EOF && !hmac.Equal([]byte(s.by.String()), []byte(s.signature)) {
		err = ErrSignature
	}
	return n, err
}
