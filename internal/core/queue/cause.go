package queue

import (
	"fmt"
	"strconv"
	"strings"

	"steadyferry/internal/core/problem"
)

// maxPattern is how much of a detail decides about its cause.
const maxPattern = 1 << 10

// named are words before a quoted name that is part of what went wrong, not a
// value of this one message.
var named = []string{"field", "property", "header", "column", "parameter", "member"}

// Pattern masks what differs between failures of the same kind: numbers become
// 0, words with digits in them (ids, times, addresses) become *, and what
// stands in quotes becomes '…', unless it names a field.
func Pattern(detail string) string {
	if len(detail) > maxPattern {
		detail = detail[:maxPattern]
	}
	var out strings.Builder
	last := ""
	for i := 0; i < len(detail); {
		c := detail[i]
		switch {
		case c == '"' || c == '`' || c == '\'':
			end := strings.IndexByte(detail[i+1:], c)
			line := strings.IndexByte(detail[i+1:], '\n')
			if end < 0 || line >= 0 && line < end {
				out.WriteByte(c)
				i++
				break
			}
			if text := detail[i : i+end+2]; isNamed(last) {
				out.WriteString(text)
			} else {
				out.WriteString("'…'")
			}
			i += end + 2
		case isWord(c):
			end := i
			for end < len(detail) && (isWord(detail[end]) || strings.IndexByte("-.:'", detail[end]) >= 0 && end+1 < len(detail) && isWord(detail[end+1])) {
				end++
			}
			word := detail[i:end]
			switch {
			case !strings.ContainsAny(word, "0123456789"):
				out.WriteString(word)
			case isNumber(word):
				out.WriteByte('0')
			default:
				out.WriteByte('*')
			}
			last, i = word, end
		case c == '-' && i+1 < len(detail) && detail[i+1] >= '0' && detail[i+1] <= '9' && (i == 0 || !isWord(detail[i-1])):
			i++ // the sign of a number
		default:
			out.WriteByte(c)
			i++
		}
	}
	return out.String()
}

// Shown is a pattern for people: where a number differs stands …, since a 0
// would be read as a value. A pattern has no other digits.
func Shown(pattern string) string {
	return strings.ReplaceAll(pattern, "0", "…")
}

func isNamed(word string) bool {
	word = strings.ToLower(strings.TrimSuffix(word, "s"))
	for _, w := range named {
		if word == w {
			return true
		}
	}
	return false
}

func isWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
}

func isNumber(word string) bool {
	digits := strings.TrimLeft(word, "0123456789")
	if digits == word {
		return false // begins with a letter
	}
	return strings.Trim(digits, ".0123456789") == ""
}

// CauseText prints the id of a cause.
func CauseText(id uint64) string {
	if id == 0 {
		return ""
	}
	return CauseID(id)
}

// CauseID prints the id of a cause.
func CauseID(id uint64) string { return fmt.Sprintf("%08x", id) }

// ParseCause reads the id of a cause; empty is any.
func ParseCause(text string) (uint64, error) {
	if text == "" {
		return 0, nil
	}
	id, err := strconv.ParseUint(text, 16, 32)
	if err != nil || id == 0 {
		return 0, problem.New(problem.Invalid, "%q is not the id of a cause", text).Field("cause").Next("ferry dead QUEUE lists them")
	}
	return id, nil
}
