package address

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPatternsCoverWhatTheyNameAndWhatBelongsToIt(t *testing.T) {
	all := []string{"coldchain", "coldchain/inspections", "coldchain/readings", "coldchain/readings@compliance", "coldchain/readings@dashboards", "cold", "cold/in", "cold/in/dead@archive", "cold/in@warm/dead@archive"}
	for pattern, want := range map[string]string{
		"*":                    strings.Join(all, " "),
		"coldchain":            "coldchain coldchain/inspections coldchain/readings coldchain/readings@compliance coldchain/readings@dashboards",
		"cold*":                strings.Join(all, " "),
		"coldchain/in*":        "coldchain/inspections",
		"coldchain/*":          "coldchain/inspections coldchain/readings coldchain/readings@compliance coldchain/readings@dashboards",
		"*/*@*":                "coldchain/readings@compliance coldchain/readings@dashboards cold/in/dead@archive cold/in@warm/dead@archive",
		"coldchain/read*@*da*": "coldchain/readings@dashboards",
		"*/*/dead@*":           "cold/in/dead@archive",
		"cold/in@warm/dead@a*": "cold/in@warm/dead@archive",
		"coldchain/*s*s":       "coldchain/inspections",
		"other":                "",
	} {
		p, err := ParsePattern(pattern)
		require.NoError(t, err, pattern)
		assert.Equal(t, pattern, p.String())
		var covered []string
		for _, a := range all {
			if p.Covers(a) {
				covered = append(covered, a)
			}
		}
		assert.Equal(t, want, strings.Join(covered, " "), pattern)
	}
	for _, bad := range []string{"", "Cold", "coldchain/", "@x", "coldchain@x", "a/b@", "a/b c", "a/b/c", "a/b/dead@", "a/b@c/d@e"} {
		_, err := ParsePattern(bad)
		assert.ErrorContains(t, err, "allowed: ", bad)
	}
}

// A star stands for any characters, as in a shell.
func FuzzFits(f *testing.F) {
	f.Add("in*s", "inspections")
	f.Add("*a*b*", "xaybz")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		if CheckName(strings.ReplaceAll(pattern, "*", "a")) != nil || CheckName(name) != nil {
			return
		}
		want, err := path.Match(pattern, name)
		require.NoError(t, err)
		assert.Equal(t, want, fits(pattern, name), "%q %q", pattern, name)
	})
}
