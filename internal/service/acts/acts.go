// Package acts is what chores do: each act in words of its own, made of what services do when
// people ask. What an act begins outlives the node that began it: either it is a job, made
// once for a run, or it does no harm when it is done again. Acts have no state of their own.
package acts

import (
	"context"
	"fmt"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/declares"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/outlook"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/replays"
	"steadyferry/internal/service/timetable"
)

// Services are those that acts are made of.
type Services struct {
	Parts    *part.Registry
	Catalog  *catalog.Catalog
	Queues   *queues.Queues
	Groups   *groups.Groups
	Replays  *replays.Replays
	Look     *look.Look
	Cluster  *cluster.Cluster
	Declares *declares.Declares
	Outlook  *outlook.Outlook
	Dir      string // of the node, in which files are written
}

// Register has a timetable know all acts.
func Register(t *timetable.Timetable, s *Services) {
	t.Register(setting.DoReturn, s.returning())
	t.Register(setting.DoReplay, s.replaying())
	t.Register(setting.DoDiscard, s.discarding())
	t.Register(setting.DoSeek, s.seeking())
	t.Register(setting.DoVerify, s.verifying())
	t.Register(setting.DoExport, s.exporting())
	t.Register(setting.DoDeclare, s.declaring())
	t.Register(setting.DoReport, s.reporting())
}

// ofOne is the one address that a chore is of.
func ofOne(c *setting.Chore, kinds ...address.Kind) (address.Address, error) {
	a, err := address.Parse(c.Of)
	if err != nil {
		return a, err
	}
	for _, k := range kinds {
		if a.Kind() == k {
			return a, nil
		}
	}
	allowed := make([]string, len(kinds))
	for i, k := range kinds {
		allowed[i] = "the address of a " + string(k)
	}
	return a, problem.New(problem.Invalid, "of is %s, the address of a %s", c.Of, a.Kind()).Field("of").Allowed(strings.Join(allowed, ", "))
}

// deadOf is the address of the dead letters that a chore is of: of a queue, a group or a route.
func deadOf(c *setting.Chore) (address.Address, error) {
	a, err := ofOne(c, address.KindChannel, address.KindGroup, address.KindDead)
	a.Dead = true
	return a, err
}

func (s *Services) deadLetters(c *setting.Chore) (*part.Channel, address.Address, error) {
	a, err := deadOf(c)
	if err != nil {
		return nil, a, err
	}
	t, err := s.Queues.At(a)
	return t, a, err
}

// checkCause says what is wrong with a cause.
func checkCause(c *setting.Chore) error {
	_, err := queue.ParseCause(c.Cause)
	return err
}

func checkDead(c *setting.Chore) error {
	if _, err := deadOf(c); err != nil {
		return err
	}
	return checkCause(c)
}

// deadOnly is which dead letters a chore takes. Its cause was checked.
func deadOnly(c *setting.Chore) queues.Selection {
	cause, _ := queue.ParseCause(c.Cause)
	return queues.Selection{States: []queue.State{queue.Dead}, Cause: cause, Where: c.Where, Limit: int64(c.Limit)}
}

// rateText is a rate for people.
func rateText(rate float64) string { return fmt.Sprintf("%g/s", rate) }

// discarding discards dead letters, which can be brought back for as long as their queue keeps
// them. Done again it discards what has come since, and no harm is done.
func (s *Services) discarding() timetable.Act {
	return timetable.Act{Needs: []string{"of", "why"}, Takes: []string{"cause", "where", "limit"}, Check: checkDead,
		Plan: func(ctx context.Context, c *setting.Chore) (*timetable.Plan, error) {
			t, _, err := s.deadLetters(c)
			if err != nil {
				return nil, err
			}
			r, err := s.Queues.Act(ctx, t, deadOnly(c), queues.Action{Op: queue.OpDiscard, Why: c.Why}, true)
			if err != nil {
				return nil, err
			}
			return &timetable.Plan{Messages: r.Messages, Effects: r.Effects, Careful: true}, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			t, a, err := s.deadLetters(d.Chore())
			if err != nil {
				return false, err
			}
			var begun bool
			if d.Load(&begun); begun {
				d.Says("another node had begun; what that discarded is in the story of each message")
			}
			if err := d.Keep(ctx, true); err != nil {
				return false, err
			}
			r, err := s.Queues.Act(ctx, t, deadOnly(d.Chore()), queues.Action{Op: queue.OpDiscard, Who: d.Who(), Why: d.Chore().Why}, false)
			if err != nil {
				return false, err
			}
			d.Counts(r.Messages, 0)
			d.Says("discarded %s of %s: %s", words.Many(int(r.Messages), "message"), a, d.Chore().Why)
			return true, nil
		}}
}

