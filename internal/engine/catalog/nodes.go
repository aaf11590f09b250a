package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"steadyferry/internal/core/setting"
)

// IDs are ids of nodes in a jsonb column.
type IDs []uint64

// Scan reads the ids.
func (l *IDs) Scan(value any) error {
	switch b := value.(type) {
	case []byte:
		return json.Unmarshal(b, l)
	case string:
		return json.Unmarshal([]byte(b), l)
	}
	return fmt.Errorf("ids: unexpected %T", value)
}

func (l IDs) Column() []byte {
	if l == nil {
		return []byte("[]")
	}
	return column([]uint64(l))
}

// States of a node's record.
const (
	NodeMember   = "member"
	NodeDraining = "draining" // takes no new replicas, and those it has move away
	NodeRemoved  = "removed"
	NodeReplaced = "replaced" // its directory is gone; another has its name
)

// Node is the record of a node: of one data directory.
type Node struct {
	ID        uint64    `db:"id"`
	Directory string    `db:"directory"`
	Name      string    `db:"name"`
	Zone      string    `db:"zone"`
	API       string    `db:"api_address"`
	Peer      string    `db:"peer_address"`
	State     string    `db:"state"`
	CreatedAt time.Time `db:"made_at"`
	StartedAt time.Time `db:"started_at"`
	SeenAt    time.Time `db:"seen_at"`
}

// Placement says which nodes shall hold a partition.
type Placement struct {
	ChannelID int64         `db:"channel_id"`
	Partition int           `db:"partition"`
	BeganWith IDs           `db:"began_with"` // the voters before the first record of its log
	Replicas  IDs           `db:"replicas"`
	Epoch     uint64        `db:"epoch"`    // raised by a recovery by force
	Survivor  sql.NullInt64 `db:"survivor"` // the node from which it was recovered
}

// Cluster is what all nodes share.
type Cluster struct {
	Cluster       string `db:"cluster"`
	Secret        string `db:"secret"`
	Watched       bool   `db:"watched"` // they have got the watches that come by themselves
	SpreadLeaders bool   `db:"spread_leaders"`
	LogbookTo     string `db:"logbook_to"` // address of a topic; empty: none
}

// nodeColumns reads nodes. The time that stands for "does not run" is not one
// that Go knows.
const nodeColumns = `SELECT id, directory, name, zone, api_address, peer_address, state, made_at, started_at, CASE WHEN seen_at = '-infinity' THEN timestamptz 'epoch' ELSE seen_at END AS seen_at FROM nodes`

// ErrNameTaken is returned when a node with the name runs on another
// directory.
var ErrNameTaken = errors.New("a node of this name runs on another data directory")

