package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/cespare/xxhash/v2"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// digestStep is how many records one checksum of a digest covers.
const digestStep = 1024

// digest is the checksums of a stretch of a log, and the records of it that
// are damaged.
type digest struct {
	Sums []uint64 `json:"sums"`
	Lost []uint64 `json:"lost,omitempty"`
}

func digestOf(j *journal.Journal, ask journal.Indexes) (d digest, err error) {
	for at := ask.From; at < ask.To; {
		sum := xxhash.New()
		for end := min(at+digestStep, ask.To); at < end; {
			records, lost, err := j.Records(at, end, 4<<20)
			if err != nil || len(records) == 0 {
				return d, errors.Join(err, errors.New("the log ends early"))
			}
			d.Lost = append(d.Lost, lost...)
			var prefix [message.RecordPrefix]byte
			for _, r := range records {
				r.PutPrefix(prefix[:])
				sum.Write(prefix[:])
				sum.Write(r.Data)
			}
			at = records[len(records)-1].Index + 1
		}
		d.Sums = append(d.Sums, sum.Sum64())
	}
	return d, nil
}

// digest computes the checksums of the replica here; what it finds damaged is
// fetched again.
func (cl *Cluster) digest(p *part.Partition, g *replica.Group, ask journal.Indexes) (digest, error) {
	d, err := digestOf(g.Journal(), ask)
	if len(d.Lost) > 0 && !p.Alone() {
		cl.parts.WantRepair(p)
	}
	return d, err
}

// logState is where the log of a replica begins and ends.
type logState struct {
	FirstIndex uint64 `json:"firstIndex"`
	Committed  uint64 `json:"committed"` // index
	Last       uint64 `json:"last"`
	LastTerm   uint64 `json:"lastTerm"`
	First      int64  `json:"first"`
	End        int64  `json:"end"` // offset after all that it holds, committed or not
}

func stateOf(g *replica.Group) logState {
	committed := g.Committed()
	b := g.Journal().Bounds()
	return logState{FirstIndex: b.FirstIdx, Committed: committed, Last: b.LastIdx, LastTerm: b.LastTerm, First: b.First, End: b.Next}
}

// logStates asks all nodes that hold a partition where their logs end.
func (cl *Cluster) logStates(ctx context.Context, p *part.Partition) map[uint64]logState {
	states := peer.AskEach[logState](ctx, cl.peers, slices.Collect(cl.parts.Holders(p)), "log", peer.Raw(part.KeyBytes(p.Key())))
	if g := p.Replica(); g != nil {
		states[cl.id] = stateOf(g)
	}
	return states
}

// Verify compares the logs of all replicas of a partition, record by record,
// as far as all of them hold it and have it committed.
func (cl *Cluster) Verify(ctx context.Context, p *part.Partition) form.Verified {
	v := form.Verified{Address: p.Address(), Nodes: []string{}, Differs: []string{}, Damaged: map[string]int{}, Missing: []string{}}
	states := cl.logStates(ctx, p)
	var ask journal.Indexes
	for _, s := range states {
		ask.From = max(ask.From, s.FirstIndex)
		if ask.To == 0 || s.Committed+1 < ask.To {
			ask.To = s.Committed + 1
		}
	}
	for _, id := range cl.parts.Placed(p) {
		if _, ok := states[id]; !ok {
			v.Missing = append(v.Missing, cl.parts.NodeName(id))
		}
	}
	if ask.From >= ask.To {
		v.Equal = true // they hold nothing in common
		return v
	}
	v.Records = int64(ask.To - ask.From)
	digests := map[uint64]digest{}
	body, err := json.Marshal(ask)
	if err != nil {
		panic(err) // numbers
	}
	for id := range states {
		var d digest
		if id == cl.id {
			d, err = cl.digest(p, p.Replica(), ask)
		} else {
			var out []byte
			if out, err = cl.peers.Call(ctx, id, "digest", append(part.KeyBytes(p.Key()), body...)); err == nil {
				err = json.Unmarshal(out, &d)
			}
		}
		if err != nil {
			v.Problem = fmt.Sprintf("%s: %v", cl.parts.NodeName(id), err)
			continue
		}
		digests[id] = d
		v.Nodes = append(v.Nodes, cl.parts.NodeName(id))
		if len(d.Lost) > 0 {
			v.Damaged[cl.parts.NodeName(id)] = len(d.Lost)
		}
	}
	slices.Sort(v.Nodes)
	v.Differs = cl.parts.NodeNames(differing(digests))
	v.Equal = len(v.Differs) == 0 && len(v.Damaged) == 0 && v.Problem == ""
	return v
}

// differing returns the nodes whose checksums are not those of the most.
func differing(digests map[uint64]digest) (out []uint64) {
	votes := map[string]int{}
	most := ""
	for _, d := range digests {
		key := fmt.Sprint(d.Sums)
		votes[key]++
		if votes[key] > votes[most] {
			most = key
		}
	}
	for id, d := range digests {
		if fmt.Sprint(d.Sums) != most {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}
