package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/words"
	"steadyferry/internal/door/api"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/accounts"
	"steadyferry/internal/service/endpoints"
)

// outside reads where endpoints may be, and with which keys their secrets are kept.
func (c *config) outside(alone bool) (o endpoints.Config, err error) {
	if o.Networks, err = endpoint.ParseNetworks(c.networks); err != nil {
		return o, &usageError{fmt.Errorf("-outside-networks: %w", err)}
	}
	known := strings.Split(setting.Schemes, ", ")
	for one := range strings.SplitSeq(c.schemes, ",") {
		if one = strings.TrimSpace(one); one != "" && !slices.Contains(known, one) {
			return o, &usageError{fmt.Errorf("-outside-schemes: %q; allowed: %s", one, setting.Schemes)}
		} else if one != "" {
			o.Schemes = append(o.Schemes, one)
		}
	}
	if o.Keys, err = c.keys(alone); err != nil {
		return o, err
	}
	o.Agent, o.Origin = "steady-ferry/"+api.Version, "localhost"
	if names := c.hostNames(); len(names) > 0 {
		o.Origin = names[0]
	}
	return o, nil
}

// keysFile is in the directory of a node that makes its own key.
const keysFile = "seal.keys"

// keys reads those by which secrets are kept. A node that is alone makes one.
func (c *config) keys(alone bool) (seal.Ring, error) {
	path := c.sealKeys
	if path == "" && !alone {
		return nil, nil
	}
	if path == "" {
		path = filepath.Join(c.dir, keysFile)
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			if err := os.WriteFile(path, []byte("# Secrets of endpoints are kept by this key: without it they are lost.\n"+seal.NewKey()+"\n"), 0o600); err != nil {
				return nil, err
			}
		}
	}
	return readKeys(path)
}

// readKeys reads a file of keys, which nobody else may read.
func readKeys(path string) (seal.Ring, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, fmt.Errorf("-seal-keys: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("-seal-keys %s: others than its owner can read it (mode %04o): chmod 600 it", path, info.Mode().Perm())
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("-seal-keys: %w", err)
	}
	ring, err := seal.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("-seal-keys %s: %w", path, err)
	}
	return ring, nil
}

const rekeyTime = 5 * time.Minute

// rekey seals all secrets of endpoints, and of the codes of accounts, with the first key of a file.
func rekey(args []string) error {
	set := flag.NewFlagSet("ferryd rekey", flag.ContinueOnError)
	fresh := set.Bool("new", false, "only print a new key: put it as the first line into the file of -seal-keys, on every node")
	database := set.String("database", "", "`URL` of the database of the cluster's records")
	keys := set.String("seal-keys", "", "`FILE` with the keys: the first one seals, all open")
	set.Usage = func() {
		fmt.Fprint(set.Output(), "ferryd rekey -database URL -seal-keys FILE\n\nTo change the key: put a new one first into the file on every node and start them anew, one by one; then rekey;\nthen take the old one out.\n\n")
		set.PrintDefaults()
	}
	if err := set.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return err
		}
		return &usageError{err}
	}
	if *fresh {
		fmt.Println(seal.NewKey())
		return nil
	}
	if *database == "" || *keys == "" || set.NArg() > 0 {
		return &usageError{errors.New("rekey: -database and -seal-keys are expected, or -new")}
	}
	ring, err := readKeys(*keys)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), rekeyTime)
	defer cancel()
	records, err := catalog.Open(ctx, *database, func(catalog.Delta) {})
	if err != nil {
		return err
	}
	defer records.Close()
	anew, all, err := endpoints.Rekey(ctx, records, ring)
	fmt.Printf("%s with secrets; %d sealed anew with key %s\n", words.Many(all, "endpoint"), anew, strings.Split(ring.Names(), ", ")[0])
	if err != nil {
		return err
	}
	anew, all, err = accounts.Rekey(ctx, records, ring)
	fmt.Printf("%s; %d sealed anew\n", words.Many(all, "account"), anew)
	return err
}
