package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"github.com/cespare/xxhash/v2"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/replica"
)

// digestStep is how many records one checksum of a digest covers.
const digestStep = 1024

// digest is the checksums of a stretch of a log, and the records of it that
// are damaged.
type digest struct {
	Sums []uint64 `json:"sums"`
	Lost []uint64 `json:"lost,omitempty"`
}

type digestAsk struct {
	From uint64 `json:"from"` // index
	To   uint64 `json:"to"`   // not included
}

func digestOf(j *journal.Journal, ask digestAsk) (d digest, err error) {
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
func (n *Node) digest(p *Partition, g *replica.Group, ask digestAsk) (digest, error) {
	d, err := digestOf(g.Journal(), ask)
	if len(d.Lost) > 0 && !p.alone() {
		n.wantRepair(p)
	}
	return d, err
}

func (n *Node) answerDigest(p *Partition, body []byte) ([]byte, error) {
	g := p.group.Load()
	if g == nil {
		return nil, errMoved
	}
	var ask digestAsk
	if err := json.Unmarshal(body, &ask); err != nil {
		return nil, err
	}
	d, err := n.digest(p, g, ask)
	if err != nil {
		return nil, err
	}
	return json.Marshal(d)
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

func (n *Node) answerLog(p *Partition) ([]byte, error) {
	g := p.group.Load()
	if g == nil {
		return nil, errMoved
	}
	return json.Marshal(stateOf(g))
}

// logStates asks all nodes that hold a partition where their logs end.
func (n *Node) logStates(ctx context.Context, p *Partition) map[uint64]logState {
	states := callEach[logState](ctx, n, slices.Collect(n.holders(p)), "log", keyBytes(p.key()))
	if g := p.group.Load(); g != nil {
		states[n.id] = stateOf(g)
	}
	return states
}

// Verified tells whether the replicas of a partition hold the same bytes.
type Verified struct {
	Partition int
	Nodes     []uint64 // that were compared
	Records   int64    // of the log, in the stretch that all of them hold
	Differs   []uint64 // nodes whose log is not that of most
	Damaged   map[uint64]int
	Missing   []uint64 // nodes that should hold it and did not answer
	Problem   string
}

// Verify compares the logs of all replicas of a partition, record by record,
// as far as all of them hold it and have it committed.
func (n *Node) Verify(ctx context.Context, p *Partition) Verified {
	v := Verified{Partition: p.Number, Damaged: map[uint64]int{}}
	states := n.logStates(ctx, p)
	var ask digestAsk
	for _, s := range states {
		ask.From = max(ask.From, s.FirstIndex)
		if ask.To == 0 || s.Committed+1 < ask.To {
			ask.To = s.Committed + 1
		}
	}
	for _, id := range n.placed(p) {
		if _, ok := states[id]; !ok {
			v.Missing = append(v.Missing, id)
		}
	}
	if ask.From >= ask.To {
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
		if id == n.id {
			d, err = n.digest(p, p.group.Load(), ask)
		} else {
			var out []byte
			if out, err = n.peers.Call(ctx, id, "digest", append(keyBytes(p.key()), body...)); err == nil {
				err = json.Unmarshal(out, &d)
			}
		}
		if err != nil {
			v.Problem = fmt.Sprintf("%s: %v", n.NodeName(id), err)
			continue
		}
		digests[id] = d
		v.Nodes = append(v.Nodes, id)
		if len(d.Lost) > 0 {
			v.Damaged[id] = len(d.Lost)
		}
	}
	slices.Sort(v.Nodes)
	v.Differs = differing(digests)
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

// wantRepair has the damaged records of the replica here fetched again from
// another one, in the background.
func (n *Node) wantRepair(p *Partition) {
	if !p.repair.CompareAndSwap(false, true) {
		return
	}
	n.wg.Go(func() {
		defer p.repair.Store(false)
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
		defer cancel()
		mended, err := n.repair(ctx, p)
		if err != nil {
			slog.Warn("damaged records could not be fetched again", "partition", p.Address(), "error", err)
		}
		if mended > 0 {
			slog.Info("damaged records were fetched again from another replica", "partition", p.Address(), "records", mended)
		}
	})
}

func (n *Node) repair(ctx context.Context, p *Partition) (mended int, err error) {
	g := p.group.Load()
	if g == nil {
		return 0, nil
	}
	b := g.Journal().Bounds()
	for at := b.FirstIdx; at <= g.Committed() && ctx.Err() == nil; {
		records, lost, err := g.Journal().Records(at, g.Committed()+1, 1<<20)
		if err != nil || len(records) == 0 {
			return mended, err
		}
		for len(lost) > 0 {
			// A row of them at a time.
			row := 1
			for row < len(lost) && lost[row] == lost[0]+uint64(row) {
				row++
			}
			got, err := n.fetchRaw(ctx, p, lost[0], lost[0]+uint64(row))
			if err != nil {
				return mended, err
			}
			if err := g.Do(ctx, func(j *journal.Journal) error { return j.Repair(got) }); err != nil {
				return mended, err
			}
			mended += len(got)
			lost = lost[row:]
		}
		at = records[len(records)-1].Index + 1
	}
	return mended, ctx.Err()
}

// fetchRaw gets records from any other replica that has them whole.
func (n *Node) fetchRaw(ctx context.Context, p *Partition, from, to uint64) (records []message.Record, err error) {
	body, err := json.Marshal(digestAsk{From: from, To: to})
	if err != nil {
		return nil, err
	}
	err = errors.New("no other replica answers")
	for id := range n.holders(p) {
		var out []byte
		if out, err = n.peers.Call(ctx, id, "raw", append(keyBytes(p.key()), body...)); err != nil {
			continue
		}
		records = nil
		for len(out) > 0 && err == nil {
			var r message.Record
			var size int
			if r, size, err = message.ReadRecord(out); err == nil {
				records = append(records, r)
				out = out[size:]
			}
		}
		if err == nil && len(records) > 0 && records[0].Index == from {
			return records, nil
		}
	}
	return nil, err
}

func (n *Node) answerRaw(p *Partition, body []byte) ([]byte, error) {
	g := p.group.Load()
	var ask digestAsk
	if g == nil {
		return nil, errMoved
	}
	if err := json.Unmarshal(body, &ask); err != nil {
		return nil, err
	}
	records, lost, err := g.Journal().Records(ask.From, min(ask.To, g.Committed()+1), 16<<20)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 {
		n.wantRepair(p)
		return nil, errors.New("they are damaged here too")
	}
	var out []byte
	for _, r := range records {
		var prefix [message.RecordPrefix]byte
		r.PutPrefix(prefix[:])
		out = append(append(out, prefix[:]...), r.Data...)
	}
	return out, nil
}
