package route

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/message"
)

var (
	warm  = uuid.MustParse("0ab4ff4f-5f8f-4f1e-9a57-0e2b46a2d7a1")
	terms = Terms{Version: 1, Text: "warm", Target: 7, Partitions: 2}
)

// planned is a plan after steps, each at an end of the log.
func planned(t *testing.T, steps ...struct {
	end  int64
	step Step
}) *Plan {
	t.Helper()
	ps := NewPlans()
	for _, s := range steps {
		s.step.Route = warm
		if p, _ := ps.Of(warm); p != nil && s.step.Seq == 0 {
			s.step.Seq = p.Seq
		}
		out := ps.Apply(message.Stamp{Offset: s.end}, &Command{Steps: []Step{s.step}}, nil)
		require.Equal(t, []Outcome{Done}, out)
	}
	p, _ := ps.Of(warm)
	return p
}

type at = struct {
	end  int64
	step Step
}

func TestWhatASeekDoes(t *testing.T) {
	made := at{100, Step{Op: Make, Offset: 10, Terms: terms}}
	cut := at{120, Step{Op: Recut, Terms: Terms{Version: 2, Text: "hot", Target: 7, Partitions: 2}}}
	for name, c := range map[string]struct {
		steps []at
		to    int64
		floor Place
		left  int64
		cuts  int
	}{
		"forward in the open cut":        {[]at{made}, 40, Place{Cut: 1, Offset: 40}, 160, 1},
		"to where it stands":             {[]at{made}, 10, Place{Cut: 1, Offset: 10}, 190, 1},
		"to the end":                     {[]at{made}, AtEnd, Place{Cut: 1, Offset: 200}, 0, 1},
		"behind the end is the end":      {[]at{made}, 900, Place{Cut: 1, Offset: 200}, 0, 1},
		"backward":                       {[]at{made}, 4, Place{Cut: 2, Offset: 4}, 196, 2},
		"forward into the next cut":      {[]at{made, cut}, 150, Place{Cut: 2, Offset: 150}, 50, 2},
		"ahead to the next cut":          {[]at{made, cut}, 120, Place{Cut: 2, Offset: 120}, 80, 2},
		"forward within an older cut":    {[]at{made, cut}, 50, Place{Cut: 1, Offset: 50}, 150, 2},
		"backward, with the newer terms": {[]at{made, cut}, 4, Place{Cut: 3, Offset: 4}, 196, 3},
	} {
		t.Run(name, func(t *testing.T) {
			p := planned(t, append(c.steps, at{200, Step{Op: Seek, Offset: c.to}})...)
			assert.Equal(t, c.floor, p.Floor)
			assert.Equal(t, c.left, p.Left(200), "messages left")
			assert.Len(t, p.Cuts, c.cuts)
			assert.EqualValues(t, Open, p.Last().To)
			assert.Equal(t, c.floor.Offset, p.Needs())
			assert.Equal(t, p.Cuts[c.cuts-1].Terms, p.Last().Terms)
		})
	}
}

func TestRetentionLeavesWhatAPlanNeeds(t *testing.T) {
	p := planned(t, at{100, Step{Op: Make, Offset: AtEnd, Terms: terms}}, at{300, Step{Op: Seek, Offset: 20}}, at{300, Step{Op: Floor, Floor: Place{Cut: 2, Offset: 250}}})
	assert.EqualValues(t, 250, p.Needs())
	assert.EqualValues(t, 50, p.Left(300))
}

func TestStepsOfAnotherPlanAreNotTaken(t *testing.T) {
	ps := NewPlans()
	apply := func(s Step) Outcome {
		s.Route = warm
		return ps.Apply(message.Stamp{Offset: 10, Time: 1}, &Command{Steps: []Step{s}}, nil)[0]
	}
	assert.Equal(t, Stale, apply(Step{Op: Recut, Seq: 1}), "there is none yet")
	assert.Equal(t, Done, apply(Step{Op: Make, Offset: 3, Terms: terms}))
	assert.Equal(t, Known, apply(Step{Op: Make, Offset: 3, Terms: terms}))
	assert.Equal(t, Done, apply(Step{Op: Recut, Seq: 1, Terms: terms}))
	assert.Equal(t, Stale, apply(Step{Op: Floor, Seq: 1, Floor: Place{Cut: 1, Offset: 9}}))
	assert.Equal(t, Done, apply(Step{Op: Floor, Seq: 2, Floor: Place{Cut: 1, Offset: 9}}))
	assert.Equal(t, Stale, apply(Step{Op: Floor, Seq: 2, Floor: Place{Cut: 1, Offset: 8}}), "a floor does not sink")
	assert.Equal(t, Done, apply(Step{Op: End}))
	assert.Equal(t, Gone, apply(Step{Op: Make, Offset: 3, Terms: terms}), "what has ended stays so")
	p, gone := ps.Of(warm)
	assert.Nil(t, p)
	assert.True(t, gone)
	ps.Apply(message.Stamp{Time: tombstoneTime + 2}, &Command{}, nil)
	_, gone = ps.Of(warm)
	assert.False(t, gone, "long after the last call")
}

