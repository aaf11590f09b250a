package form

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/strict"
)

// exported is a message as browse, export and dead letters print it: what the
// service has said of it is left out when it is sent again.
type exported struct {
	NewMessage
	said
}

type said struct {
	Address   any `json:"address"`
	Partition any `json:"partition"`
	Offset    any `json:"offset"`
	Time      any `json:"time"`
	Size      any `json:"size"`
	Shortened any `json:"shortened"`
	Masked    any `json:"masked"`
	State     any `json:"state"`
	Attempts  any `json:"attempts"`
	By        any `json:"by"`
	Member    any `json:"member"`
	Deadline  any `json:"deadline"`
	DeadAt    any `json:"deadAt"`
	Cause     any `json:"cause"`
	Reason    any `json:"reason"`
	Detail    any `json:"detail"`
	Field     any `json:"field"`
	From      any `json:"from"`
	Returns   any `json:"returns"`
	Edited    any `json:"edited"`
	Gone      any `json:"gone"`
	History   any `json:"history"`
	Original  any `json:"original"`
}

// ParseMessage reads a message as JSON: as NewMessage, or as the service has
// written a Message or a QueueMessage. The error is a *Problem.
func ParseMessage(b []byte) (*message.Message, error) {
	var in exported
	if err := strict.Unmarshal(b, &in); err != nil {
		return nil, wrongMessage("body", "not a message as JSON: "+err.Error(), "key, id, headers, contentType, publisherTime, notBefore, after, expires, and body or bodyBase64")
	}
	if in.Shortened != nil && in.Shortened != false {
		return nil, wrongMessage("shortened", "the body of this message was shortened", "messages with their whole body, as export writes them")
	}
	if in.Masked != nil {
		return nil, wrongMessage("masked", "contents of this message were hidden from whoever read it", "messages as who may see-content reads them")
	}
	m := &message.Message{Key: in.Key, ID: in.ID, ContentType: in.ContentType}
	guess := in.ContentType == "" && in.Address == nil // what was exported had none
	if in.NewMessage.Time != nil {
		m.Time = *in.NewMessage.Time
	}
	if in.NotBefore != nil || in.After != "" || in.Expires != nil {
		m.Terms = &message.Terms{}
		if in.NotBefore != nil {
			m.Terms.NotBefore = in.NotBefore.UTC()
		}
		if in.Expires != nil {
			m.Terms.Expires = in.Expires.UTC()
		}
		if in.After != "" {
			after, err := address.ParseDuration(in.After)
			if err != nil {
				return nil, wrongMessage("after", err.Error(), "")
			}
			m.Terms.NotBefore = time.Now().Add(after).UTC()
		}
	}
	for name, value := range in.Headers {
		m.Headers = append(m.Headers, message.Header{Name: name, Value: value})
	}
	slices.SortFunc(m.Headers, func(a, b message.Header) int { return strings.Compare(a.Name, b.Name) })
	switch {
	case in.BodyBase64 != "" && in.Body != nil:
		return nil, wrongMessage("body", "both body and bodyBase64 are given", "one of them")
	case in.BodyBase64 != "":
		body, err := base64.StdEncoding.DecodeString(in.BodyBase64)
		if err != nil {
			return nil, wrongMessage("bodyBase64", err.Error(), "standard base64")
		}
		m.Body = body
	case len(in.Body) > 0 && in.Body[0] == '"' && !strings.Contains(in.ContentType, "json"):
		var text string
		if err := json.Unmarshal(in.Body, &text); err != nil {
			return nil, wrongMessage("body", err.Error(), "")
		}
		m.Body = []byte(text)
		if guess {
			m.ContentType = "text/plain"
		}
	default:
		m.Body = in.Body
		if guess && len(in.Body) > 0 {
			m.ContentType = "application/json"
		}
	}
	return m, nil
}

func wrongMessage(field, detail, allowed string) *Problem {
	return &Problem{Type: "urn:steady-ferry:problem:invalid", Status: 400, Title: "Something in the request is wrong", Detail: detail, Field: field, Allowed: allowed}
}

// KeepExact makes the JSON form of a message say its body byte for byte, so
// that ParseMessage reads the same one from it. A body whose bytes would change
// on the way, such as JSON with spaces in it, goes as base64.
func (m *Message) KeepExact(body []byte) {
	if len(body) == 0 {
		m.Body, m.BodyBase64 = nil, ""
	}
	if m.Body == nil {
		return
	}
	exact := bytes.Equal(m.Bytes(), body)
	if exact && !m.IsText() {
		exact = strict.Verbatim(body)
	}
	if !exact {
		m.Body, m.BodyBase64 = nil, base64.StdEncoding.EncodeToString(body)
	}
}
