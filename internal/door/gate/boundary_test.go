package gate

import (
	"net/url"
	"strings"
	"testing"
)

// FuzzQueryValue compares what is found in a query with what net/url finds.
func FuzzQueryValue(f *testing.F) {
	for _, raw := range []string{"", "partition=3", "a=1&partition=3&partition=4", "%70artition=3", "partition=a+b%26c", "partition", "=3&partition=5", "a=%zz&partition=1", "partition=%zz&partition=2", "a;partition=1&partition=2", "&&partition=6"} {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		values, _ := url.ParseQuery(raw) // what can be read of it
		if got, want := QueryValue(raw, "partition"), values.Get("partition"); got != want {
			t.Fatalf("%q of %q, net/url says %q", got, raw, want)
		}
		_, broken := url.ParseQuery(raw)
		refused := false
		for pair := range strings.SplitSeq(raw, "&") {
			if _, _, err := unescapePair(pair); err != nil {
				refused = true
			}
		}
		if refused != (broken != nil) {
			t.Fatalf("%q: broken for net/url: %v, for us: %v", raw, broken, refused)
		}
	})
}
