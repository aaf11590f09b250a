package logbook

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"steadyferry/internal/core/chain"
	"steadyferry/internal/engine/catalog"
)

// Link is an entry with its place in the chain, as it goes to a topic.
type Link struct {
	Seq        int64           `json:"seq"`
	ID         int64           `json:"id"`
	At         time.Time       `json:"at"`
	Who        string          `json:"who"`
	Action     string          `json:"action"`
	Address    string          `json:"address"`
	Outcome    string          `json:"outcome"` // done, refused, failed, or announced: another entry tells what became of it
	Before     json.RawMessage `json:"before"`
	After      json.RawMessage `json:"after"`
	Credential string          `json:"credential"`
	CameFrom   string          `json:"cameFrom"`
	Hash       string          `json:"hash"`    // hexadecimal: of the hash of the link before, and Chained
	Chained    string          `json:"chained"` // docs/formats.md, The chain of the logbook
}

// Links are those of the chain behind a number, in their order, at most so many. What has a number has all before
// it in the records.
func Links(ctx context.Context, c *catalog.Catalog, after int64, most int) ([]Link, error) {
	rows, err := linksAfter(ctx, c, after, 1<<62, most)
	all := make([]Link, 0, len(rows))
	for i := range rows {
		r := &rows[i]
		all = append(all, Link{Seq: r.Seq, ID: r.ID, At: time.UnixMicro(r.At).UTC(), Who: r.Who, Action: r.Action, Address: r.Address, Outcome: r.Outcome, Before: orNull(r.Before), After: orNull(r.After),
			Credential: r.Credential, CameFrom: r.CameFrom, Hash: hex.EncodeToString(r.Hash), Chained: string(chain.Text(r.entry()))})
	}
	return all, err
}

func orNull(text *string) json.RawMessage {
	if text == nil {
		return json.RawMessage("null")
	}
	return json.RawMessage(*text)
}

func linksAfter(ctx context.Context, c *catalog.Catalog, after, until int64, most int) ([]linked, error) {
	return catalog.List[linked](ctx, c, `SELECT c.seq, c.hash, l.id, (extract(epoch FROM l.at) * 1000000)::bigint AS micros, l.who, l.action, l.address, l.outcome,
		l.before::text AS before, l.after::text AS after, l.credential, l.came_from
		FROM logbook_chain c JOIN logbook l ON l.id = c.entry WHERE c.seq > $1 AND c.seq <= $2 ORDER BY c.seq LIMIT $3`, after, until, most)
}

// Sent is how far a topic has the logbook.
type Sent struct {
	Began int64 `db:"began"` // it has what is behind this number
	Sent  int64 `db:"sent"`  // up to this one
}

// SentTo is how far a topic has the logbook; for one that has nothing yet it begins now.
func SentTo(ctx context.Context, c *catalog.Catalog, channel int64) (*Sent, error) {
	const known = `SELECT began, sent FROM logbook_sent WHERE channel_id = $1`
	sent, err := catalog.One[Sent](ctx, c, known, channel)
	if !errors.Is(err, catalog.ErrNotFound) {
		return sent, err
	}
	if err := c.Exec(ctx, `INSERT INTO logbook_sent (channel_id, began, sent) SELECT $1, seq, seq FROM logbook_ends ON CONFLICT DO NOTHING`, channel); err != nil {
		return nil, err
	}
	return catalog.One[Sent](ctx, c, known, channel)
}

// NoteSent records how far a topic has the logbook.
func NoteSent(ctx context.Context, c *catalog.Catalog, channel int64, s *Sent) error {
	return c.Exec(ctx, `UPDATE logbook_sent SET began = $2, sent = greatest(sent, $3) WHERE channel_id = $1`, channel, s.Began, s.Sent)
}
