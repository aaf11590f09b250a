package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"steadyferry/client"
	"steadyferry/internal/core/address"
	"steadyferry/internal/engine/logbook"
)

// errDiffers ends verify when replicas are not equal.
var errDiffers = errors.New("not all replicas hold the same bytes; the lines above name them")

// verify asks a running cluster to compare what the replicas of its partitions
// hold, and prints what it finds.
func verify(args []string) error {
	fs := flag.NewFlagSet("ferryd verify", flag.ContinueOnError)
	book := bookFlags{keep: logbook.Kept}
	server := fs.String("server", cmp.Or(os.Getenv("FERRY_SERVER"), "127.0.0.1:14720"), "`ADDRESSES` of the service, separated by commas (FERRY_SERVER)")
	token := fs.String("token", "", "`TOKEN` to get in with (FERRY_TOKEN)")
	fs.BoolVar(&book.do, "logbook", false, "verify the logbook in place of replicas: with -dir of a node, or -database and the files of heads that follow")
	fs.StringVar(&book.dir, "dir", "", "of -logbook: data `DIR` of a node, with what it has signed, and with its database if it runs one")
	fs.StringVar(&book.database, "database", "", "of -logbook: `URL` of the database of the cluster's records")
	fs.Var(durationFlag{&book.keep}, "keep-logbook", "of -logbook: `DURATION` for which entries are kept")
	fs.SetOutput(io.Discard)
	if err := fs.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			fs.SetOutput(os.Stdout)
			fmt.Print("ferryd verify [flags] [TOPIC...]\nferryd verify -logbook -dir DIR [FILE...]\n\nCompares the logs of all replicas of the topics (of all topics, if none is named), record by record, by their\nchecksums: as far as every replica has them committed. Ends with status 1 if any differ or are damaged.\n\nWith -logbook it proves that no entry of the logbook was changed, left out, put in or cut off: by their hashes, and by the\nheads that nodes have signed once a minute (logbook.heads in their directories; those of other nodes can be named).\n\n")
			fs.PrintDefaults()
			return err
		}
		return &usageError{err}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if book.do {
		return book.verify(ctx, fs.Args())
	}
	api, err := client.New(*server, cmp.Or(*token, os.Getenv("FERRY_TOKEN")))
	if err != nil {
		return &usageError{err}
	}
	topics := fs.Args()
	if len(topics) == 0 {
		var page client.Page[client.Channel]
		if err := api.Call(ctx, http.MethodGet, "/channels", url.Values{"limit": {"1000"}}, nil, &page); err != nil {
			return err
		}
		for _, t := range page.Items {
			topics = append(topics, t.Address)
		}
	}
	equal := true
	for _, name := range topics {
		a, err := address.ParseChannel(name)
		if err != nil {
			return &usageError{err}
		}
		var page client.Page[client.Verified]
		if err := api.Call(ctx, http.MethodGet, client.ChannelPath(a)+"/verify", nil, nil, &page); err != nil {
			return err
		}
		for _, v := range page.Items {
			fmt.Println(verifiedLine(v))
			equal = equal && v.Equal
		}
	}
	if !equal {
		return errDiffers
	}
	return nil
}

func verifiedLine(v client.Verified) string {
	parts := []string{v.Address}
	if v.Equal {
		parts = append(parts, fmt.Sprintf("equal on %s", strings.Join(v.Nodes, ", ")))
	} else {
		parts = append(parts, "NOT EQUAL on "+strings.Join(v.Nodes, ", "))
	}
	parts = append(parts, fmt.Sprintf("%d records", v.Records))
	if len(v.Differs) > 0 {
		parts = append(parts, "differs on "+strings.Join(v.Differs, ", "))
	}
	names := make([]string, 0, len(v.Damaged))
	for name := range v.Damaged {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%d damaged on %s", v.Damaged[name], name))
	}
	if len(v.Missing) > 0 {
		parts = append(parts, "not compared with "+strings.Join(v.Missing, ", ")+", which does not answer")
	}
	if v.Problem != "" {
		parts = append(parts, v.Problem)
	}
	return strings.Join(parts, "; ")
}
