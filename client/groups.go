package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"steadyferry/internal/core/address"
)

// GroupPath returns the path of a group below /api/v1.
func GroupPath(a address.Address) string {
	return ChannelPath(a) + "/groups/" + url.PathEscape(a.Group)
}

// Member is a member of a group, for programs that keep their own loop: see
// GroupReader for one that does it all.
type Member struct {
	client  *Client
	address address.Address
	mu      sync.Mutex
	share   Membership
	upTo    string // of the last call that was answered
}

// Share returns the member's share as it was told last.
func (m *Member) Share() Membership {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.share
}

func (m *Member) take(share Membership) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.share = share
}

// Join makes a member of a group.
func (c *Client) Join(ctx context.Context, a address.Address, j JoinGroup) (*Member, error) {
	m := &Member{client: c, address: a}
	return m, c.Call(ctx, http.MethodPost, GroupPath(a)+"/members", nil, j, &m.share)
}

func (m *Member) path(what string) string {
	return GroupPath(m.address) + "/members/" + url.PathEscape(m.Share().MemberID) + what
}

// Beat tells that the member lives and what it works on, waits for a change of
// its share, and keeps it.
func (m *Member) Beat(ctx context.Context, holds []int, wait time.Duration) error {
	if holds == nil {
		holds = []int{}
	}
	share := m.Share()
	var next Membership
	err := m.client.Call(ctx, http.MethodPost, m.path("/beat"), nil, Beat{Round: share.Round, Paused: share.Paused, Holds: holds, Wait: wait.String()}, &next)
	if err == nil {
		m.take(next)
	}
	return err
}

// Next returns messages of the member's share. Without an UpTo it names that of
// the last answer which arrived; the first call has nothing to commit.
func (m *Member) Next(ctx context.Context, p Next) (*Given, error) {
	if p.UpTo == "" {
		m.mu.Lock()
		p.UpTo = m.upTo
		m.mu.Unlock()
		p.Commit = p.Commit && p.UpTo != ""
	}
	var out Given
	err := m.client.Call(ctx, http.MethodPost, m.path("/next"), nil, p, &out)
	if err == nil {
		m.take(out.Membership)
		m.mu.Lock()
		m.upTo = out.UpTo
		m.mu.Unlock()
	}
	return &out, err
}

// Commit records how far the member has read.
func (m *Member) Commit(ctx context.Context, offsets []OffsetOf) error {
	return m.CommitAs(ctx, m.Share().Round, offsets)
}

// CommitAs commits what was read under an earlier round of the share.
func (m *Member) CommitAs(ctx context.Context, round uint64, offsets []OffsetOf) error {
	return m.client.Call(ctx, http.MethodPost, m.path("/commit"), nil, Commit{Round: round, Offsets: offsets}, nil)
}

// Reject sets a message that was read aside as a dead letter of the group.
func (m *Member) Reject(ctx context.Context, r Reject) error {
	return m.client.Call(ctx, http.MethodPost, m.path("/reject"), nil, r, nil)
}

// Leave ends the membership, so that others get its partitions at once.
func (m *Member) Leave(ctx context.Context) error {
	return m.client.Call(ctx, http.MethodDelete, m.path(""), nil, nil, nil)
}

// Is reports whether an error is a problem of the cause, such as "no-member".
func Is(err error, cause string) bool {
	p, ok := asProblem(err)
	return ok && p.Type == "urn:steady-ferry:problem:"+cause
}

// Lag returns where groups are, the worst first: all, or those of a channel,
// or one.
func (c *Client) Lag(ctx context.Context, a address.Address) ([]Group, error) {
	q := url.Values{"limit": {strconv.Itoa(1000)}}
	if a.Space != "" {
		q.Set("address", a.String())
	}
	var p Page[Group]
	err := c.Call(ctx, http.MethodGet, "/lag", q, nil, &p)
	return p.Items, err
}
