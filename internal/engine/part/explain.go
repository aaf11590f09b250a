package part

import (
	"errors"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/replica"
)

// Explain turns errors of the layers below into problems.
func Explain(err error, address string) error {
	var already *problem.Problem
	var bounded *catalog.BoundedError
	switch {
	case err == nil || errors.As(err, &already):
		return err
	case errors.As(err, &bounded):
		return problem.New(problem.NoRoom, "%s: its space would have %v, and may have %d", address, bounded, bounded.Most).Next("remove what is not needed; who looks after the nodes can allow more: ferry set SPACE -most-%s NUMBER", bounded.What)
	case errors.Is(err, catalog.ErrAway):
		return problem.New(problem.CatalogAway, "%v", err).Next("publishing and reading go on; try again when the database is back")
	case errors.Is(err, catalog.ErrText):
		return problem.New(problem.Invalid, "%s: %v", address, catalog.ErrText).Allowed("text without U+0000")
	case errors.Is(err, catalog.ErrStale), errors.Is(err, catalog.ErrFenced):
		return problem.New(problem.Conflict, "%s was changed at the same time", address).Next("look at it again, then try again")
	case errors.Is(err, catalog.ErrNotFound):
		return problem.New(problem.NotFound, "%s was deleted meanwhile", address).Next("ferry list shows what exists")
	case errors.Is(err, replica.ErrDiskFull):
		return problem.New(problem.DiskFull, "%s: the disk of this node is full, nothing is taken", address).Next("make room, or lower what topics keep; publishing goes on by itself")
	case errors.Is(err, replica.ErrLostEnd):
		return problem.New(problem.Damaged, "%s: messages at its end were acknowledged and are gone from the disk; nothing is added behind them yet", address).Next("what is left can be read; put the files back and start the node again, or go on without what is lost: ferry nodes force-recover %s", address)
	case errors.Is(err, replica.ErrNoMajority):
		return problem.New(problem.NoMajority, "%s: %v", address, err).Next("ferry nodes tells which are away; what is kept can be read with -any-replica (any=true)")
	case errors.Is(err, replica.ErrNotLeading):
		return problem.New(problem.Unavailable, "%s has no leader now", address).Next("try again in a moment")
	case errors.Is(err, replica.ErrTime):
		return problem.New(problem.Unavailable, "%s: %v: whether it is kept is not known", address, replica.ErrTime).Next("look for it, or send the same again with the same publisher and sequence, which is kept once")
	case errors.Is(err, replica.ErrClosed), errors.Is(err, replica.ErrFailed):
		return problem.New(problem.Unavailable, "%s: %v", address, err).Next("try again in a moment")
	case errors.Is(err, message.ErrTooLarge):
		return problem.New(problem.TooLarge, "%s: %v", address, err).Next("raise it with: ferry set %s -max-body SIZE", address)
	}
	return err
}
