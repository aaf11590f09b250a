package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// GroupSettings are what can be set on a group; nil leaves it as it is.
type GroupSettings struct {
	Description *string
	Paused      *bool
	Expire      *time.Duration // without members; 0: never
}

func (s *GroupSettings) check() error {
	if s.Expire != nil && *s.Expire != 0 && (*s.Expire < time.Minute || *s.Expire > 10*365*24*time.Hour) {
		return problem.New(problem.Invalid, "an expiry of %s", address.FormatDuration(*s.Expire)).Field("expire").Allowed("0s (never), 1m to 3650d")
	}
	return checkText(s.Description, nil)
}

func (s *GroupSettings) apply(g *catalog.Group) {
	set(&g.Description, s.Description)
	set(&g.Paused, s.Paused)
	if s.Expire != nil {
		g.ExpireMS = s.Expire.Milliseconds()
	}
}

func groupJSON(g *catalog.Group) map[string]any {
	return map[string]any{"description": g.Description, "paused": g.Paused, "expire": address.FormatDuration(time.Duration(g.ExpireMS) * time.Millisecond)}
}

// Group returns the record of a group of a topic.
func (n *Node) Group(a address.Address) (*Topic, *catalog.Group, error) {
	t, err := n.topicWithGroups(a)
	if err != nil {
		return nil, nil, err
	}
	groups := n.catalog.View().Groups[t.ID]
	if g := groups[a.Group]; g != nil {
		return t, g, nil
	}
	// Another node, or another request, may have made it a moment ago.
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if n.catalog.Refresh(ctx) == nil {
		groups = n.catalog.View().Groups[t.ID]
		if g := groups[a.Group]; g != nil {
			return t, g, nil
		}
	}
	var names []string
	for name := range groups {
		names = append(names, name)
	}
	p := problem.New(problem.NotFound, "%s has no group %s", t.Address(), a.Group)
	if near := address.Nearest(a.Group, names); near != "" {
		return t, nil, p.Next("did you mean %s@%s?", t.Address(), near)
	}
	return t, nil, p.Next("ferry new group %s@%s -from first makes it, and so does the first ferry read", t.Address(), a.Group)
}

// topicWithGroups returns the topic of a group. A queue has none.
func (n *Node) topicWithGroups(a address.Address) (*Topic, error) {
	t, err := n.Topic(a)
	if err == nil && t.IsQueue() {
		return nil, problem.New(problem.Invalid, "%s is a queue: its messages are leased, and groups read topics", t.Address()).Field("address").Next("ferry lease %s takes messages; for several groups that each get all of them, make a topic", t.Address())
	}
	return t, err
}

// groupAddress returns the address of a group.
func groupAddress(t *Topic, name string) address.Address {
	a := t.Address()
	a.Group = name
	return a
}

// NewGroup makes a group that begins at a position.
func (n *Node) NewGroup(ctx context.Context, who string, a address.Address, from address.Position, s GroupSettings) (*catalog.Group, error) {
	t, err := n.topicWithGroups(a)
	if err != nil {
		return nil, err
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Group); err != nil {
		return nil, problem.New(problem.Invalid, "the group: %v", err).Field("group")
	}
	steps, err := n.stepsTo(ctx, t, nil, from, AnyPartition)
	if err != nil {
		return nil, err
	}
	offsets := make([]int64, len(steps))
	for i, step := range steps {
		offsets[i] = step.To
	}
	g := &catalog.Group{ChannelID: t.ID, Name: a.Group}
	s.apply(g)
	after := groupJSON(g)
	after["from"] = from.String()
	err = n.catalog.NewGroup(ctx, g, offsets, &catalog.Entry{Who: who, Action: "new group", Address: a.String(), After: after})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is", a)
	}
	if err != nil {
		return nil, explain(err, a.String())
	}
	_, g, err = n.Group(a)
	return g, err
}