// seeking brings a group to a position.
func (s *Services) seeking() timetable.Act {
	ask := func(c *setting.Chore, who string, apply bool) *groups.SeekAsk {
		return &groups.SeekAsk{To: c.Position, Partition: part.AnyPartition, WhileRunning: true, Apply: apply, Last: -1, Who: who, Why: c.Why}
	}
	group := func(c *setting.Chore) (address.Address, error) { return ofOne(c, address.KindGroup) }
	return timetable.Act{Needs: []string{"of", "position"}, Takes: []string{"why"},
		Check: func(c *setting.Chore) error { _, err := group(c); return err },
		Plan: func(ctx context.Context, c *setting.Chore) (*timetable.Plan, error) {
			a, err := group(c)
			if err != nil {
				return nil, err
			}
			m, err := s.Groups.Seek(ctx, a, ask(c, "", false))
			if err != nil {
				return nil, err
			}
			forward, back := int64(0), int64(0)
			for _, step := range m.Steps {
				forward, back = forward+max(step.To-step.From, 0), back+max(step.From-step.To, 0)
			}
			p := &timetable.Plan{Messages: forward + back, Careful: true, Effects: []string{fmt.Sprintf("%s would read %s again, and pass over %s", a, words.Many(int(back), "message"), words.Many(int(forward), "message"))}}
			if m.Members > 0 {
				p.Effects = append(p.Effects, words.Many(m.Members, "live member")+" would be told, and go on from there")
			}
			return p, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			a, err := group(d.Chore())
			if err != nil {
				return false, err
			}
			m, err := s.Groups.Seek(ctx, a, ask(d.Chore(), d.Who(), true))
			if err != nil {
				return false, err
			}
			d.Says("brought %s to %s in %s", a, m.Target, words.Many(len(m.Steps), "partition"))
			return true, nil
		}}
}

// verifying compares the replicas of channels, a partition at a time.
func (s *Services) verifying() timetable.Act {
	return timetable.Act{Needs: []string{"of"},
		Plan: func(_ context.Context, c *setting.Chore) (*timetable.Plan, error) {
			channels, partitions, err := s.covered(c)
			if err != nil {
				return nil, err
			}
			return &timetable.Plan{Effects: []string{fmt.Sprintf("it would compare the replicas of %s of %s, record by record", words.Many(len(partitions), "partition"), words.Many(channels, "channel"))}}, nil
		},
		Do: func(ctx context.Context, d *timetable.Doing) (bool, error) {
			_, partitions, err := s.covered(d.Chore())
			if err != nil {
				return false, err
			}
			var far struct {
				Last    string // partition that was compared
				Records int64
				Bad     []string
			}
			d.Load(&far)
			for _, p := range partitions {
				at := p.Address()
				if at <= far.Last {
					continue
				}
				v := s.Cluster.Verify(ctx, p)
				far.Last, far.Records = at, far.Records+v.Records
				if !v.Equal {
					far.Bad = append(far.Bad, at)
					d.Says("%s: %s", at, differs(&v))
				}
				return false, d.Keep(ctx, far)
			}
			if len(far.Bad) > 0 {
				return false, problem.New(problem.Conflict, "%s not equal: %s", words.Many(len(far.Bad), "partition is", "partitions are"), strings.Join(far.Bad, ", ")).Next("ferry nodes -verify %s tells more", far.Bad[0])
			}
			d.Says("%s hold the same, %s", words.Many(len(partitions), "partition"), words.Many(int(far.Records), "record"))
			return true, nil
		}}
}
