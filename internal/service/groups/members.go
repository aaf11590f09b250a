package groups

import (
	"context"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
)

// Join makes a reader a member of a group, and makes the group, at the
// position, if it does not exist and from is given.
func (gs *Groups) Join(ctx context.Context, who string, a address.Address, from *address.Position, timeout time.Duration, member string) (*form.Membership, error) {
	if err := access.Check(ctx, access.Read, a.String()); err != nil {
		return nil, err
	}
	if timeout == 0 {
		timeout = group.DefaultTimeout
	}
	if timeout < group.MinTimeout || timeout > group.MaxTimeout {
		return nil, problem.New(problem.Invalid, "a timeout of %s", address.FormatDuration(timeout)).Field("timeout").Allowed("1s to 10m")
	}
	if len(member) > setting.MaxLabel {
		return nil, problem.New(problem.Invalid, "a member's name of %d characters", len(member)).Field("member").Allowed(fmt.Sprintf("up to %d", setting.MaxLabel))
	}
	_, g, err := gs.parts.Group(a)
	made := false
	var p *problem.Problem
	if errors.As(err, &p) && p.Kind == problem.NotFound && from != nil {
		if g, err = gs.New(ctx, who, a, *from, nil); err == nil {
			made = true
		} else if errors.As(err, &p) && p.Kind == problem.Conflict { // another member was first
			if err = gs.catalog.CatchUp(ctx); err == nil {
				_, g, err = gs.parts.Group(a)
			}
		}
	}
	if err == nil {
		err = notARoute(a, g)
	}
	if err != nil {
		return nil, err
	}
	answer, err := gs.askGroup(ctx, &groupAsk{Group: g.ID, What: "join", Member: gs.memberID(ctx, g), Timeout: timeout, Label: member})
	if err != nil {
		return nil, err
	}
	answer.Membership.Made = made
	return answer.Membership, nil
}

// Beat tells that a member lives and what it holds; it waits for another share
// than that of the round that the member knows.
func (gs *Groups) Beat(ctx context.Context, a address.Address, member string, round uint64, paused bool, holds []int, wait time.Duration) (*form.Membership, error) {
	if err := access.Check(ctx, access.Read, a.String()); err != nil {
		return nil, err
	}
	answer, err := gs.askMember(ctx, a, &groupAsk{What: "beat", Member: member, Round: round, Paused: paused, Holds: holds, Wait: wait})
	if err != nil {
		return nil, err
	}
	return answer.Membership, nil
}

// Next returns messages of a member's share behind those that it has up to an
// answer, which it commits if the member says so.
func (gs *Groups) Next(ctx context.Context, a address.Address, member string, most int, wait time.Duration, upTo group.UpTo, commit bool) (*Given, error) {
	if err := access.Check(ctx, access.Read, a.String()); err != nil {
		return nil, err
	}
	answer, err := gs.askMember(ctx, a, &groupAsk{What: "next", Member: member, Most: most, Wait: wait, UpTo: upTo, CommitUpTo: commit})
	if err != nil {
		return nil, err
	}
	if sight := access.Sight(ctx, access.Read, a.String()); !sight.Whole() {
		for i, m := range answer.Given.Messages {
			answer.Given.Messages[i] = sight.Show(m)
		}
	}
	return answer.Given, nil
}

// Commit records offsets that a member has read up to.
func (gs *Groups) Commit(ctx context.Context, a address.Address, member string, round uint64, offsets []form.OffsetOf) error {
	if err := access.Check(ctx, access.Commit, a.String()); err != nil {
		return err
	}
	_, err := gs.askMember(ctx, a, &groupAsk{What: "commit", Member: member, Round: round, Offsets: offsets})
	return err
}

// Leave ends a membership.
func (gs *Groups) Leave(ctx context.Context, a address.Address, member string) error {
	if err := access.Check(ctx, access.Read, a.String()); err != nil {
		return err
	}
	_, err := gs.askMember(ctx, a, &groupAsk{What: "leave", Member: member})
	return err
}

func (gs *Groups) askMember(ctx context.Context, a address.Address, ask *groupAsk) (*groupAnswer, error) {
	_, g, err := gs.parts.Group(a)
	if err == nil {
		err = notARoute(a, g)
	}
	if err != nil {
		return nil, err
	}
	if ask.Member != "" {
		if err := gs.checkMember(ctx, g, a.String(), ask.Member); err != nil {
			return nil, err
		}
	}
	ask.Group = g.ID
	return gs.askGroup(ctx, ask)
}

// Given is what a member that asks for its next is given.
type Given struct {
	Membership *form.Membership  `json:"membership"`
	Messages   []*message.Stored `json:"messages"`
	Gone       []form.Gone       `json:"gone,omitempty"`
	UpTo       group.UpTo        `json:"upTo"`
}

// nextBytes bounds the bodies of one call.
const nextBytes = 8 << 20