// SetGroup changes a group.
func (n *Node) SetGroup(ctx context.Context, who string, a address.Address, s GroupSettings) error {
	if err := s.check(); err != nil {
		return err
	}
	return untilFresh(ctx, n.catalog, a.String(), func() error {
		_, g, err := n.Group(a)
		if err != nil {
			return err
		}
		changed := *g
		s.apply(&changed)
		return n.catalog.SetGroup(ctx, g, &changed, &catalog.Entry{Who: who, Action: "set group", Address: a.String(), Before: groupJSON(g), After: groupJSON(&changed)})
	})
}

// RemoveGroup deletes a group, or with preview only says what that would do.
func (n *Node) RemoveGroup(ctx context.Context, who string, a address.Address, preview bool) (*Preview, error) {
	t, g, err := n.Group(a)
	if err != nil {
		return nil, err
	}
	lag, err := n.GroupLag(ctx, t, g)
	if err != nil {
		return nil, err
	}
	p := &Preview{Address: a.String(), Effects: []string{fmt.Sprintf("its committed offsets in %s and their history are forgotten, and cannot be brought back; no message is lost, and other groups are not touched", words.Many(len(lag.Partitions), "partition"))}}
	if len(lag.Members) > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("it is in use: its %s refused from then on", words.Many(len(lag.Members), "member is", "members are")))
	}
	if lag.Verdict.Messages > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("%s that it has not read will not be read by it", words.Many(lag.Verdict.Messages, "message")))
	}
	for _, name := range t.Channel().Hold {
		if name == g.Name {
			p.Effects = append(p.Effects, fmt.Sprintf("retention of %s no longer waits for it", t.Address()))
		}
	}
	if preview {
		return p, nil
	}
	before := groupJSON(g)
	before["offsets"] = lag.offsets()
	return p, explain(n.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: who, Action: "remove group", Address: a.String(), Before: before}), a.String())
}

// expireGroups removes the groups that had no members for as long as they may.
func (n *Node) expireGroups(ctx context.Context) {
	groups, err := n.catalog.Expired(ctx)
	if err != nil {
		return
	}
	for _, g := range groups {
		t := n.topicByID(g.ChannelID)
		if t == nil {
			continue
		}
		a := groupAddress(t, g.Name)
		err := n.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: "ferryd", Action: "expire group", Address: a.String(), Before: groupJSON(&g)})
		if err != nil && ctx.Err() == nil {
			slog.Warn("a group that has expired could not be removed", "group", a.String(), "error", err)
		}
	}
}

// OffsetOf is an offset of a partition.
type OffsetOf struct {
	Partition int   `json:"partition"`
	Offset    int64 `json:"offset"`
}

// groupAsk is what a member asks of the node that coordinates its group.
type groupAsk struct {
	Group      int64         `json:"group"`
	What       string        `json:"what"`
	Member     string        `json:"member"`
	Label      string        `json:"label,omitempty"`
	Session    time.Duration `json:"session,omitempty"`
	Generation uint64        `json:"generation,omitempty"`
	Paused     bool          `json:"paused,omitempty"` // as far as the member knows
	Holds      []int         `json:"holds,omitempty"`
	Wait       time.Duration `json:"wait,omitempty"`
	Offsets    []OffsetOf    `json:"offsets,omitempty"`
	Most       int           `json:"most,omitempty"`
	UpTo       group.UpTo    `json:"upTo,omitempty"` // that of the last answer which the member has
	CommitUpTo bool          `json:"commitUpTo,omitempty"`
	Move       *MoveAsk      `json:"move,omitempty"`
}

// groupAnswer is what it answers; Again is set when another node coordinates
// the group.
type groupAnswer struct {
	Again      bool             `json:"again,omitempty"`
	Problem    *problem.Problem `json:"problem,omitempty"`
	Membership *Membership      `json:"membership,omitempty"`
	Polled     *Polled          `json:"polled,omitempty"`
	Moved      *Moved           `json:"moved,omitempty"`
}

// askTime is how long a member's request looks for the node that coordinates
// its group.
const askTime = 6 * time.Second

