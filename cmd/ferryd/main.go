// Command ferryd is the Steady Ferry service.
package main

import (
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
)

const usage = `ferryd runs the Steady Ferry service.

  ferryd serve [flags]   run a node
  ferryd demo  [flags]   run a node, or with -nodes several, with the demo's channels and traffic
  ferryd certs [flags]   make certificates for TLS between nodes
  ferryd rekey [flags]   seal the secrets of endpoints with another key, or print a new key
  ferryd restore [flags] DUMP  make the database that a node runs anew from a dump
  ferryd verify [flags]  compare the logs of all replicas, byte for byte, or with -logbook prove that the logbook is whole
  ferryd COMMAND -h      the flags of a command
`

func main() {
	if len(os.Args) < 2 {
		fmt.Fprint(os.Stderr, usage)
		os.Exit(2)
	}
	var err error
	switch command, args := os.Args[1], os.Args[2:]; command {
	case "serve":
		err = serve(args, nil)
	case "demo":
		err = demo(args)
	case "certs":
		err = certs(args)
	case "rekey":
		err = rekey(args)
	case "restore":
		err = restore(args)
	case "verify":
		err = verify(args)
	case "-h", "-help", "--help", "help":
		fmt.Print(usage)
	default:
		fmt.Fprintf(os.Stderr, "ferryd: there is no command %q\n\n%s", command, usage)
		os.Exit(2)
	}
	var wrong *usageError
	switch {
	case errors.Is(err, flag.ErrHelp):
		os.Exit(0)
	case errors.As(err, &wrong):
		fmt.Fprintln(os.Stderr, "ferryd:", err)
		os.Exit(2)
	case err != nil:
		slog.Error("ferryd stopped", "error", err)
		os.Exit(1)
	}
}

// usageError is an error of the command line, which ends with status 2.
type usageError struct{ error }
