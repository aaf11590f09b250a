package cluster

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// identity is the file node.json of a data directory: it says which member of
// which cluster the logs beside it belong to. A directory without it is a new
// member, whatever its name was used for before.
type identity struct {
	Directory string `json:"directory"`
	Cluster   string `json:"cluster"`
	Name      string `json:"name"`
}

func readIdentity(dir string) (*identity, error) {
	b, err := os.ReadFile(filepath.Join(dir, identityName))
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var id identity
	if err := json.Unmarshal(b, &id); err != nil || id.Directory == "" {
		return nil, fmt.Errorf("%s is damaged: %w; it says which member of the cluster the logs beside it belong to", filepath.Join(dir, identityName), err)
	}
	return &id, nil
}

const identityName = "node.json"

func (id *identity) write(dir string) error {
	b, err := json.Marshal(id)
	if err != nil {
		return err
	}
	path := filepath.Join(dir, identityName)
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(b, '\n'))
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// stillRuns is how long a node counts as running after it was last seen in
// the records.
const stillRuns = 12 * time.Second

// Joining is what a node says of itself when it joins the cluster of its records.
type Joining struct {
	Dir, Name, Zone string
	API, Peer       string // where clients, and other nodes, reach it
	Alone           bool   // it takes no connections of other nodes
}

// Join makes a node a member of the cluster of its records, and returns the id
// that it has there.
func Join(ctx context.Context, records *catalog.Catalog, logs *journal.Store, j Joining) (uint64, error) {
	id, err := readIdentity(j.Dir)
	if err != nil {
		return 0, err
	}
	cluster := records.View().Cluster.Cluster
	written := id
	if id == nil {
		if trees := logs.Trees(); len(trees) > 0 {
			return 0, fmt.Errorf("the data directory %s has logs (%s) and no %s, which says whose they are: put the file back from a backup of the directory, or start with an empty -dir and move the logs away by hand; as a new node it would not know what it has promised", j.Dir, words.Many(len(trees), "channel"), identityName)
		}
		id = &identity{Directory: uuid.NewString(), Cluster: cluster, Name: j.Name}
	}
	if id.Cluster != cluster {
		return 0, fmt.Errorf("the data directory %s belongs to another cluster than the database; use the database it was made with, or another -dir", j.Dir)
	}
	if id.Name != j.Name {
		return 0, fmt.Errorf("the data directory %s belongs to %s, not to %s; use -node %s, or another -dir", j.Dir, id.Name, j.Name, id.Name)
	}
	if j.Alone {
		for _, r := range records.View().Nodes {
			if r.Directory != id.Directory && r.Name != id.Name && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
				return 0, fmt.Errorf("the cluster of this database has other nodes (%s): give -peer-listen, so that they can talk to this one", r.Name)
			}
		}
	}
	record := &catalog.Node{Directory: id.Directory, Name: id.Name, Zone: j.Zone, API: j.API, Peer: j.Peer}
	err = records.Register(ctx, record, stillRuns)
	if errors.Is(err, catalog.ErrNameTaken) {
		return 0, fmt.Errorf("%w: %s; choose another -node, or wait %s if it was just killed and its directory is lost", err, j.Name, stillRuns)
	}
	if err != nil {
		return 0, err
	}
	switch record.State {
	case catalog.NodeRemoved:
		return 0, fmt.Errorf("%s was removed from the cluster: an empty -dir lets it join again, as a new member", id.Name)
	case catalog.NodeReplaced:
		return 0, fmt.Errorf("another data directory has taken the place of %s as %s: an empty -dir and another -node let it join as a new member", j.Dir, id.Name)
	}
	if written != nil {
		return record.ID, nil // on a full disk a node still starts, for reading
	}
	return record.ID, id.write(j.Dir)
}
