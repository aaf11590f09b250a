package chain

import (
	"crypto/ed25519"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

func text(s string) *string { return &s }

// book is a list of entries with a head for each tenth, and a key that signed them.
func book(n int) (all []Entry, ends Ends, heads []Head, key ed25519.PrivateKey) {
	key = ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	ends = Ends{Hash: make([]byte, Size), GoneHash: make([]byte, Size)}
	for i := range n {
		e := Entry{Seq: int64(i + 1), Fields: []*string{text(fmt.Sprintf("who-%d", i%3)), text("set topic"), nil}}
		e.Hash = Hash(ends.Hash, &e)
		ends.Seq, ends.Hash = e.Seq, e.Hash
		all = append(all, e)
		if e.Seq%10 == 0 {
			heads = append(heads, head(e, key))
		}
	}
	return all, ends, heads, key
}

func head(e Entry, key ed25519.PrivateKey) Head {
	h := Head{Seq: e.Seq, Hash: hex.EncodeToString(e.Hash), At: now.Add(time.Duration(e.Seq) * time.Minute), Node: "node-a"}
	h.Sign(key)
	return h
}

func look(all []Entry, ends Ends, heads []Head) []string {
	v := NewVerifier(ends, heads, now)
	for i := range all {
		v.Entry(&all[i])
	}
	found, _ := v.End()
	return found
}

// again makes the hashes of entries anew from one on, as who has the database could.
func again(all []Entry, from int, ends *Ends) {
	former := ends.GoneHash
	for i := range all {
		if i >= from {
			all[i].Hash = Hash(former, &all[i])
		}
		former = all[i].Hash
	}
	ends.Seq, ends.Hash = all[len(all)-1].Seq, former
}

func TestAListThatIsWhole(t *testing.T) {
	all, ends, heads, _ := book(35)
	v := NewVerifier(ends, heads, now)
	for i := range all {
		v.Entry(&all[i])
	}
	found, checked := v.End()
	assert.Empty(t, found)
	assert.Equal(t, 3, checked)
	assert.Empty(t, look(nil, Ends{Hash: make([]byte, Size), GoneHash: make([]byte, Size)}, nil), "an empty one is whole too")
	// What is old was taken away.
	ends.Gone, ends.GoneHash = 12, all[11].Hash
	v = NewVerifier(ends, heads, now.Add(11*time.Minute))
	for i := range all[12:] {
		v.Entry(&all[12+i])
	}
	found, checked = v.End()
	assert.Empty(t, found)
	assert.Equal(t, 2, checked)
}

func TestEachFormOfTamperingIsFound(t *testing.T) {
	for name, c := range map[string]struct {
		does func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head)
		says string
	}{
		"a field is changed": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[0] = text("somebody else")
			return all, heads
		}, "entry 5 is not as it was written"},
		"a field moves into its neighbour": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[0], all[4].Fields[1] = text("who-1set"), text(" topic")
			return all, heads
		}, "entry 5 is not as it was written"},
		"nothing becomes an empty field": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[2] = text("")
			return all, heads
		}, "entry 5 is not as it was written"},
		"a field is changed, with its hash": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[0] = text("somebody else")
			all[4].Hash = Hash(all[3].Hash, &all[4])
			return all, heads
		}, "entry 6 is not as it was written"},
		"a field is changed, and all is made anew": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[0] = text("somebody else")
			again(all, 4, ends)
			return all, heads
		}, "entry 10 is another than node-a had signed on 2026-03-01T08:10:00Z"},
		"an entry is left out": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			return slices.Delete(all, 4, 5), heads
		}, "entry 5 is missing"},
		"entries are left out": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			return slices.Delete(all, 4, 9), heads
		}, "entries 5 to 9 are missing"},
		"an entry is left out, and the numbers close up": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			all = slices.Delete(all, 4, 5)
			for i := range all {
				all[i].Seq = int64(i + 1)
			}
			again(all, 0, ends)
			return all, heads
		}, "entry 10 is another than node-a had signed"},
		"an entry is put in": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			return slices.Insert(all, 5, all[4]), heads
		}, "entry 5 comes after 5"},
		"two entries change places": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields, all[5].Fields = all[5].Fields, all[4].Fields
			return all, heads
		}, "entry 5 is not as it was written"},
		"the end is cut off": {func(all []Entry, _ *Ends, heads []Head) ([]Entry, []Head) {
			return all[:31], heads
		}, "the entries 32 to 35 are missing at the end"},
		"the end is cut off, and the ends say so": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			again(all[:25], 25, ends)
			return all[:25], heads
		}, "node-a had entry 30 on 2026-03-01T08:30:00Z, and the logbook ends at 25"},
		"the front is cut off": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			ends.Gone, ends.GoneHash = 15, all[14].Hash
			return all[15:], heads
		}, "node-a had entry 10 on 2026-03-01T08:10:00Z, and the logbook begins at 16"},
		"a head is written anew": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			all[4].Fields[0] = text("somebody else")
			again(all, 4, ends)
			heads[0].Hash = hex.EncodeToString(all[9].Hash)
			return all, heads
		}, "the head of entry 10, of 2026-03-01T08:10:00Z on node-a, is not as it was signed"},
		"the ends tell of another last entry": {func(all []Entry, ends *Ends, heads []Head) ([]Entry, []Head) {
			ends.Hash = make([]byte, Size)
			return all, heads
		}, "ends with another entry than its last"},
	} {
		all, ends, heads, _ := book(35)
		all, heads = c.does(all, &ends, heads)
		found := look(all, ends, heads)
		require.NotEmpty(t, found, name)
		assert.Contains(t, strings.Join(found, "\n"), c.says, name)
	}
}

func TestWhatIsToldIsBounded(t *testing.T) {
	all, ends, _, _ := book(500)
	for i := range all {
		all[i].Fields[0] = text("x")
	}
	found := look(all, ends, nil)
	assert.Len(t, found, mostFound+1)
	assert.Equal(t, "and 400 others", found[mostFound])
}

// Whatever byte of whatever field becomes another one, it is found.
func TestAnyByteThatChangesIsFound(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		all, ends, heads, _ := book(12)
		e := &all[r.IntN(len(all))]
		f := r.IntN(2)
		b := []byte(*e.Fields[f])
		b[r.IntN(len(b))] ^= byte(1 + r.IntN(127))
		e.Fields[f] = text(string(b))
		require.NotEmpty(t, look(all, ends, heads), "seed %d", seed)
	}
}

func TestOldHeadsAreKeptOneAnHour(t *testing.T) {
	var heads []Head
	for i := range 3 * 24 * 60 {
		heads = append(heads, Head{Seq: int64(i), At: now.Add(time.Duration(i) * time.Minute)})
	}
	end := heads[len(heads)-1].At
	kept := Thin(heads, end, now)
	assert.Equal(t, 24*60+1+47, len(kept), "the last day to the minute, and the 47 hours before it")
	assert.Equal(t, heads[59], kept[0], "the last of an hour")
	assert.Equal(t, heads[len(heads)-1], kept[len(kept)-1])
	assert.Equal(t, kept, Thin(kept, end, now), "and those stay")
	later := Thin(heads, end, end.Add(-time.Hour))
	assert.Equal(t, 61, len(later), "what is older than entries are kept goes")
	assert.Empty(t, Thin(nil, end, now))
}
