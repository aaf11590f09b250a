package part

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// repair is the fetching of a partition's damaged records from other replicas.
type repair struct {
	mu     sync.Mutex
	done   chan struct{} // closed at the end of the one that runs; nil: none does
	next   time.Time     // not before
	failed int           // in a row
}

// Pauses after a repair that failed: the first, and the longest.
const (
	repairPause     = 5 * time.Second
	mostRepairPause = 10 * time.Minute
	repairTime      = 5 * time.Minute
)

// repairEnded is done already.
var repairEnded = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// WantRepair has the damaged records of the replica here fetched again from
// another one, in the background. The channel is closed when that has ended; a
// repair that has just failed is not tried again at once.
func (reg *Registry) WantRepair(p *Partition) <-chan struct{} {
	r := &p.repair
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.done != nil {
		return r.done
	}
	if time.Now().Before(r.next) || !reg.Serving() {
		return repairEnded
	}
	done := make(chan struct{})
	r.done = done
	reg.wg.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), repairTime)
		defer cancel()
		mended, err := reg.mend(ctx, p)
		r.mu.Lock()
		defer r.mu.Unlock()
		defer close(done)
		r.done = nil
		if mended > 0 {
			slog.Info("damaged records were fetched again from another replica", "partition", p.Address(), "records", mended)
		}
		if err == nil {
			r.failed, r.next = 0, time.Time{}
			return
		}
		pause := min(repairPause<<min(r.failed, 10), mostRepairPause)
		r.failed++
		r.next = time.Now().Add(pause)
		slog.Warn("damaged records could not be fetched again", "partition", p.Address(), "error", err, "next try in", pause)
	})
	return done
}

// mend goes through the log of the replica here and fetches what is damaged.
// It counts what it has written.
func (reg *Registry) mend(ctx context.Context, p *Partition) (mended int, err error) {
	g := p.Replica()
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
			got, err := reg.fetchRaw(ctx, p, lost[0], lost[0]+uint64(row))
			if err != nil {
				return mended, err
			}
			written := 0
			err = g.Do(ctx, func(j *journal.Journal) (err error) {
				written, err = j.Repair(got)
				return err
			})
			if err == nil && written == 0 {
				err = fmt.Errorf("record %d does not fit the place where it was", lost[0])
			}
			if err != nil {
				return mended, err
			}
			mended += written
			lost = lost[written:]
		}
		at = records[len(records)-1].Index + 1
	}
	return mended, ctx.Err()
}

// fetchRaw gets records from any other replica that has them whole.
func (reg *Registry) fetchRaw(ctx context.Context, p *Partition, from, to uint64) (records []message.Record, err error) {
	body, err := json.Marshal(journal.Indexes{From: from, To: to})
	if err != nil {
		return nil, err
	}
	err = errors.New("no other replica answers")
	for id := range reg.Holders(p) {
		var out []byte
		if out, err = reg.peers.Call(ctx, id, "raw", append(KeyBytes(p.Key()), body...)); err != nil {
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

func (reg *Registry) answerRaw(_ context.Context, _ uint64, p *Partition, body []byte) ([]byte, error) {
	g := p.Replica()
	var ask journal.Indexes
	if g == nil {
		return nil, ErrMoved
	}
	if err := json.Unmarshal(body, &ask); err != nil {
		return nil, err
	}
	records, lost, err := g.Journal().Records(ask.From, min(ask.To, g.Committed()+1), 16<<20)
	if err != nil {
		return nil, err
	}
	if len(lost) > 0 {
		reg.WantRepair(p)
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
