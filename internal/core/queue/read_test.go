package queue

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTheFieldThatADetailNames(t *testing.T) {
	body := json.RawMessage(`{"at":"now","celsius":"46 F","place":{"lat":1}}`)
	for detail, want := range map[string]string{
		`/celsius: want a number, got "46.4 F"`:      "/celsius",
		`/place/lat: out of range`:                   "/place/lat",
		`field "box" is missing: nobody knows`:       "/box",
		`field celsius: not a number`:                "/celsius",
		`celsius is "46 F"`:                          "/celsius",
		"the clinic did not answer\n  at read(/usr)": "",
		"it broke\n  celsius was read before":        "",
		"":                                           "",
	} {
		require.Equal(t, want, FieldIn(detail, body), detail)
	}
	require.Empty(t, FieldIn(`field "box" is missing`, json.RawMessage(`"text"`)))
}
