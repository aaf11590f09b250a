package access

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/mask"
)

func pattern(t testing.TB, text string) address.Pattern {
	p, err := address.ParsePattern(text)
	require.NoError(t, err)
	return p
}

func rights(t testing.TB, grants ...any) *Rights {
	var all []Grant
	for i := 0; i < len(grants); i += 2 {
		all = append(all, Grant{Verbs: grants[i].(Set), On: pattern(t, grants[i+1].(string))})
	}
	return NewRights(all, time.Now())
}

func Example() {
	on, _ := address.ParsePattern("coldchain/inspections")
	desk := NewRights([]Grant{{Verbs: Of(Return, Discard), On: on}}, time.Now())
	fmt.Println(desk.May(Return, "coldchain/inspections"), desk.May(SeeContent, "coldchain/inspections"), desk.May(Return, "coldchain/recalls"))
	// Output: true false false
}

func TestVerbsAreReadAsTheyArePrinted(t *testing.T) {
	seen := map[string]bool{}
	for _, v := range AllVerbs() {
		back, err := ParseVerb(v.String())
		require.NoError(t, err)
		assert.Equal(t, v, back)
		assert.NotEmpty(t, v.Says(), v)
		assert.False(t, seen[v.String()])
		seen[v.String()] = true
	}
	_, err := ParseVerb("dig")
	assert.ErrorContains(t, err, `there is no verb "dig"; allowed: see-counts, see-causes,`)
	s, err := ParseSet(Of(Seek, Publish).Names())
	require.NoError(t, err)
	assert.Equal(t, "publish, seek", s.String())
	all, err := ParseSet([]string{"publish", "all"})
	require.NoError(t, err)
	assert.Equal(t, Everything, all)
	_, err = ParseSet([]string{"publish", ""})
	assert.Error(t, err)
}

// What the built-in roles may is read here by a person, verb for verb.
func TestTheBuiltInRoles(t *testing.T) {
	want := map[string]string{
		"owner":       "see-counts see-causes see-metadata see-content publish read commit lease settle return discard undo edit replay export seek pause set new remove route watch chore access nodes logbook",
		"operator":    "see-counts see-causes see-metadata see-content publish read commit lease settle return discard undo edit replay export seek pause set new remove route watch chore nodes logbook",
		"team-owner":  "see-counts see-causes see-metadata see-content publish read commit lease settle return discard undo edit replay export seek pause set new remove route watch chore access logbook",
		"publisher":   "see-counts publish",
		"consumer":    "see-counts read commit lease settle",
		"viewer":      "see-counts see-causes see-metadata logbook",
		"help-desk":   "see-counts see-causes see-metadata return discard undo",
		"break-glass": "see-counts see-causes see-metadata see-content",
	}
	for _, r := range BuiltIn {
		assert.Equal(t, want[r.Name], strings.Join(r.Verbs.Names(), " "), r.Name)
		assert.NotEmpty(t, r.Says)
		delete(want, r.Name)
	}
	assert.Empty(t, want)
}

func TestWhatIsNotGivenIsRefused(t *testing.T) {
	r := rights(t, Of(Return, Discard), "coldchain/in*", Of(SeeCounts), "coldchain", Of(Commit), "coldchain/readings@compliance")
	for _, c := range []struct {
		verb Verb
		at   string
		may  bool
	}{
		{Return, "coldchain/inspections", true},
		{Return, "coldchain/recalls", false},
		{Return, "coldchain", false},
		{Return, "cold/inspections", false},
		{SeeCounts, "coldchain", true},
		{SeeCounts, "coldchain/recalls", true},
		{SeeCounts, "coldchain/readings@compliance", true},
		{SeeCounts, "nodes", false},
		{SeeContent, "coldchain/inspections", false},
		{Commit, "coldchain/readings@compliance", true},
		{Commit, "coldchain/readings@dashboards", false},
		{Commit, "coldchain/readings", false},
		{Return, "", false},
	} {
		assert.Equal(t, c.may, r.May(c.verb, c.at), "%s %s", c.verb, c.at)
		assert.Equal(t, c.may, r.May(c.verb, c.at), "%s %s again", c.verb, c.at)
	}
	assert.Equal(t, Of(Return, Discard, SeeCounts), r.On(pattern(t, "coldchain/in*")))
	assert.Equal(t, Of(SeeCounts), r.On(pattern(t, "coldchain/*")))
	assert.Zero(t, r.On(pattern(t, "*")))
	assert.Equal(t, Of(Return, Discard, SeeCounts, Commit), r.Somewhere())
	assert.False(t, NewRights(nil, time.Now()).May(SeeCounts, "coldchain"))
	assert.True(t, rights(t, Everything, "*").May(Access, "nodes/node-a"))
}