// Register records a node that starts. An unknown directory is a new node; if
// a node of its name is recorded, that one's directory is taken to be lost,
// unless it still runs.
func (c *Catalog) Register(ctx context.Context, n *Node, running time.Duration) error {
	return c.Change(ctx, nil, func(ctx context.Context, tx *sqlx.Tx) error {
		var known Node
		err := tx.GetContext(ctx, &known, nodeColumns+` WHERE directory = $1`, n.Directory)
		if err == nil {
			n.ID, n.State = known.ID, known.State
			if n.State == NodeRemoved || n.State == NodeReplaced {
				return nil
			}
			_, err = tx.ExecContext(ctx, `UPDATE nodes SET zone = $2, api_address = $3, peer_address = $4, started_at = now(), seen_at = now() WHERE id = $1`, n.ID, n.Zone, n.API, n.Peer)
			return err
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		var old Node
		err = tx.GetContext(ctx, &old, nodeColumns+` WHERE name = $1 AND state IN ('member', 'draining') FOR UPDATE`, n.Name)
		switch {
		case err == nil && time.Since(old.SeenAt) < running:
			return ErrNameTaken
		case err == nil:
			if _, err := tx.ExecContext(ctx, `UPDATE nodes SET state = 'replaced' WHERE id = $1`, old.ID); err != nil {
				return err
			}
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		n.State = NodeMember
		n.ID = uint64(newID(nodeIDs))
		if _, err := tx.ExecContext(ctx, `INSERT INTO nodes (id, directory, name, zone, api_address, peer_address) VALUES ($1, $2, $3, $4, $5, $6)`,
			n.ID, n.Directory, n.Name, n.Zone, n.API, n.Peer); err != nil {
			return err
		}
		// Partitions from before there were several nodes are where the one
		// node was.
		only, err := json.Marshal([]uint64{n.ID})
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO placements (channel_id, partition, began_with, replicas)
			SELECT c.id, p, $1, $1 FROM channels c, generate_series(0, (c.settings->>'partitions')::int - 1) p ON CONFLICT DO NOTHING`, only)
		return err
	})
}

// Seen notes that a node runs.
func (c *Catalog) Seen(ctx context.Context, id uint64) error {
	return c.Exec(ctx, `UPDATE nodes SET seen_at = now() WHERE id = $1`, id)
}

// SeenSince returns the nodes that have noted within the time that they run.
func (c *Catalog) SeenSince(ctx context.Context, within time.Duration) (ids []uint64, err error) {
	return List[uint64](ctx, c, `SELECT id FROM nodes WHERE seen_at > now() - $1 * interval '1 second'`, within.Seconds())
}

// NotRunning takes a node that stops in order for one that does not run, so
// that its name is free at once.
func (c *Catalog) NotRunning(ctx context.Context, id uint64) error {
	return c.Exec(ctx, `UPDATE nodes SET seen_at = '-infinity' WHERE id = $1`, id)
}

// SetNodeState changes the state of a node's record.
func (c *Catalog) SetNodeState(ctx context.Context, id uint64, state string, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE nodes SET state = $2 WHERE id = $1`, id, state)
		return err
	})
}

// SetCluster changes what is set on all nodes together.
func (c *Catalog) SetCluster(ctx context.Context, is setting.Cluster, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE catalog_version SET spread_leaders = $1, logbook_to = $2`, is.SpreadLeaders, is.LogbookTo)
		return err
	})
}

// addPlacements records where partitions from a number on begin.
func addPlacements(ctx context.Context, tx *sqlx.Tx, channel int64, from int, placed [][]uint64) error {
	for i, ids := range placed {
		if _, err := tx.ExecContext(ctx, `INSERT INTO placements (channel_id, partition, began_with, replicas) VALUES ($1, $2, $3, $3) ON CONFLICT DO NOTHING`,
			channel, from+i, IDs(ids).Column()); err != nil {
			return err
		}
	}
	return nil
}

// Recover records that a partition goes on from one of its replicas alone.
func (c *Catalog) Recover(ctx context.Context, p Placement, survivor uint64, e *Entry) error {
	return c.Change(ctx, e, func(ctx context.Context, tx *sqlx.Tx) error {
		return Fenced(ctx, tx, ErrNotFound, `UPDATE placements SET epoch = epoch + 1, survivor = $3, replicas = $4 WHERE channel_id = $1 AND partition = $2 AND epoch = $5`,
			p.ChannelID, p.Partition, survivor, p.Replicas.Column(), p.Epoch)
	})
}

// dutyLock is the advisory lock of the one node that runs the duties of the
// whole cluster.
const dutyLock = 0x66657272 // "ferr"

// WhileOnDuty calls f while this node alone holds the duties of the cluster:
// until ctx ends, or the connection that holds them breaks, which ends f's
// context.
func (c *Catalog) WhileOnDuty(ctx context.Context, f func(ctx context.Context)) {
	for ctx.Err() == nil {
		if err := c.onDuty(ctx, f); err != nil && ctx.Err() == nil {
			slog.Debug("the duties of the cluster are not here", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (c *Catalog) onDuty(ctx context.Context, f func(ctx context.Context)) error {
	conn, err := pgx.Connect(ctx, c.url)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Close(closing)
	}()
	var held bool
	for !held {
		asking, cancel := context.WithTimeout(ctx, statementTimeout)
		err := conn.QueryRow(asking, `SELECT pg_try_advisory_lock($1)`, dutyLock).Scan(&held)
		cancel()
		if err != nil {
			return err
		}
		if !held {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Second):
			}
		}
	}
	var duty int64
	if err := conn.QueryRow(ctx, `UPDATE catalog_version SET duty = duty + 1 RETURNING duty`).Scan(&duty); err != nil {
		return err
	}
	on, cancel := context.WithCancel(context.WithValue(ctx, dutyKey{}, duty))
	done := make(chan struct{})
	go func() {
		defer close(done)
		f(on)
	}()
	defer func() {
		cancel()
		<-done
	}()
	for {
		asking, stop := context.WithTimeout(ctx, statementTimeout)
		err := conn.Ping(asking)
		stop()
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}
