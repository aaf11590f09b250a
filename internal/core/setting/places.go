package setting

import (
	"fmt"
	"net/mail"
	"strconv"
	"strings"

	"steadyferry/internal/core/address"
)

// Address is the address of one thing, or none. Values are string.
func Address(of string) Form {
	return placed("address", "the address of a "+of+", or none", func(text string) (fmt.Stringer, error) { return address.Parse(text) })
}

// Position is a position in a channel, or none. Values are string.
func Position() Form {
	return placed("position", "first, end, offset:1200, time:2026-11-23T08:00:00Z, ago:90m, group:NAME, or none", func(text string) (fmt.Stringer, error) { return address.ParsePosition(text) })
}

// written is a form that says in its own words how values are written.
func written(f Form, allowed string) Form {
	f.Allowed = allowed
	return f
}

// placed is what one of the address package's readers takes, or none.
func placed(form, allowed string, parse func(text string) (fmt.Stringer, error)) Form {
	f := Form{Name: form, Allowed: allowed, Show: same}
	f.Parse = func(name, text string) (any, error) {
		if text == "" || text == "none" {
			return "", nil
		}
		at, err := parse(text)
		if err != nil {
			return nil, unreadable(name, f.Allowed, err)
		}
		return at.String(), nil
	}
	f.Read = fromText(&f)
	return f
}

// causeID is the id of a cause of dead letters, as it is printed.
type causeID string

func (c causeID) String() string { return string(c) }

// Cause is the id of a cause of dead letters, or none. Values are string.
func Cause() Form {
	return placed("cause", "the id of a cause, as ferry dead lists them, or none", func(text string) (fmt.Stringer, error) {
		if id, err := strconv.ParseUint(text, 16, 32); err != nil || id == 0 {
			return nil, fmt.Errorf("%q is not eight digits of 0-9 a-f", text)
		}
		return causeID(text), nil
	})
}

// Rate is how many a second, above 0: a number in JSON, 50/s or 50 as text. Values are
// float64.
func Rate(most float64) Form {
	f := Form{Name: "rate", Allowed: "more than 0 to " + strconv.FormatFloat(most, 'f', -1, 64) + " a second", Show: same}
	f.Parse = func(name, text string) (any, error) {
		x, err := strconv.ParseFloat(strings.TrimSuffix(text, "/s"), 64)
		if err != nil || !(x > 0) || x > most {
			return nil, wrong(name, f.Allowed, "%s is %q", name, text)
		}
		return x, nil
	}
	f.Read = func(name string, value any) (any, error) {
		if x, ok := value.(float64); ok {
			return f.Parse(name, strconv.FormatFloat(x, 'f', -1, 64))
		}
		return fromText(&f)(name, value)
	}
	return f
}

// Mailbox is an address of mail. Values are string.
func Mailbox() Form {
	return placed("mailbox", "an address of mail, such as duty@northlight.example", func(text string) (fmt.Stringer, error) {
		a, err := mail.ParseAddress(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no address of mail", text)
		}
		return mailbox(a.Address), nil
	})
}

type mailbox string

func (m mailbox) String() string { return string(m) }

// Mailboxes are up to so many addresses of mail, with commas between them as text. Values are
// []string.
func Mailboxes(most int) Form {
	return listed("mailboxes", "addresses of mail", most, func(one string) error {
		_, err := mail.ParseAddress(one)
		return err
	})
}
