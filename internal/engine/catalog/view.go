package catalog

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/jmoiron/sqlx"
)

// View is a consistent copy of the records that nodes work with. It is never
// changed once made: the next one shares with it what has not changed.
type View struct {
	Version   int64
	Spaces    map[string]*Space
	Channels  map[string]*Channel // by address, without removed ones
	Removed   []*Channel
	Cluster   Cluster
	Nodes     map[uint64]*Node
	Placed    map[int64][]*Placement      // by channel and partition
	Groups    map[int64]map[string]*Group // by channel and name
	GroupIDs  map[int64]*Group
	Routes    map[int64][]*Group   // those groups that are routes, by channel
	RoutesIn  map[int64][]*Group   // the same, by the channel or endpoint that they lead to
	DeadOf    map[int64]*Channel   // that have the dead letters of groups, by group
	Endpoints map[string]*Endpoint // by address
	Watches   map[string]*Watch    // by address
	Chores    map[string]*Chore    // by address
	tokens    map[hash]*secret

	Principals map[string]*Principal // by address: principals/NAME
	Roles      map[string]*Role      // by address: roles/NAME, without those that are built in
	Grants     map[string]*Grant     // by address: grants/NAME
	Masks      map[string]*Mask      // by address: masks/NAME

	Forgotten map[int64]bool // channels that were deleted for good
	mark      string
	byID      map[int64]*Channel // also those that were removed
	spaces    map[int64]*Space
	endpoints map[int64]*Endpoint
	watches   map[int64]*Watch
	chores    map[int64]*Chore

	principals map[int64]*Principal
	roles      map[int64]*Role
	grants     map[int64]*Grant
	masks      map[int64]*Mask

	own map[int64]bool // channels whose maps of groups are not shared; while it is made
}

// Channel returns a channel by its id, or nil when it is gone or removed.
func (v *View) Channel(id int64) *Channel {
	if ch := v.byID[id]; ch != nil && !ch.RemovedAt.Valid {
		return ch
	}
	return nil
}

// Known reports whether there is a channel of the id, or was one that can be brought
// back.
func (v *View) Known(id int64) bool { return v.byID[id] != nil }

// head is the row that every change of the records raises.
type head struct {
	Version int64
	Mark    string
	Cluster
}

const headQuery = `SELECT version, mark, cluster, secret, watched, spread_leaders, logbook_to FROM catalog_version`

// keys are the rows that changed, by table; nil: all rows of all tables.
type keys map[string][]string

// table is one whose rows views have copies of: how rows are read, by keys or
// all of them, and how they come into a view.
type table struct {
	name string
	// into reads the rows whose keys satisfy the condition, and puts them into
	// the view, whose maps are its own.
	into func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error
	key  string // column, as the trigger notes it
	// own makes the maps that rows of the table go into the view's own, and
	// takes the rows with the keys out of them.
	own func(v *View, gone []string)
}

func read[T any](ctx context.Context, tx *sqlx.Tx, query string, args ...any) (rows []T, err error) {
	return rows, tx.SelectContext(ctx, &rows, query, args...)
}

func ids(keys []string) []int64 {
	out := make([]int64, 0, len(keys))
	for _, k := range keys {
		if id, err := strconv.ParseInt(k, 10, 64); err == nil {
			out = append(out, id)
		}
	}
	return out
}

