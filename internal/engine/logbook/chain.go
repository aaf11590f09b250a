package logbook

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/chain"
	"steadyferry/internal/engine/catalog"
)

// Files of a node that prove how the logbook was.
const (
	HeadsFile = "logbook.heads" // a signed head a line, as JSON
	keyFile   = "logbook.key"   // the seed of the key that signs them, hexadecimal
)

// Kept is how long entries are kept unless it is said otherwise.
const Kept = 400 * 24 * time.Hour

// MostForgotten bounds the entries that are taken away in one step.
const MostForgotten = 5000

// Apart has the logbook be owned by another role than the one that writes it, where the database has
// one for that, and reports whether it is.
func Apart(ctx context.Context, c *catalog.Catalog) (is bool, err error) {
	err = c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &is, `SELECT logbook_apart()`)
	})
	return is, err
}

// Forget takes entries away that are older than they are kept, at most MostForgotten of them, and
// returns how many those were.
func Forget(ctx context.Context, c *catalog.Catalog, until time.Time) (gone int, err error) {
	err = c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		return tx.GetContext(ctx, &gone, `SELECT logbook_forget($1, $2)`, until, MostForgotten)
	})
	return gone, err
}

// Heads is the file of a node with how the logbook has ended now and then, as this node and the
// others have seen it. It may be used by many at once.
type Heads struct {
	dir  string
	node string
	key  ed25519.PrivateKey

	mu      sync.Mutex // guards the file, and the rest
	last    int64      // number of the last entry that this node has signed; -1: not known yet
	thinned time.Time  // when heads were dropped last
}

// OpenHeads returns the heads in a node's directory, with a key of its own, which is made at the
// first time.
func OpenHeads(dir, node string) (*Heads, error) {
	path := filepath.Join(dir, keyFile)
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		seed := make([]byte, ed25519.SeedSize)
		rand.Read(seed)
		text = []byte(hex.EncodeToString(seed) + "\n")
		err = os.WriteFile(path, text, 0o600)
	}
	if err != nil {
		return nil, err
	}
	seed, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("%s has no key: %d hexadecimal digits are expected", path, 2*ed25519.SeedSize)
	}
	return &Heads{dir: dir, node: node, key: ed25519.NewKeyFromSeed(seed), last: -1}, nil
}

// Keep writes down how the logbook ends now, if something has come to it, and returns that; once a
// day it drops heads of which there are enough. Entries are kept for so long.
func (h *Heads) Keep(ctx context.Context, c *catalog.Catalog, kept time.Duration) (signed *chain.Head, err error) {
	ends, err := endsOf(ctx, c)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if now := time.Now(); now.Sub(h.thinned) > chain.Fine {
		h.thinned = now
		if err := h.thin(now.Add(-kept)); err != nil {
			return nil, err
		}
	}
	if ends.Seq == h.last || ends.Seq == 0 {
		return nil, nil
	}
	head := chain.Head{Seq: ends.Seq, Hash: hex.EncodeToString(ends.Hash), At: time.Now().UTC().Truncate(time.Microsecond), Node: h.node}
	head.Sign(h.key)
	if err := h.write(&head); err != nil {
		return nil, err
	}
	h.last = ends.Seq
	return &head, nil
}

// KeepOf writes down how the logbook has ended as another node has seen it, so that whoever has
// that node's directory has not all that it has signed.
func (h *Heads) KeepOf(node string, head chain.Head) error {
	if head.Node != node || node == h.node || !head.Signed() {
		return fmt.Errorf("the head of entry %d is of %q and not one that node %q has signed", head.Seq, head.Node, node)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.write(&head)
}

// write adds a head to the file; the lock is held.
func (h *Heads) write(head *chain.Head) error {
	line, err := json.Marshal(head)
	if err != nil {
		return err
	}
	return appendLine(filepath.Join(h.dir, HeadsFile), line)
}

// appendLine adds a line to a file, behind the last that is whole.
func appendLine(path string, line []byte) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	tail := make([]byte, min(size, mostLine))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil {
		return err
	}
	end := size - int64(len(tail)) + int64(bytes.LastIndexByte(tail, '\n')+1)
	if _, err := f.WriteAt(append(line, '\n'), end); err != nil {
		return err
	}
	return errors.Join(f.Truncate(end+int64(len(line))+1), f.Sync())
}

// mostLine is more than a line of heads has.
const mostLine = 4096

