package catalog

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"

	"steadyferry/internal/core/declare"
)

// Claim takes a name for as long as this process holds it, or reports that another
// one does. The database lets go of it when the process ends, however that is.
func (c *Catalog) Claim(ctx context.Context, name string) (release func(), ok bool, err error) {
	number := fnv.New64a()
	fmt.Fprint(number, name)
	key := int64(number.Sum64())
	err = c.within(ctx, func(ctx context.Context) error {
		conn, err := c.db.Connx(ctx)
		if err != nil {
			return err
		}
		if err := conn.GetContext(ctx, &ok, `SELECT pg_try_advisory_lock($1)`, key); err != nil || !ok {
			conn.Close()
			return errors.Join(ctx.Err(), err) // the driver says only that the connection is bad
		}
		release = func() {
			ctx, cancel := context.WithTimeout(context.Background(), statementTimeout)
			defer cancel()
			// What cannot be said is given up with the connection.
			if _, err := conn.ExecContext(ctx, `SELECT pg_advisory_unlock($1)`, key); err != nil {
				_ = conn.Raw(func(any) error { return err })
			}
			conn.Close()
		}
		return nil
	})
	return release, ok, err
}

// noted is what an entry tells of a thing after its change, with the declaration
// that made it, if one did.
func noted(ctx context.Context, after any) any {
	declaration, ok := declare.MadeBy(ctx)
	if !ok {
		return after
	}
	fields, _ := after.(map[string]any)
	if fields = maps.Clone(fields); fields == nil {
		fields = map[string]any{}
	}
	fields["declaration"] = declaration
	return fields
}