// tables are in the order in which they are read: a channel needs its space.
var tables = []table{
	{"spaces", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*Space](ctx, tx, `SELECT * FROM spaces `+where, args...)
		for _, s := range rows {
			if err := json.Unmarshal(s.Stored, &s.Space); err != nil {
				return fmt.Errorf("the settings of space %s: %w", s.Name, err)
			}
			if s.Labels == nil {
				s.Labels = map[string]string{}
			}
			v.Spaces[s.Name], v.spaces[s.ID] = s, s
		}
		return err
	}, "id", func(v *View, gone []string) {
		v.Spaces, v.spaces = maps.Clone(v.Spaces), maps.Clone(v.spaces)
		for _, id := range ids(gone) {
			if s := v.spaces[id]; s != nil {
				delete(v.Spaces, s.Name)
				delete(v.spaces, id)
			}
		}
	}},
	{"channels", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*Channel](ctx, tx, `SELECT * FROM channels `+where, args...)
		for _, ch := range rows {
			if err := json.Unmarshal(ch.Stored, &ch.Channel); err != nil {
				return fmt.Errorf("the settings of channel %d: %w", ch.ID, err)
			}
			ch.Stored = nil
			if ch.Labels == nil {
				ch.Labels = map[string]string{}
			}
			if s := v.spaces[ch.SpaceID]; s != nil {
				ch.Space = s.Name
			}
			if v.byID[ch.ID] = ch; ch.RemovedAt.Valid {
				v.Removed = append(v.Removed, ch)
			} else {
				v.Channels[ch.Address()] = ch
				if ch.GroupID.Valid {
					v.DeadOf[ch.GroupID.Int64] = ch
				}
			}
		}
		return err
	}, "id", func(v *View, gone []string) {
		v.Channels, v.byID, v.Removed = maps.Clone(v.Channels), maps.Clone(v.byID), slices.Clone(v.Removed)
		v.DeadOf = maps.Clone(v.DeadOf)
		for _, id := range ids(gone) {
			ch := v.byID[id]
			if ch == nil {
				continue
			}
			if v.Channels[ch.Address()] == ch {
				delete(v.Channels, ch.Address())
			}
			if v.DeadOf[ch.GroupID.Int64] == ch {
				delete(v.DeadOf, ch.GroupID.Int64)
			}
			delete(v.byID, id)
			v.Removed = slices.DeleteFunc(v.Removed, func(r *Channel) bool { return r == ch })
		}
	}},
	endpointsTable,
	watchesTable,
	choresTable,
	principalsTable,
	rolesTable,
	grantsTable,
	masksTable,
	{"placements", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*Placement](ctx, tx, `SELECT * FROM placements `+where+` ORDER BY channel_id, partition`, args...)
		for _, p := range rows {
			v.Placed[p.ChannelID] = append(v.Placed[p.ChannelID], p)
		}
		return err
	}, "channel_id", func(v *View, gone []string) {
		v.Placed = maps.Clone(v.Placed)
		for _, id := range ids(gone) {
			delete(v.Placed, id)
		}
	}},
	{"groups", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*groupRow](ctx, tx, groupColumns+where, args...)
		for _, r := range rows {
			g, err := r.group()
			if err != nil {
				return fmt.Errorf("the settings of group %d: %w", r.ID, err)
			}
			v.groupsOf(g.ChannelID)[g.Name], v.GroupIDs[g.ID] = g, g
			if g.Route != nil {
				v.routed(g)
			}
		}
		return err
	}, "id", func(v *View, gone []string) {
		v.Groups, v.GroupIDs = maps.Clone(v.Groups), maps.Clone(v.GroupIDs)
		v.Routes, v.RoutesIn = maps.Clone(v.Routes), maps.Clone(v.RoutesIn)
		for _, id := range ids(gone) {
			g := v.GroupIDs[id]
			if g == nil {
				continue
			}
			of := v.groupsOf(g.ChannelID)
			if delete(of, g.Name); len(of) == 0 {
				delete(v.Groups, g.ChannelID)
				delete(v.own, g.ChannelID)
			}
			delete(v.GroupIDs, id)
			if g.Route != nil {
				v.unrouted(g)
			}
		}
	}},
	{"nodes", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*Node](ctx, tx, nodeColumns+` `+where, args...)
		for _, n := range rows {
			v.Nodes[n.ID] = n
		}
		return err
	}, "id", func(v *View, gone []string) {
		v.Nodes = maps.Clone(v.Nodes)
		for _, id := range ids(gone) {
			delete(v.Nodes, uint64(id))
		}
	}},
	{"forgotten_channels", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[int64](ctx, tx, `SELECT id FROM forgotten_channels `+where, args...)
		for _, id := range rows {
			v.Forgotten[id] = true
		}
		return err
	}, "id", func(v *View, gone []string) {
		v.Forgotten = maps.Clone(v.Forgotten)
		for _, id := range ids(gone) {
			delete(v.Forgotten, id)
		}
	}},
	{"secrets", func(ctx context.Context, tx *sqlx.Tx, v *View, where string, args ...any) error {
		rows, err := read[*secret](ctx, tx, secretColumns+where+` AND x.kind = 'token'`, args...)
		for _, s := range rows {
			v.tokens[hash(s.Hash)] = s
		}
		return err
	}, "hash", func(v *View, gone []string) {
		v.tokens = maps.Clone(v.tokens)
		for _, h := range hashes(gone) {
			delete(v.tokens, hash(h))
		}
	}},
}