func TestAScopeOnlyTakesAway(t *testing.T) {
	full := rights(t, Of(Publish, Read), "coldchain", Of(Seek), "coldchain/readings@*")
	r := full.Within(rights(t, Of(Publish, Discard), "*/readings"))
	assert.Equal(t, Of(Publish), r.At("coldchain/readings"))
	assert.Zero(t, r.At("coldchain/inspections"))
	assert.Zero(t, r.At("other/readings"), "a scope gives nothing")
	assert.Equal(t, Of(Publish), r.On(pattern(t, "coldchain/readings")))
	assert.Equal(t, Of(Publish), r.Somewhere())
	assert.Equal(t, Of(Publish, Read), full.At("coldchain/readings"), "and the others stay")
}

func TestRightsReachIntoASpace(t *testing.T) {
	r := rights(t, Of(SeeCounts), "coldchain/inspections", Of(Return), "depot-*/x@*")
	assert.True(t, r.Reach(SeeCounts, "coldchain"))
	assert.False(t, r.Reach(Return, "coldchain"))
	assert.False(t, r.Reach(SeeCounts, "depot-1"))
	assert.True(t, r.Reach(Return, "depot-1"))
	assert.False(t, r.Reach(SeeCounts, "nodes"))
	assert.False(t, r.Within(rights(t, Everything, "depot-1")).Reach(SeeCounts, "coldchain"), "a scope takes away")
}

func TestAGrantEndsByItself(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	on := pattern(t, "coldchain")
	r := NewRights([]Grant{{Verbs: Of(SeeCounts), On: on}, {Verbs: Of(SeeContent), On: on, Until: now.Add(time.Hour)}, {Verbs: Of(Discard), On: on, Until: now}}, now)
	assert.Equal(t, Of(SeeCounts, SeeContent), r.At("coldchain/readings"))
	assert.True(t, r.Hold(now.Add(time.Hour-1)))
	assert.False(t, r.Hold(now.Add(time.Hour)), "it is time for others")
	assert.False(t, NewRights(nil, now).Within(r).Hold(now.Add(2*time.Hour)))
}

// names and patterns that meet often.
func someName(r *rand.Rand, letters string) string {
	b := []byte{"ab"[r.IntN(2)]}
	for range r.IntN(4) {
		b = append(b, letters[r.IntN(len(letters))])
	}
	return string(b)
}

func someAddress(r *rand.Rand, letters string) string {
	at := someName(r, letters)
	if r.IntN(4) > 0 {
		at += "/" + someName(r, letters)
		if r.IntN(2) > 0 {
			at += "@" + someName(r, letters)
		}
	}
	return at
}

// Rights say the same as a look at each grant does, and what On promises of a
// pattern holds for each address that it covers.
func TestRightsAgreeWithEachGrant(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		var grants []Grant
		for range r.IntN(12) {
			grants = append(grants, Grant{Verbs: Set(r.Uint64()) & Everything, On: pattern(t, someAddress(r, "ab*"))})
		}
		all := NewRights(grants, time.Now())
		wider := pattern(t, someAddress(r, "ab*"))
		for range 60 {
			at := someAddress(r, "ab")
			var want Set
			for _, g := range grants {
				if g.On.Covers(at) {
					want |= g.Verbs
				}
			}
			require.Equal(t, want, all.At(at), "seed %d: %s", seed, at)
			space, _, _ := strings.Cut(at, "/")
			for _, v := range want.Verbs() {
				require.True(t, all.Reach(v, space), "seed %d: %s of %s", seed, v, at)
			}
			if wider.Covers(at) {
				promised := all.On(wider)
				require.Zero(t, promised.Without(want), "seed %d: on %s is promised what %s does not have", seed, wider, at)
			}
		}
	}
}

