package edit

import "encoding/json"

// Replace writes a JSON text with others in the place of some values, which JSON Pointers (RFC
// 6901) name; there are no other names twice on the way to them afterwards. What is not there
// stays so. It returns which of the pointers were found; the error is that the text is no JSON.
func Replace(text []byte, pointers []string, with func(pointer string, is json.RawMessage) json.RawMessage) (out []byte, found []string, err error) {
	d, err := parseDocument(text)
	if err != nil {
		return nil, nil, err
	}
	for _, pointer := range pointers {
		in, _, at, err := d.find(pointer)
		if err != nil || at < 0 || at >= len(in.members) {
			continue
		}
		is := in.members[at].value
		in.members[at].value = &document{raw: with(pointer, is.write(nil))}
		found = append(found, pointer)
	}
	return d.write(make([]byte, 0, len(text))), found, nil
}