func TestATargetTakesABatchOnlyDirectlyBehindTheLast(t *testing.T) {
	o := NewOrigins()
	a := o.Ahead()
	batch := func(after, upTo int64) *message.Route {
		r := &message.Route{ID: warm, Partition: 3, UpTo: Place{Cut: 1, Offset: upTo}}
		if after > 0 {
			r.After = Place{Cut: 1, Offset: after}
		}
		return r
	}
	first, second := batch(0, 5), batch(5, 9)
	assert.Equal(t, &NotBehind{Recovered: 2}, a.Check(second, 2))
	assert.NoError(t, a.Check(first, 0))
	a.Propose(first)
	assert.NoError(t, a.Check(second, 0), "what is proposed counts")
	assert.Equal(t, &NotBehind{Origin: first.UpTo}, a.Check(first, 0), "twice")
	assert.Equal(t, &NotBehind{Origin: first.UpTo, Recovered: 1}, a.Check(second, 1), "it may have lost something since it was asked")
	assert.NoError(t, a.Check(&message.Route{ID: warm, Partition: 4, UpTo: Place{Cut: 1, Offset: 2}}, 0), "another partition of the source")
	assert.Equal(t, Place{}, o.Of(Source{warm, 3}))
	o.Note(first)
	a.Applied(first)
	assert.Empty(t, a.over)
	assert.NoError(t, a.Check(second, 0))
	a.ProposeEnd(warm)
	assert.Equal(t, ErrEnded, a.Check(second, 0))
	o.End(warm, 1)
	o.Note(second)
	assert.Equal(t, ErrEnded, o.Ahead().Check(first, 0))
	assert.Zero(t, o.Len())
}

func TestStatesAreReadAsTheyWereWritten(t *testing.T) {
	ps := NewPlans()
	for _, c := range []Command{
		{Nonce: 9, Steps: []Step{{Op: Make, Route: warm, Offset: AtEnd, Terms: terms, Targets: []uint64{0, 2}}, {Op: End, Route: uuid.New()}}},
		{Epoch: 4, Steps: []Step{{Op: Recut, Route: warm, Seq: 2, Terms: terms}, {Op: Seek, Route: warm, Seq: 3, Offset: 2}, {Op: Floor, Route: warm, Seq: 4, Floor: Place{Epoch: 4, Cut: 4, Offset: 7}, Lost: 3, Targets: []uint64{1}}}},
	} {
		again, err := DecodeCommand(c.Encode(nil))
		require.NoError(t, err)
		require.Equal(t, &c, again)
		ps.Apply(message.Stamp{Offset: 8, Time: 5}, again, nil)
	}
	p, _ := ps.Of(warm)
	require.EqualValues(t, 3, p.Lost)
	again, err := DecodePlans(ps.Encode())
	require.NoError(t, err)
	assert.Equal(t, ps, again)
	o := NewOrigins()
	o.Note(&message.Route{ID: warm, Partition: 5, UpTo: Place{Epoch: 1, Cut: 2, Offset: 3}})
	o.End(uuid.New(), 77)
	places, err := DecodeOrigins(o.Encode())
	require.NoError(t, err)
	assert.Equal(t, o, places)
}

func FuzzForms(f *testing.F) {
	ps, o := NewPlans(), NewOrigins()
	c := Command{Steps: []Step{{Op: Make, Route: warm, Terms: terms}, {Op: Floor, Route: warm, Seq: 1, Floor: Place{Epoch: 0, Cut: 1, Offset: 2}}}}
	ps.Apply(message.Stamp{Offset: 3}, &c, nil)
	o.Note(&message.Route{ID: warm, UpTo: Place{Epoch: 1, Cut: 2, Offset: 3}})
	for _, seed := range [][]byte{c.Encode(nil), ps.Encode(), o.Encode(), {form, 0, 0xff, 0xff, 0xff, 0xff, 0x0f}} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if c, err := DecodeCommand(b); err == nil {
			again, err := DecodeCommand(c.Encode(nil))
			require.NoError(t, err)
			require.Equal(t, c, again)
			NewPlans().Apply(message.Stamp{Offset: 5}, c, nil)
		}
		if ps, err := DecodePlans(b); err == nil && len(b) > 0 {
			again, err := DecodePlans(ps.Encode())
			require.NoError(t, err)
			require.Equal(t, ps, again)
		}
		if o, err := DecodeOrigins(b); err == nil && len(b) > 0 {
			_, err := DecodeOrigins(o.Encode())
			require.NoError(t, err)
		}
	})
}