// askGroup asks the node that coordinates a group, and looks for it again
// when that has just changed.
func (n *Node) askGroup(ctx context.Context, ask *groupAsk) (*groupAnswer, error) {
	deadline := time.Now().Add(askTime + ask.Wait)
	body, err := json.Marshal(ask)
	if err != nil {
		return nil, err
	}
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		a := &groupAnswer{Again: true}
		if to := n.coordinatorOf(ask.Group); to == n.id {
			a = n.coordinate(ctx, ask)
		} else if out, err := n.peers.Call(ctx, to, "group", body); err == nil {
			*a = groupAnswer{}
			if err := json.Unmarshal(out, a); err != nil {
				return nil, err
			}
		} else if ask.Move != nil && ask.Move.Apply && errors.Is(err, replica.ErrAway) {
			return nil, problem.New(problem.Unavailable, "it is not known whether the offsets were moved: %v", err).Next("ferry show GROUP -history tells")
		}
		if a.Problem != nil {
			return nil, a.Problem
		}
		if !a.Again {
			return a, nil
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			return nil, problem.New(problem.Unavailable, "no node coordinates the group now").Next("try again in a moment")
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// answerGroup answers another node's member.
func (n *Node) answerGroup(ctx context.Context, _ uint64, ask *groupAsk) (*groupAnswer, error) {
	if n.coordinatorOf(ask.Group) != n.id || !n.Serving() {
		return &groupAnswer{Again: true}, nil
	}
	return n.coordinate(ctx, ask), nil
}

// coordinate does what a member asks, as the node that coordinates its group.
func (n *Node) coordinate(ctx context.Context, ask *groupAsk) *groupAnswer {
	g := n.catalog.View().GroupIDs[ask.Group]
	if g == nil {
		if err := n.catalog.Refresh(ctx); err == nil {
			g = n.catalog.View().GroupIDs[ask.Group]
		}
	}
	if g == nil {
		return &groupAnswer{Problem: problem.New(problem.NotFound, "the group does not exist; it may have been removed")}
	}
	t := n.topicByID(g.ChannelID)
	c, err := n.groups.get(ctx, n, g, ask.CommitUpTo || ask.What == "commit" || ask.What == "move")
	a := &groupAnswer{}
	if err == nil {
		err = c.answer(ctx, t, g, ask, a)
	}
	var known *problem.Problem
	switch {
	case err == nil:
	case errors.Is(err, catalog.ErrTakenOver):
		a.Again = true
	case errors.As(err, &known):
		a.Problem = known
	default:
		err = memberProblem(err, t, -1)
		if !errors.As(err, &a.Problem) {
			a.Problem = problem.New(problem.Unavailable, "%s: %v", groupAddress(t, g.Name), err).Next("try again in a moment")
		}
	}
	return a
}

// commitTime is how long a commit waits for the database.
const commitTime = 10 * time.Second

func (c *coordinator) answer(ctx context.Context, t *Topic, g *catalog.Group, ask *groupAsk, a *groupAnswer) (err error) {
	if t == nil {
		return problem.New(problem.Unavailable, "group %s is being opened", g.Name).Next("try again in a moment")
	}
	switch ask.What {
	case "join":
		a.Membership, err = c.join(ctx, ask)
	case "beat":
		a.Membership, err = c.beat(ctx, ask)
	case "commit":
		ctx, cancel := context.WithTimeout(ctx, commitTime)
		defer cancel()
		err = c.commit(ctx, t, ask.Member, ask.Generation, ask.Offsets)
	case "poll":
		a.Polled, err = c.poll(ctx, t, ask)
	case "leave":
		err = c.leave(ctx, ask.Member)
	case "move":
		a.Moved, err = c.move(ctx, t, g, ask.Move)
	default:
		err = fmt.Errorf("%w: %q", peer.ErrCall, ask.What)
	}
	return err
}

// Join makes a reader a member of a group, and makes the group, at the
// position, if it does not exist and from is given.
func (n *Node) Join(ctx context.Context, who string, a address.Address, from *address.Position, session time.Duration, label string) (*Membership, bool, error) {
	if session == 0 {
		session = group.DefaultSession
	}
	if session < group.MinSession || session > group.MaxSession {
		return nil, false, problem.New(problem.Invalid, "a session time of %s", address.FormatDuration(session)).Field("session").Allowed("1s to 10m")
	}
	if len(label) > maxLabel {
		return nil, false, problem.New(problem.Invalid, "a label of %d characters", len(label)).Field("label").Allowed(fmt.Sprintf("up to %d", maxLabel))
	}
	_, g, err := n.Group(a)
	made := false
	var p *problem.Problem
	if errors.As(err, &p) && p.Kind == problem.NotFound && from != nil {
		if g, err = n.NewGroup(ctx, who, a, *from, GroupSettings{}); err == nil {
			made = true
		} else if errors.As(err, &p) && p.Kind == problem.Conflict { // another member was first
			if err = n.catalog.Reload(ctx); err == nil {
				_, g, err = n.Group(a)
			}
		}
	}
	if err != nil {
		return nil, false, err
	}
	answer, err := n.askGroup(ctx, &groupAsk{Group: g.ID, What: "join", Member: uuid.NewString(), Session: session, Label: label})
	if err != nil {
		return nil, made, err
	}
	return answer.Membership, made, nil
}

// Beat tells that a member lives and what it holds; it waits for another share
// than that of the generation that the member knows.
func (n *Node) Beat(ctx context.Context, a address.Address, member string, generation uint64, paused bool, holds []int, wait time.Duration) (*Membership, error) {
	answer, err := n.askMember(ctx, a, &groupAsk{What: "beat", Member: member, Generation: generation, Paused: paused, Holds: holds, Wait: wait})
	if err != nil {
		return nil, err
	}
	return answer.Membership, nil
}

// Poll returns messages of a member's share behind those that it has up to an
// answer, which it commits if the member says so.
func (n *Node) Poll(ctx context.Context, a address.Address, member string, most int, wait time.Duration, upTo group.UpTo, commit bool) (*Polled, error) {
	answer, err := n.askMember(ctx, a, &groupAsk{What: "poll", Member: member, Most: most, Wait: wait, UpTo: upTo, CommitUpTo: commit})
	if err != nil {
		return nil, err
	}
	return answer.Polled, nil
}

// Commit records offsets that a member has read up to.
func (n *Node) Commit(ctx context.Context, a address.Address, member string, generation uint64, offsets []OffsetOf) error {
	_, err := n.askMember(ctx, a, &groupAsk{What: "commit", Member: member, Generation: generation, Offsets: offsets})
	return err
}

// Leave ends a membership.
func (n *Node) Leave(ctx context.Context, a address.Address, member string) error {
	_, err := n.askMember(ctx, a, &groupAsk{What: "leave", Member: member})
	return err
}

func (n *Node) askMember(ctx context.Context, a address.Address, ask *groupAsk) (*groupAnswer, error) {
	_, g, err := n.Group(a)
	if err != nil {
		return nil, err
	}
	ask.Group = g.ID
	return n.askGroup(ctx, ask)
}

// Polled is what a member that polls is given.
type Polled struct {
	Membership *Membership       `json:"membership"`
	Messages   []*message.Stored `json:"messages"`
	Gone       []GoneOf          `json:"gone,omitempty"`
	UpTo       group.UpTo        `json:"upTo"`
}

// GoneOf tells that retention took messages before they were read.
type GoneOf struct {
	Partition int   `json:"partition"`
	From      int64 `json:"from"`
	To        int64 `json:"to"` // offset of the first kept one
}

// pollBytes bounds the bodies of one poll.
const pollBytes = 8 << 20

// answerGroups has what other nodes ask of groups answered.
func (n *Node) answerGroups() { peer.Answer(&n.calls, "group", n.answerGroup) }
