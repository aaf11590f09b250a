package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"steadyferry/internal/engine/postgres"
)

// restore makes the records of nodes anew, whose database is run by the one with the directory.
func restore(args []string) error {
	set := flag.NewFlagSet("ferryd restore", flag.ContinueOnError)
	dir := set.String("dir", "", "data `DIR` of the node that runs the database")
	set.Usage = func() {
		fmt.Fprint(set.Output(), "ferryd restore -dir DIR DUMP\n\nMakes the database in a data directory anew from what pg_dump -Fc has written. The one until now is set aside beside it;\nlogs are left as they are. Stop every ferryd of the cluster first.\n\n")
		set.PrintDefaults()
	}
	if err := set.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return err
		}
		return &usageError{err}
	}
	if *dir == "" || set.NArg() != 1 {
		return &usageError{errors.New("restore: -dir and the file of one dump are expected: ferryd restore -dir DIR DUMP")}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := os.MkdirAll(*dir, 0o700); err != nil {
		return err
	}
	unlock, err := lockDir(*dir)
	if err != nil {
		return err
	}
	defer unlock()
	aside, err := postgres.Restore(ctx, *dir, set.Arg(0))
	if err != nil {
		return err
	}
	fmt.Printf("the records in %s are those of %s; start every node again\n", *dir, set.Arg(0))
	if aside != "" {
		fmt.Printf("those until now are in %s: remove it when you need it no more, or put it in the place of %s/postgres to go back\n", aside, *dir)
	}
	return nil
}
