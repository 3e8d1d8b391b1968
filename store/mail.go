package store

import (
	"encoding/json"

	"ydrion/core/mail"
)

// mailText is a mail as the database takes it; nil if there is none.
func mailText(m *mail.Head) (*string, error) {
	if m == nil {
		return nil, nil
	}
	head := *m
	head.From, head.To, head.Subject, head.ID = Readable(m.From), Readable(m.To), Readable(m.Subject), Readable(m.ID)
	b, err := json.Marshal(head)
	if err != nil {
		return nil, err
	}
	text := string(b)
	return &text, nil
}
