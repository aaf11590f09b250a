package api

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"sort"
	"strings"
	"time"

	"steadyferry/internal/core/message"
)

// A CloudEvent (version 1.0 of its specification) becomes a message so: its
// id, time and datacontenttype are the message's, its data is the body, the
// extension partitionkey is the key, and every other attribute is a header
// named ce-NAME.
func setCloudAttribute(m *message.Message, name, value string) error {
	switch name {
	case "id":
		m.ID = value
	case "time":
		t, err := time.Parse(time.RFC3339Nano, value)
		if err != nil {
			return invalid("time", fmt.Sprintf("%q is not a time", value), "a time of RFC 3339")
		}
		m.Time = t
	case "datacontenttype":
		m.ContentType = value
	case "partitionkey":
		m.Key = value
	default:
		m.Headers = append(m.Headers, message.Header{Name: "ce-" + name, Value: value})
	}
	return nil
}

func checkCloudEvent(m *message.Message) error {
	sortHeaders(m.Headers)
	for _, name := range []string{"specversion", "source", "type"} {
		if v, _ := m.Header("ce-" + name); v == "" {
			return invalid(name, "the CloudEvent has no "+name, "CloudEvents with id, source, specversion and type")
		}
	}
	if v, _ := m.Header("ce-specversion"); v != "1.0" {
		return invalid("specversion", fmt.Sprintf("specversion is %q", v), "1.0")
	}
	if m.ID == "" {
		return invalid("id", "the CloudEvent has no id", "CloudEvents with id, source, specversion and type")
	}
	return nil
}

func parseCloudEvent(b []byte) (*message.Message, error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(b, &fields); err != nil {
		return nil, invalid("body", "not a CloudEvent as JSON: "+err.Error(), "")
	}
	m := &message.Message{}
	for name, raw := range fields {
		switch name {
		case "data", "data_base64":
			continue
		}
		var value any
		if err := json.Unmarshal(raw, &value); err != nil {
			return nil, invalid(name, err.Error(), "")
		}
		text, ok := value.(string)
		if !ok {
			text = strings.TrimSpace(string(raw)) // numbers and booleans, as they are written
		}
		if err := setCloudAttribute(m, name, text); err != nil {
			return nil, err
		}
	}
	if err := checkCloudEvent(m); err != nil {
		return nil, err
	}
	data, encoded := fields["data"], fields["data_base64"]
	switch {
	case data != nil && encoded != nil:
		return nil, invalid("data", "both data and data_base64 are given", "one of them")
	case encoded != nil:
		var text string
		err := json.Unmarshal(encoded, &text)
		if err == nil {
			m.Body, err = base64.StdEncoding.DecodeString(text)
		}
		if err != nil {
			return nil, invalid("data_base64", err.Error(), "standard base64")
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
	return m, nil
}

// unescapeCloud undoes the percent-encoding of attribute values in HTTP
// headers.
func unescapeCloud(value string) string {
	if text, err := url.PathUnescape(value); err == nil {
		return text
	}
	return value
}

func sortHeaders(headers []message.Header) {
	sort.Slice(headers, func(i, j int) bool { return headers[i].Name < headers[j].Name })
}
