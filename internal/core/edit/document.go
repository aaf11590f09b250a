package edit

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// document is a JSON text that is edited in several places and written once.
// Only the lists and maps that an edit reaches into are taken apart; the rest
// stays as it was written, also the order of members and the way numbers are
// written. Places are JSON Pointers (RFC 6901).
type document struct {
	raw     json.RawMessage // as it stands, while members is nil
	members []member        // of a list or map that was taken apart
	isMap   bool
}

type member struct {
	name  string
	value *document
}

// maxMembers bounds the values of a list or map that is taken apart.
const maxMembers = 1 << 20

var errNoJSON = errors.New("the body is not JSON")

func parseDocument(text []byte) (*document, error) {
	if !json.Valid(text) {
		return nil, errNoJSON
	}
	return &document{raw: bytes.TrimSpace(text)}, nil
}

// open takes a list or map apart; it reports whether it is one.
func (d *document) open() (bool, error) {
	if d.members != nil {
		return true, nil
	}
	if d.raw[0] != '{' && d.raw[0] != '[' {
		return false, nil
	}
	if values := bytes.Count(d.raw, []byte(",")); values >= maxMembers {
		return false, fmt.Errorf("there are up to %d values; an edit reaches into lists and maps of up to %d", values+1, maxMembers)
	}
	d.isMap, d.members = d.raw[0] == '{', []member{}
	in := json.NewDecoder(bytes.NewReader(d.raw))
	if _, err := in.Token(); err != nil {
		return false, err
	}
	places := map[string]int{}
	for in.More() {
		var m member
		if d.isMap {
			name, err := in.Token()
			if err != nil {
				return false, err
			}
			m.name = name.(string)
		}
		var raw json.RawMessage
		if err := in.Decode(&raw); err != nil {
			return false, err
		}
		m.value = &document{raw: raw}
		if at, twice := places[m.name]; d.isMap && twice {
			d.members[at] = m // the last one counts
			continue
		}
		places[m.name] = len(d.members)
		d.members = append(d.members, m)
	}
	d.raw = nil
	return true, nil
}

// write appends the document as JSON.
func (d *document) write(b []byte) []byte {
	if d.members == nil {
		return append(b, d.raw...)
	}
	start, end := byte('['), byte(']')
	if d.isMap {
		start, end = '{', '}'
	}
	b = append(b, start)
	for i, m := range d.members {
		if i > 0 {
			b = append(b, ',')
		}
		if d.isMap {
			name, err := json.Marshal(m.name)
			if err != nil {
				panic(err) // a string
			}
			b = append(append(b, name...), ':')
		}
		b = m.value.write(b)
	}
	return append(b, end)
}

var unescape = strings.NewReplacer("~1", "/", "~0", "~")

// find returns the list or map that holds the place, and where in it that is:
// -1 if it is not there, the number of members for behind the last.
func (d *document) find(pointer string) (in *document, name string, at int, err error) {
	missing := fmt.Errorf("the body has no %s", pointer)
	steps := strings.Split(pointer, "/")[1:]
	for i, step := range steps {
		if opened, err := d.open(); err != nil {
			return nil, "", 0, err
		} else if !opened {
			return nil, "", 0, missing
		}
		name, at = unescape.Replace(step), -1
		if d.isMap {
			for j, m := range d.members {
				if m.name == name {
					at = j
				}
			}
		} else if n, err := strconv.Atoi(step); err == nil && n >= 0 && n <= len(d.members) && strconv.Itoa(n) == step {
			at = n
		} else if step == "-" {
			at = len(d.members)
		}
		if i == len(steps)-1 {
			return d, name, at, nil
		}
		if at < 0 || at >= len(d.members) {
			return nil, "", 0, missing
		}
		d = d.members[at].value
	}
	return nil, "", 0, missing
}

// set puts a value to a place: instead of what is there, or as a new member.
func (d *document) set(pointer string, value *document) error {
	in, name, at, err := d.find(pointer)
	switch {
	case err != nil:
		return err
	case at >= 0 && at < len(in.members):
		in.members[at].value = value
	case at < 0 && !in.isMap:
		return fmt.Errorf("the body has no %s", pointer)
	default:
		in.members = append(in.members, member{name, value})
	}
	return nil
}

// remove takes a place out and returns what was there.
func (d *document) remove(pointer string) (*document, error) {
	in, _, at, err := d.find(pointer)
	if err != nil {
		return nil, err
	}
	if at < 0 || at >= len(in.members) {
		return nil, fmt.Errorf("the body has no %s", pointer)
	}
	value := in.members[at].value
	in.members = append(in.members[:at], in.members[at+1:]...)
	return value, nil
}

// rename moves a value to another place. In a list it goes in between.
func (d *document) rename(from, to string) error {
	if strings.HasPrefix(to, from+"/") {
		return fmt.Errorf("%s cannot become a part of itself, %s", from, to)
	}
	value, err := d.remove(from)
	if err != nil {
		return err
	}
	in, _, at, err := d.find(to)
	if err != nil {
		return err
	}
	if !in.isMap && at >= 0 && at < len(in.members) {
		in.members = append(in.members[:at], append([]member{{value: value}}, in.members[at:]...)...)
		return nil
	}
	return d.set(to, value)
}