// ReadHeads reads a file of heads. A last line that was cut off when the node ended is none.
func ReadHeads(path string) (all []chain.Head, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for number := 1; lines.Scan(); number++ {
		var h chain.Head
		if err = json.Unmarshal(lines.Bytes(), &h); err == nil {
			all = append(all, h)
			continue
		}
		if lines.Scan() {
			return nil, fmt.Errorf("%s, line %d, is no head: %w", path, number, err)
		}
	}
	return all, lines.Err()
}

// thin leaves of the heads those that are worth keeping, of which entries are kept since a time.
func (h *Heads) thin(since time.Time) error {
	path := filepath.Join(h.dir, HeadsFile)
	all, err := ReadHeads(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	kept := chain.Thin(all, time.Now(), since)
	if err != nil || len(kept) == len(all) {
		return err
	}
	var b bytes.Buffer
	lines := json.NewEncoder(&b)
	for _, one := range kept {
		if err := lines.Encode(one); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(b.Bytes())
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

func endsOf(ctx context.Context, c *catalog.Catalog) (chain.Ends, error) {
	type row struct {
		Seq      int64  `db:"seq"`
		Hash     []byte `db:"hash"`
		Gone     int64  `db:"gone"`
		GoneHash []byte `db:"gone_hash"`
	}
	rows, err := catalog.List[row](ctx, c, `SELECT seq, hash, gone, gone_hash FROM logbook_ends`)
	if err != nil {
		return chain.Ends{}, err
	}
	if len(rows) != 1 {
		return chain.Ends{}, errors.New("the records do not say where the logbook ends: the table logbook_ends has no row")
	}
	return chain.Ends(rows[0]), nil
}

// linked is an entry with its link of the chain, as text.
type linked struct {
	Seq        int64   `db:"seq"`
	Hash       []byte  `db:"hash"`
	ID         int64   `db:"id"`
	At         int64   `db:"micros"`
	Who        string  `db:"who"`
	Action     string  `db:"action"`
	Address    string  `db:"address"`
	Outcome    string  `db:"outcome"`
	Before     *string `db:"before"`
	After      *string `db:"after"`
	Credential string  `db:"credential"`
	CameFrom   string  `db:"came_from"`
}

func (l *linked) entry() *chain.Entry {
	id, at := strconv.FormatInt(l.ID, 10), strconv.FormatInt(l.At, 10)
	return &chain.Entry{Seq: l.Seq, Hash: l.Hash, Fields: []*string{&id, &at, &l.Who, &l.Action, &l.Address, &l.Outcome, l.Before, l.After, &l.Credential, &l.CameFrom}}
}

// pageSize is how many entries are looked at in one step.
const pageSize = 5000

// Verified is what a look at the logbook has found.
type Verified struct {
	Entries int64
	First   int64    // number of the oldest
	Last    int64    // number of the newest
	Heads   int      // signed heads that were compared
	Found   []string // what is wrong, in sentences; none: it is whole
	Owner   string   `db:"owner"` // the role that its tables belong to
	Role    string   `db:"role"`  // as which this was asked
}

// Verify looks through all entries, and compares them with heads that nodes have signed. Heads
// from before since are no proof of what is missing: entries are kept for a time.
func Verify(ctx context.Context, c *catalog.Catalog, heads []chain.Head, since time.Time) (*Verified, error) {
	out := &Verified{}
	// What comes meanwhile is not looked at.
	ends, err := endsOf(ctx, c)
	if err != nil {
		return nil, err
	}
	v := chain.NewVerifier(ends, heads, since)
	for last := ends.Gone; last < ends.Seq; {
		rows, err := linksAfter(ctx, c, last, ends.Seq, pageSize)
		if err != nil {
			return nil, err
		}
		if len(rows) == 0 {
			break
		}
		for i := range rows {
			if out.Entries == 0 {
				out.First = rows[i].Seq
			}
			out.Entries++
			v.Entry(rows[i].entry())
		}
		last = rows[len(rows)-1].Seq
		out.Last = last
	}
	out.Found, out.Heads = v.End()
	who, err := catalog.One[Verified](ctx, c, `SELECT tableowner AS owner, current_user AS role FROM pg_tables WHERE schemaname = current_schema() AND tablename = 'logbook'`)
	if err != nil {
		return nil, err
	}
	out.Owner, out.Role = who.Owner, who.Role
	loose, err := catalog.List[int64](ctx, c, `SELECT l.id FROM logbook l WHERE NOT EXISTS (SELECT 1 FROM logbook_chain c WHERE c.entry = l.id) ORDER BY l.id LIMIT 10`)
	if err != nil {
		return nil, err
	}
	for _, id := range loose {
		out.Found = append(out.Found, fmt.Sprintf("the entry with id %d was put in: it is no part of the chain", id))
	}
	return out, nil
}
