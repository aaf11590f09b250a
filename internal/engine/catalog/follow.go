package catalog

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
)

// Delta is what differs between a view and the one before it.
type Delta struct {
	All      bool           // everything may; the rest does not count
	Channels map[int64]bool // whose record or placements differ, or that are gone
	Nodes    bool           // nodes differ
}

// mostChanged is how many rows are read one by one; of more all are read.
const mostChanged = 2000

// catchUp brings the view to where the records are when it is called. One who
// looks does it for all who wait meanwhile.
func (c *Catalog) catchUp(ctx context.Context) error {
	before := c.begun.Load()
	return c.inTurn(ctx, func() error {
		if c.ended > before {
			return nil // a step that began since then has seen what was there
		}
		return c.step(ctx, false)
	})
}

// inTurn runs f while nobody else follows the records.
func (c *Catalog) inTurn(ctx context.Context, f func() error) error {
	ctx, cancel := context.WithTimeout(ctx, statementTimeout)
	defer cancel()
	select {
	case c.turn <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-c.turn }()
	return f()
}

// step makes the next view: of the rows that changed since this one, or of all
// rows, where that is asked for or what changed is not known.
func (c *Catalog) step(ctx context.Context, all bool) error {
	number := c.begun.Add(1)
	view := c.View()
	var made *View
	var changed keys
	back := false
	err := c.InTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}, func(ctx context.Context, tx *sqlx.Tx) error {
		var h head
		if err := tx.GetContext(ctx, &h, headQuery); err != nil {
			return err
		}
		if view != nil && h.Version == view.Version && h.Mark == view.mark && !all {
			return nil
		}
		var err error
		if view != nil {
			if changed, back, err = since(ctx, tx, &h, view); err != nil {
				return err
			}
		}
		if all || back {
			changed = nil
		}
		made, err = next(ctx, tx, &h, view, changed)
		return err
	})
	if err != nil {
		return err
	}
	if c.ended = number; made == nil {
		return nil
	}
	if back {
		// Somebody has restored a backup. What the records no longer know is
		// set aside, and nothing of it is deleted.
		slog.Error("the catalog went back: it is older than the one that this node has seen", "version", made.Version, "seen", view.Version)
		c.wentBack.Store(view.Version)
	}
	c.view.Store(made)
	c.sessions.forget(changed)
	if view != nil {
		c.changed(deltaOf(changed))
	}
	return nil
}

// since returns the rows that changed after a view; nil when that is not known
// or they are many. The records went back when they never had what the view
// shows.
func since(ctx context.Context, tx *sqlx.Tx, h *head, view *View) (changed keys, back bool, err error) {
	if h.Version <= view.Version {
		return nil, h.Version < view.Version || h.Mark != view.mark, nil
	}
	var mark string
	err = tx.GetContext(ctx, &mark, `SELECT mark FROM commits WHERE version = $1`, view.Version)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, false, nil // it was long ago
	}
	if err != nil || mark != view.mark {
		return nil, err == nil, err
	}
	rows, err := read[struct{ Tbl, Key string }](ctx, tx, `SELECT DISTINCT d.tbl, d.key FROM commits c JOIN changed d ON d.xid = c.xid WHERE c.version > $1 LIMIT $2`, view.Version, mostChanged+1)
	if err != nil || len(rows) > mostChanged {
		return nil, false, err
	}
	changed = keys{}
	for _, r := range rows {
		changed[r.Tbl] = append(changed[r.Tbl], r.Key)
	}
	return changed, false, nil
}

func deltaOf(changed keys) Delta {
	if changed == nil {
		return Delta{All: true}
	}
	d := Delta{Channels: map[int64]bool{}, Nodes: len(changed["nodes"]) > 0}
	for _, name := range []string{"channels", "placements"} {
		for _, id := range ids(changed[name]) {
			d.Channels[id] = true
		}
	}
	return d
}

// Tidy lets go of what changed so long ago that no node follows from there
// (those read all rows), and of secrets that are over.
func (c *Catalog) Tidy(ctx context.Context) error {
	return c.InTx(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM commits WHERE version <= (SELECT version FROM catalog_version) - $1`, keptVersions); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secrets WHERE expires_at < now()`); err != nil {
			return err
		}
		if err := tidyEvents(ctx, tx); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM changed d WHERE at < now() - interval '1 hour' AND NOT EXISTS (SELECT 1 FROM commits c WHERE c.xid = d.xid)`)
		return err
	})
}

// keptVersions is how far behind a node may be and still read only what has
// changed.
const keptVersions = 10_000

const notifyChannel = "ferry_catalog"

// listen waits for word of changes made by other nodes.
func (c *Catalog) listen(ctx context.Context) {
	for ctx.Err() == nil {
		conn, err := pgx.Connect(ctx, c.url)
		if err == nil {
			_, err = conn.Exec(ctx, "LISTEN "+notifyChannel)
			for err == nil {
				c.askReload()
				_, err = conn.WaitForNotification(ctx)
			}
			closing, cancel := context.WithTimeout(context.Background(), time.Second)
			conn.Close(closing)
			cancel()
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (c *Catalog) askReload() {
	select {
	case c.reload <- struct{}{}:
	default:
	}
}

// follow keeps the view current: on word of a change, and now and then in
// case a word was lost.
func (c *Catalog) follow(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.reload:
		case <-time.After(5 * time.Second):
		}
		if err := c.refresh(ctx); err != nil && ctx.Err() == nil {
			slog.Debug("the catalog could not be read", "error", err)
		}
	}
}

// Refresh brings the view to where the records are. It asks the database at
// most ten times a second, whoever calls it.
func (c *Catalog) Refresh(ctx context.Context) error {
	if !c.asking.Allow() {
		return nil
	}
	return c.refresh(ctx)
}

// CatchUp brings the view to where the records are now.
func (c *Catalog) CatchUp(ctx context.Context) error { return c.catchUp(ctx) }

// Reload makes the view of all rows anew.
func (c *Catalog) Reload(ctx context.Context) error {
	return c.inTurn(ctx, func() error { return c.step(ctx, true) })
}

// refresh catches up, and says when the database goes and comes back.
func (c *Catalog) refresh(ctx context.Context) error {
	away := c.awaySince.Load() != 0
	err := c.catchUp(ctx)
	switch {
	case err != nil && !away && c.awaySince.Load() != 0:
		slog.Warn("the database with the catalog does not answer; publishing and reading go on", "error", err)
	case err == nil && away:
		slog.Info("the database with the catalog answers again")
	}
	return err
}
