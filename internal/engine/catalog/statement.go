package catalog

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// statementTimeout bounds every use of the database.
const statementTimeout = 3 * time.Second

// within runs what uses the database within the time that a use may take, and
// turns its error into one of the catalog's.
func (c *Catalog) within(ctx context.Context, f func(ctx context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, statementTimeout)
	defer cancel()
	return c.fault(f(ctx))
}

// List returns the rows of a query.
func List[T any](ctx context.Context, c *Catalog, query string, args ...any) ([]T, error) {
	rows := []T{}
	err := c.within(ctx, func(ctx context.Context) error { return c.db.SelectContext(ctx, &rows, query, args...) })
	return rows, err
}

// One returns the row of a query, or ErrNotFound.
func One[T any](ctx context.Context, c *Catalog, query string, args ...any) (*T, error) {
	row := new(T)
	if err := c.within(ctx, func(ctx context.Context) error { return c.db.GetContext(ctx, row, query, args...) }); err != nil {
		return nil, err
	}
	return row, nil
}

// Exec runs a statement alone.
func (c *Catalog) Exec(ctx context.Context, statement string, args ...any) error {
	return c.within(ctx, func(ctx context.Context) error {
		_, err := c.db.ExecContext(ctx, statement, args...)
		return err
	})
}

// execFenced runs a statement that changes a row if its fence stands. It
// returns broken when it changes none.
func (c *Catalog) execFenced(ctx context.Context, broken error, statement string, args ...any) error {
	return c.within(ctx, func(ctx context.Context) error { return Fenced(ctx, c.db, broken, statement, args...) })
}

func Fenced(ctx context.Context, in sqlx.ExecerContext, broken error, statement string, args ...any) error {
	result, err := in.ExecContext(ctx, statement, args...)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(broken, err)
	}
	return nil
}

// InTx runs statements that hold all together or not at all.
func (c *Catalog) InTx(ctx context.Context, options *sql.TxOptions, f func(ctx context.Context, tx *sqlx.Tx) error) error {
	return c.within(ctx, func(ctx context.Context) error {
		tx, err := c.db.BeginTxx(ctx, options)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := f(ctx, tx); err != nil {
			return err
		}
		return tx.Commit()
	})
}