// groupsOf returns the groups of a channel in a map of the view's own.
func (v *View) groupsOf(channel int64) map[string]*Group {
	if !v.own[channel] {
		of := maps.Clone(v.Groups[channel])
		if of == nil {
			of = map[string]*Group{}
		}
		v.Groups[channel], v.own[channel] = of, true
	}
	return v.Groups[channel]
}

// routed and unrouted put a route among those of its channel and those that lead where it
// does, and take it out; lists are not changed, since other views have them too.
func (v *View) routed(g *Group) {
	for by, id := range v.ends(g) {
		by[id] = append(slices.Clone(by[id]), g)
	}
}

func (v *View) unrouted(g *Group) {
	for by, id := range v.ends(g) {
		rest := slices.DeleteFunc(slices.Clone(by[id]), func(r *Group) bool { return r.ID == g.ID })
		if by[id] = rest; len(rest) == 0 {
			delete(by, id)
		}
	}
}

// ends goes through the two maps that a route is in, with its place there.
func (v *View) ends(g *Group) iter.Seq2[map[int64][]*Group, int64] {
	return func(yield func(map[int64][]*Group, int64) bool) {
		_ = yield(v.Routes, g.ChannelID) && yield(v.RoutesIn, g.Route.Target)
	}
}

// hashes reads keys of secrets, as bytea is in JSON: \x and digits.
func hashes(keys []string) (out [][]byte) {
	for _, k := range keys {
		if b, err := hex.DecodeString(strings.TrimPrefix(k, `\x`)); err == nil && len(b) == sha256.Size {
			out = append(out, b)
		}
	}
	return out
}

// standing is which rows of a table are in force, where not all are.
var standing = map[string]string{
	"secrets":            `(x.expires_at IS NULL OR x.expires_at > now())`,
	"forgotten_channels": fmt.Sprintf(`at > now() - %d * interval '1 second'`, int(forgottenKept.Seconds())),
}

// emptyView has maps and nothing in them.
func emptyView() *View {
	return &View{Spaces: map[string]*Space{}, Channels: map[string]*Channel{}, Nodes: map[uint64]*Node{}, Placed: map[int64][]*Placement{}, Groups: map[int64]map[string]*Group{},
		GroupIDs: map[int64]*Group{}, Routes: map[int64][]*Group{}, RoutesIn: map[int64][]*Group{}, DeadOf: map[int64]*Channel{}, Endpoints: map[string]*Endpoint{}, endpoints: map[int64]*Endpoint{}, Watches: map[string]*Watch{}, watches: map[int64]*Watch{}, Chores: map[string]*Chore{}, chores: map[int64]*Chore{}, tokens: map[hash]*secret{}, Forgotten: map[int64]bool{}, byID: map[int64]*Channel{}, spaces: map[int64]*Space{},
		Principals: map[string]*Principal{}, principals: map[int64]*Principal{}, Roles: map[string]*Role{}, roles: map[int64]*Role{}, Grants: map[string]*Grant{}, grants: map[int64]*Grant{}, Masks: map[string]*Mask{}, masks: map[int64]*Mask{}}
}

// next makes the view of a head from an older one and the rows that have
// changed since, or, without those, from all rows.
func next(ctx context.Context, tx *sqlx.Tx, h *head, old *View, changed keys) (*View, error) {
	v := emptyView()
	if changed != nil {
		*v = *old
	}
	v.Version, v.mark, v.Cluster, v.own = h.Version, h.Mark, h.Cluster, map[int64]bool{}
	for _, t := range tables {
		where, args := "", []any(nil)
		if changed != nil {
			rows := changed[t.name]
			if len(rows) == 0 {
				continue
			}
			t.own(v, rows)
			if where = t.key + ` = ANY($1)`; t.name == "secrets" {
				args = []any{hashes(rows)}
			} else {
				args = []any{ids(rows)}
			}
		}
		if in := standing[t.name]; in != "" && where != "" {
			where += " AND " + in
		} else if in != "" {
			where = in
		}
		if where != "" {
			where = "WHERE " + where
		}
		if err := t.into(ctx, tx, v, where, args...); err != nil {
			return nil, errors.Join(fmt.Errorf("%s", t.name), err)
		}
	}
	v.own = nil
	return v, nil
}