func TestWhatIsRememberedIsBounded(t *testing.T) {
	r := rights(t, Of(Publish), "coldchain")
	for i := range 3 * mostKnown {
		require.True(t, r.May(Publish, fmt.Sprintf("coldchain/c%d", i)))
	}
	assert.LessOrEqual(t, len(r.known), mostKnown)
}

func BenchmarkMay(b *testing.B) {
	var grants []Grant
	for i := range 1000 {
		grants = append(grants, Grant{Verbs: Of(SeeCounts), On: pattern(b, fmt.Sprintf("space-%d/in*", i))})
	}
	grants = append(grants, Grant{Verbs: Of(Publish), On: pattern(b, "coldchain/read*")})
	r := NewRights(grants, time.Now())
	b.ReportAllocs()
	for b.Loop() {
		if !r.May(Publish, "coldchain/readings") {
			b.Fatal("it is refused")
		}
	}
}

func BenchmarkMayOfAThousandAddresses(b *testing.B) {
	var grants []Grant
	for i := range 1000 {
		grants = append(grants, Grant{Verbs: Of(SeeCounts), On: pattern(b, fmt.Sprintf("space-%d/in*", i))})
	}
	all := make([]string, 1000)
	for i := range all {
		all[i] = fmt.Sprintf("space-%d/inspections", i)
	}
	r := NewRights(grants, time.Now())
	i := 0
	for b.Loop() {
		if i++; !r.May(SeeCounts, all[i%len(all)]) {
			b.Fatal("it is refused")
		}
	}
}

func TestAMaskIsForRoles(t *testing.T) {
	boxes := mask.New("boxes", mask.Hidden, []string{mask.Key}, nil)
	masks := []Mask{{Mask: boxes, On: pattern(t, "coldchain/in*"), For: []string{"desk", "call"}}}
	sees := func(at string, grants ...Grant) string {
		s := NewRights(grants, time.Now()).Through(masks).Sight(SeeContent, at)
		switch {
		case s == mask.Nothing:
			return "nothing"
		case s.Whole():
			return "all"
		}
		return strings.Join(s.Names(), " ")
	}
	give := func(role, on string, verbs ...Verb) Grant {
		return Grant{Verbs: Of(verbs...), On: pattern(t, on), Role: role}
	}
	assert.Equal(t, "nothing", sees("coldchain/inspections", give("desk", "coldchain", SeeCounts)))
	assert.Equal(t, "boxes", sees("coldchain/inspections", give("desk", "coldchain", SeeContent)))
	assert.Equal(t, "boxes", sees("coldchain/inspections#0:7", give("desk", "coldchain", SeeContent)))
	assert.Equal(t, "boxes", sees("coldchain/inspections/dead", give("desk", "coldchain", SeeContent)))
	assert.Equal(t, "all", sees("coldchain/recalls", give("desk", "coldchain", SeeContent)))
	assert.Equal(t, "boxes", sees("coldchain/inspections", give("desk", "coldchain", SeeContent), give("call", "*", SeeContent)), "both are masked")
	assert.Equal(t, "all", sees("coldchain/inspections", give("desk", "coldchain", SeeContent), give("lead", "coldchain", SeeContent)), "another role shows it")
	assert.Equal(t, "boxes", sees("coldchain/inspections", give("desk", "coldchain", SeeContent), give("lead", "coldchain", SeeCounts)), "one that shows nothing does not")
	assert.Equal(t, "boxes", sees("coldchain/inspections", give("desk", "coldchain", SeeContent), give("lead", "coldchain/recalls", SeeContent)), "nor one of another place")
	assert.Equal(t, "all", sees("coldchain/inspections", give("lead", "coldchain/in*", SeeContent), give("desk", "coldchain/in*", SeeContent)), "the same pattern by two roles")

	lead := NewRights([]Grant{give("lead", "coldchain", SeeContent)}, time.Now()).Through(masks)
	token := NewRights([]Grant{give("desk", "coldchain", SeeContent)}, time.Now()).Through(masks)
	assert.False(t, lead.Within(token).Sight(SeeContent, "coldchain/inspections").Whole(), "what a token is for is masked too")
	assert.True(t, Whole.Sight(SeeContent, "coldchain/inspections").Whole())
}
