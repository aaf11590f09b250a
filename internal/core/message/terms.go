package message

import (
	"encoding/binary"
	"fmt"
	"time"
	"unicode/utf8"
)

// Terms are the terms on which a queue hands out a message. With a Reason the
// message begins as a dead letter: so come those of a group of a topic.
type Terms struct {
	NotBefore time.Time // zero: at once
	Expires   time.Time // zero: as the queue says
	Reason    string
	Detail    string
	By        string // the member that set it aside
	From      string // the address where it was read
}

// Limits of terms, and of what a member says of a message that it rejects.
const (
	MaxReason = 100      // bytes of a reason
	MaxDetail = 64 << 10 // bytes of a detail
)

// CheckReason says what is wrong with the reason and the detail of a
// rejection.
func CheckReason(reason, detail string) error {
	switch {
	case len(reason) > MaxReason:
		return fmt.Errorf("reason: %d bytes; limit %d", len(reason), MaxReason)
	case len(detail) > MaxDetail:
		return fmt.Errorf("detail: %d bytes; limit %d", len(detail), MaxDetail)
	case !utf8.ValidString(reason) || !utf8.ValidString(detail):
		return fmt.Errorf("reason and detail must be UTF-8 text")
	}
	return nil
}

func (t *Terms) check() error {
	if len(t.By) > MaxKey || len(t.From) > MaxKey {
		return fmt.Errorf("terms: by and from have up to %d bytes", MaxKey)
	}
	return CheckReason(t.Reason, t.Detail)
}

func microsOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

func timeOf(micros int64) time.Time {
	if micros == 0 {
		return time.Time{}
	}
	return time.UnixMicro(micros).UTC()
}

func (t *Terms) append(buf []byte) []byte {
	buf = binary.AppendVarint(buf, microsOf(t.NotBefore))
	buf = binary.AppendVarint(buf, microsOf(t.Expires))
	for _, text := range []string{t.Reason, t.Detail, t.By, t.From} {
		buf = appendText(buf, text)
	}
	return buf
}

// WithoutDetail are the terms without what was said of a failure; nil stays nil.
func (t *Terms) WithoutDetail() *Terms {
	if t == nil || t.Detail == "" {
		return t
	}
	k := *t
	k.Detail = ""
	return &k
}
