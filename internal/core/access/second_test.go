package access

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"steadyferry/internal/core/address"
)

// wary asks with rights of which some take a second person, and says when one was asked for.
type wary struct{ rights *Rights }

var errSecond, errRefused = errors.New("a second person"), errors.New("refused")

func (w wary) Who() string               { return "ines" }
func (w wary) Rights() *Rights           { return w.rights }
func (w wary) Refuse(Verb, string) error { return errRefused }
func (w wary) Second(Verb, string) error { return errSecond }
func (w wary) Pass() string              { return "ines" }

// A second person is asked for where only grants that want one give a dangerous verb.
func TestWhatTakesASecondPerson(t *testing.T) {
	on := func(text string) address.Pattern { return must(address.ParsePattern(text)) }
	operator := Of(SeeCounts, Return, Discard, Remove, Access)
	rights := NewRights([]Grant{
		{Verbs: operator, On: on("coldchain"), Role: "operator", Second: true},
		{Verbs: Of(Discard), On: on("coldchain/drills"), Role: "tidy"},
		{Verbs: Of(Remove), On: on("depot/*"), Role: "mover"},
		{Verbs: operator, On: on("depot"), Role: "operator", Second: true},
		{Verbs: operator, On: on("depot"), Role: "operator"},
	}, time.Now())
	within := func(verbs Set, pattern string) *Rights {
		return rights.Within(NewRights([]Grant{{Verbs: verbs, On: on(pattern)}}, time.Now()))
	}
	for _, c := range []struct {
		rights *Rights
		verb   Verb
		at     string
		want   error
	}{
		{rights, Discard, "coldchain/inspections", errSecond},
		{rights, Discard, "coldchain/inspections/dead", errSecond},
		{rights, Discard, "coldchain/inspections#0:7", errSecond},
		{rights, Discard, "coldchain/drills", nil},
		{rights, Discard, "coldchain/drills/dead", nil},
		{rights, Remove, "coldchain/drills", errSecond},
		{rights, Remove, "coldchain", errSecond},
		{rights, Return, "coldchain/inspections", nil}, // not dangerous
		{rights, SeeCounts, "coldchain", nil},
		{rights, Remove, "depot/doors", nil},
		{rights, Access, "depot/doors", nil}, // the same role was given without it too
		{rights, Discard, "elsewhere/doors", errRefused},
		{rights, Nodes, "coldchain", errRefused},
		{within(operator, "coldchain/inspections"), Discard, "coldchain/inspections", errSecond},
		{within(Of(Return), "coldchain"), Discard, "coldchain/inspections", errRefused},
		{within(operator, "coldchain/drills"), Discard, "coldchain/drills", nil},
		{Whole, Discard, "coldchain/inspections", nil},
	} {
		ctx := As(context.Background(), wary{c.rights})
		assert.Equal(t, c.want, Check(ctx, c.verb, c.at), "%s %s", c.verb, c.at)
		assert.Equal(t, c.want != errRefused, May(ctx, c.verb, c.at), "lists show it all the same: %s %s", c.verb, c.at)
	}
	for pattern, want := range map[string]error{"coldchain/*": errSecond, "coldchain/drills": nil, "*": errRefused, "depot/*": nil, "depot": nil} {
		assert.Equal(t, want, CheckOn(As(context.Background(), wary{rights}), Discard, on(pattern)), pattern)
	}
	assert.True(t, rights.Seconds())
	assert.False(t, Whole.Seconds())
	assert.False(t, NewRights([]Grant{{Verbs: Of(Return), On: on("*"), Second: true}}, time.Now()).Seconds(), "nothing of it is dangerous")
	assert.NoError(t, Check(As(context.Background(), Node("ferryd")), Discard, "coldchain/inspections"))
}
