package cloudevent

import (
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/message"
)

// Headers gets those of a message, one by one; names are as the message or the event has
// them, values as a header of HTTP can have them.
type Headers struct {
	Attribute func(name, value string) // of an event: the header ce-NAME
	Own       func(name, value string) // of the message: the header ferry-header-NAME
}

// Binary tells the headers of a message as an event in the binary mode of HTTP, whose body
// is the message's. Source and type are as Encode has them.
func Binary(channel string, m *message.Message, to Headers) {
	source, kind := "/"+channel, "message"
	for _, h := range m.Headers {
		name, ok := strings.CutPrefix(h.Name, headerPrefix)
		switch {
		case !ok:
			to.Own(h.Name, escape(h.Value))
		case name == "source":
			source = h.Value
		case name == "type":
			kind = h.Value
		case name == "specversion":
		default:
			to.Attribute(name, escape(h.Value))
		}
	}
	to.Attribute("specversion", "1.0")
	to.Attribute("source", escape(source))
	to.Attribute("type", escape(kind))
	to.Attribute("id", escape(m.ID))
	if m.Key != "" {
		to.Attribute("partitionkey", escape(m.Key))
	}
	if !m.Time.IsZero() {
		to.Attribute("time", m.Time.UTC().Format(time.RFC3339Nano))
	}
}

// Escape is what Headers do with values.
func Escape(value string) string { return escape(value) }

// escape percent-encodes a value for a header of HTTP, as the binding of the events
// has it (section 3.1.3.2): spaces, quotes, percents, and what is not printable ASCII.
func escape(value string) string {
	if !strings.ContainsFunc(value, unprintable) {
		return value
	}
	var b strings.Builder
	for i := range len(value) {
		if c := value[i]; unprintable(rune(c)) {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func unprintable(c rune) bool { return c < 0x21 || c > 0x7e || c == '"' || c == '%' }
