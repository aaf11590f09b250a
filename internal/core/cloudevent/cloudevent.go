// Package cloudevent turns CloudEvents (version 1.0 of their specification)
// into messages and messages into CloudEvents.
//
// An event's id, time and datacontenttype are the message's, its data is the
// body, the extension partitionkey is the key, and every other attribute is a
// header named ce-NAME. An event that was made of a message also has the
// extension ferryheaders, a JSON object with all headers of the message: where
// it is, the headers are those and no others, so that a message comes back as
// it was.
package cloudevent

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/strict"
)

// Error says what is wrong with an event.
type Error struct {
	Field   string // attribute, or data
	Detail  string
	Allowed string
}

func (e *Error) Error() string { return e.Detail }

const (
	headerPrefix = "ce-"
	allHeaders   = "ferryheaders"
	required     = "CloudEvents with id, source, specversion and type"
)

// Set gives the message what an attribute of an event says.
func Set(m *message.Message, name, value string) error {
	switch name {
	case "id":
		m.ID = value
	case "time":
		t, err := time.Parse(time.RFC3339Nano, value)
		if err != nil {
			return &Error{"time", fmt.Sprintf("%q is not a time", value), "a time of RFC 3339"}
		}
		m.Time = t
	case "datacontenttype":
		m.ContentType = value
	case "partitionkey":
		m.Key = value
	default:
		m.Headers = append(m.Headers, message.Header{Name: headerPrefix + name, Value: value})
	}
	return nil
}

// Check reports whether a message has what an event must have, and orders its
// headers.
func Check(m *message.Message) error {
	sortHeaders(m.Headers)
	for _, name := range []string{"specversion", "source", "type"} {
		if v, _ := m.Header(headerPrefix + name); v == "" {
			return &Error{name, "the CloudEvent has no " + name, required}
		}
	}
	if v, _ := m.Header(headerPrefix + "specversion"); v != "1.0" {
		return &Error{"specversion", fmt.Sprintf("specversion is %q", v), "1.0"}
	}
	if m.ID == "" {
		return &Error{"id", "the CloudEvent has no id", required}
	}
	return nil
}

func sortHeaders(headers []message.Header) {
	sort.Slice(headers, func(i, j int) bool { return headers[i].Name < headers[j].Name })
}

// Parse reads an event in its JSON form. The error is an *Error.
func Parse(b []byte) (*message.Message, error) {
	var fields map[string]json.RawMessage
	if err := strict.Unmarshal(b, &fields); err != nil {
		return nil, &Error{"body", "not a CloudEvent as JSON: " + err.Error(), ""}
	}
	m := &message.Message{}
	for name, raw := range fields {
		switch name {
		case "data", "data_base64", allHeaders:
			continue
		}
		var value any
		if err := json.Unmarshal(raw, &value); err != nil {
			return nil, &Error{name, err.Error(), ""}
		}
		text, ok := value.(string)
		if !ok {
			text = strings.TrimSpace(string(raw)) // numbers and booleans, as they are written
		}
		if err := Set(m, name, text); err != nil {
			return nil, err
		}
	}
	if err := Check(m); err != nil {
		return nil, err
	}
	if raw, ok := fields[allHeaders]; ok {
		if err := setHeaders(m, raw); err != nil {
			return nil, err
		}
	}
	return m, setData(m, fields["data"], fields["data_base64"])
}

func setHeaders(m *message.Message, raw json.RawMessage) error {
	var text string
	var headers map[string]string
	err := json.Unmarshal(raw, &text)
	if err == nil {
		err = strict.Unmarshal([]byte(text), &headers)
	}
	if err != nil {
		return &Error{allHeaders, allHeaders + ": " + err.Error(), "a text with a JSON object of texts"}
	}
	m.Headers = nil
	for name, value := range headers {
		m.Headers = append(m.Headers, message.Header{Name: name, Value: value})
	}
	sortHeaders(m.Headers)
	return nil
}

func setData(m *message.Message, data, encoded json.RawMessage) error {
	switch {
	case data != nil && encoded != nil:
		return &Error{"data", "both data and data_base64 are given", "one of them"}
	case encoded != nil:
		var text string
		err := json.Unmarshal(encoded, &text)
		if err == nil {
			m.Body, err = base64.StdEncoding.DecodeString(text)
		}
		if err != nil {
			return &Error{"data_base64", err.Error(), "standard base64"}
		}
	case data != nil:
		m.Body = data
		if m.ContentType == "" {
			m.ContentType = "application/json"
		}
		if !strings.Contains(m.ContentType, "json") {
			var text string
			if err := json.Unmarshal(data, &text); err == nil {
				m.Body = []byte(text)
			}
		}
	}
	return nil
}

// event is the JSON form, in the order in which it is written.
type event struct {
	Specversion string          `json:"specversion"`
	ID          string          `json:"id"`
	Source      string          `json:"source"`
	Type        string          `json:"type"`
	Time        string          `json:"time,omitempty"`
	Key         string          `json:"partitionkey,omitempty"`
	ContentType string          `json:"datacontenttype,omitempty"`
	Headers     string          `json:"ferryheaders"`
	Data        json.RawMessage `json:"data,omitempty"`
	DataBase64  *string         `json:"data_base64,omitempty"`
}

// Encode returns a message as an event in its JSON form. The source is the
// address of its channel and the type is message, unless the message came as an
// event: then they are those that it came with.
func Encode(channel string, m *message.Message) ([]byte, error) {
	headers := make(map[string]string, len(m.Headers))
	for _, h := range m.Headers {
		headers[h.Name] = h.Value
	}
	all, err := json.Marshal(headers)
	if err != nil {
		return nil, err
	}
	e := event{Specversion: "1.0", ID: m.ID, Source: "/" + channel, Type: "message", Key: m.Key, ContentType: m.ContentType, Headers: string(all)}
	if source, kind := headers[headerPrefix+"source"], headers[headerPrefix+"type"]; source != "" && kind != "" {
		e.Source, e.Type = source, kind
	}
	if !m.Time.IsZero() {
		e.Time = m.Time.UTC().Format(time.RFC3339Nano)
	}
	switch isJSON := strings.Contains(m.ContentType, "json"); {
	case len(m.Body) == 0:
	case isJSON && strict.Verbatim(m.Body):
		e.Data = m.Body
	case !isJSON && m.ContentType != "" && utf8.Valid(m.Body):
		if e.Data, err = json.Marshal(string(m.Body)); err != nil {
			return nil, err
		}
	default:
		text := base64.StdEncoding.EncodeToString(m.Body)
		e.DataBase64 = &text
	}
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false) // it would change the data
	err = encoder.Encode(e)
	return bytes.TrimSuffix(out.Bytes(), []byte("\n")), err
}
