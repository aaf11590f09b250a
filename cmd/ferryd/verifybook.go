package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"steadyferry/internal/core/chain"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
)

// errNotWhole ends verify when the logbook is not as it was written.
var errNotWhole = errors.New("the logbook is not as it was written; the lines above say where")

// bookFlags are those of ferryd verify -logbook.
type bookFlags struct {
	do            bool
	dir, database string
	keep          time.Duration
}

// verify looks through the logbook, and compares it with the heads of a node's directory and of
// files that are named.
func (f *bookFlags) verify(ctx context.Context, files []string) error {
	if f.dir == "" && f.database == "" {
		return &usageError{errors.New("verify -logbook: -dir or -database says where the records are")}
	}
	var heads []chain.Head
	if f.dir != "" {
		files = append([]string{filepath.Join(f.dir, logbook.HeadsFile)}, files...)
	}
	for i, file := range files {
		some, err := logbook.ReadHeads(file)
		if errors.Is(err, fs.ErrNotExist) && i == 0 && f.dir != "" {
			fmt.Printf("%s: this node has signed nothing yet; what was cut off at the end is not seen\n", file)
			continue
		}
		if err != nil {
			return err
		}
		heads = append(heads, some...)
	}
	database, stop, err := f.records(ctx)
	if err != nil {
		return err
	}
	defer stop()
	records, err := catalog.Open(ctx, database, func(catalog.Delta) {})
	if err != nil {
		return err
	}
	defer records.Close()
	v, err := logbook.Verify(ctx, records, heads, time.Now().Add(-f.keep))
	if err != nil {
		return err
	}
	for _, one := range v.Found {
		fmt.Println("  -", one)
	}
	if v.Owner == v.Role {
		fmt.Printf("its tables belong to the role %s, which writes it: another one can own them (docs/access.md)\n", v.Owner)
	} else {
		fmt.Printf("its tables belong to the role %s: %s cannot change them\n", v.Owner, v.Role)
	}
	fmt.Printf("%s, %d to %d; compared with %s%s\n", words.Many(v.Entries, "entry", "entries"), v.First, v.Last, words.Many(v.Heads, "signed head"), keysOf(heads))
	if len(v.Found) > 0 {
		return errNotWhole
	}
	fmt.Println("nothing was changed, left out, put in or cut off")
	return nil
}

// keysOf names the keys with which heads were signed, so that they can be compared with those that
// were written down elsewhere.
func keysOf(heads []chain.Head) string {
	var all []string
	seen := map[string]bool{}
	for _, h := range heads {
		if !seen[h.Node+h.Key] {
			seen[h.Node+h.Key] = true
			all = append(all, h.Node+" with key "+h.Key)
		}
	}
	if len(all) == 0 {
		return ""
	}
	return " of " + strings.Join(all, ", ")
}

// records returns the URL of the records: what was given, that of the server which runs in the
// directory, or that of one that is started there for as long as this takes.
func (f *bookFlags) records(ctx context.Context) (url string, stop func(), err error) {
	if f.database != "" {
		return f.database, func() {}, nil
	}
	text, err := os.ReadFile(filepath.Join(f.dir, "database.url"))
	if err != nil {
		return "", nil, fmt.Errorf("%s has no database of its own: say -database URL: %w", f.dir, err)
	}
	unlock, err := lockDir(f.dir)
	if err != nil { // a node works there, and runs it
		return strings.TrimSpace(string(text)), func() {}, nil
	}
	_, end, err := (&config{dir: f.dir}).openDatabase(ctx)
	if err != nil {
		unlock()
		return "", nil, err
	}
	return strings.TrimSpace(string(text)), func() { end(); unlock() }, nil
}
