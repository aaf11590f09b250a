package replica

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// The Raft id of a replica is the id of its node, and in the bits above the
// generation: how often the node has given its replica of the partition up.
// A replica that comes back with an empty log is another member, so that it
// never votes as if it still had what it once had. The file "generation"
// beside the segments has the number; without it, it is 0.
const (
	generationShift = 40
	generationName  = "generation"
)

// NodeOf returns the node of a Raft id.
func NodeOf(member uint64) uint64 { return member & (1<<generationShift - 1) }

func memberID(dir string, node uint64) (uint64, error) {
	b, err := os.ReadFile(filepath.Join(dir, generationName))
	if os.IsNotExist(err) {
		return node, nil
	}
	if err != nil {
		return 0, err
	}
	generation, err := strconv.ParseUint(strings.TrimSpace(string(b)), 10, 63-generationShift)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", filepath.Join(dir, generationName), err)
	}
	return node | generation<<generationShift, nil
}

// nextGeneration makes the replica another member from its next start on.
func nextGeneration(dir string) error {
	id, err := memberID(dir, 0)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, generationName)
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, id>>generationShift+1)
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err == nil {
		err = syncDir(dir)
	}
	return err
}

// up reports whether the node of a member answers.
func (g *Group) up(member uint64) bool { return g.sched.network.Up(NodeOf(member)) }

// byNode returns the membership with ids of nodes instead of members.
func (m *Membership) byNode() *Membership {
	nodes := func(ids []uint64) (out []uint64) {
		for _, id := range ids {
			if node := NodeOf(id); !slices.Contains(out, node) {
				out = append(out, node)
			}
		}
		return out
	}
	out := *m
	out.Lead = NodeOf(m.Lead)
	out.Voters, out.Leaving, out.Learners = nodes(m.Voters), nodes(m.Leaving), nodes(m.Learners)
	// A node that comes back as another member is shown once.
	out.Learners = slices.DeleteFunc(out.Learners, func(id uint64) bool { return slices.Contains(out.Voters, id) })
	out.Others = nil
	for _, o := range m.Others {
		o.Member = NodeOf(o.Member)
		if i := slices.IndexFunc(out.Others, func(have Follower) bool { return have.Member == o.Member }); i >= 0 {
			out.Others[i] = o // the newer one has the higher id, and comes later
			continue
		}
		out.Others = append(out.Others, o)
	}
	return &out
}
