package cloudevent

import (
	"fmt"
	"strings"
	"time"

	"steadyferry/internal/core/message"
)

// Binary returns the headers of a message as an event in the binary mode of HTTP, whose
// body is the message's: attributes as ce-NAME, and other headers as ferry-header-NAME.
// Source and type are as Encode has them.
func Binary(channel string, m *message.Message) [][2]string {
	attributes := map[string]string{"specversion": "1.0", "source": "/" + channel, "type": "message"}
	var out [][2]string
	for _, h := range m.Headers {
		if name, ok := strings.CutPrefix(h.Name, headerPrefix); ok {
			attributes[name] = h.Value
			continue
		}
		out = append(out, [2]string{"ferry-header-" + h.Name, escape(h.Value)})
	}
	attributes["id"], attributes["partitionkey"] = m.ID, m.Key
	if !m.Time.IsZero() {
		attributes["time"] = m.Time.UTC().Format(time.RFC3339Nano)
	}
	for name, value := range attributes {
		if value != "" {
			out = append(out, [2]string{headerPrefix + name, escape(value)})
		}
	}
	return out
}

// Plain returns the headers of a message whose body is sent as it is: ferry-key, ferry-id,
// ferry-publisher-time and ferry-header-NAME, which publishing takes too.
func Plain(m *message.Message) (out [][2]string) {
	for _, h := range m.Headers {
		out = append(out, [2]string{"ferry-header-" + h.Name, escape(h.Value)})
	}
	for _, h := range [][2]string{{"ferry-key", escape(m.Key)}, {"ferry-id", escape(m.ID)}} {
		if h[1] != "" {
			out = append(out, h)
		}
	}
	if !m.Time.IsZero() {
		out = append(out, [2]string{"ferry-publisher-time", m.Time.UTC().Format(time.RFC3339Nano)})
	}
	return out
}

// escape percent-encodes a value for a header of HTTP, as the binding of the events
// has it (section 3.1.3.2): spaces, quotes, percents, and what is not printable ASCII.
func escape(value string) string {
	var b strings.Builder
	for i := range len(value) {
		if c := value[i]; c < 0x21 || c > 0x7e || c == '"' || c == '%' {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}
