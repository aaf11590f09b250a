package journal

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// MoveTree takes all journals below a name, none of which may be open, to
// another directory on the same disk. It is durable when it returns.
func (s *Store) MoveTree(name, to string) error {
	// Nothing of them may come back out of the sync log.
	if err := s.log.settle(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.Rename(s.Path(name), to); err != nil {
		return err
	}
	return errors.Join(syncPath(s.dir), syncPath(filepath.Dir(to)))
}

// BringTree takes journals back that MoveTree took away.
func (s *Store) BringTree(from, name string) error {
	if _, err := os.Stat(s.Path(name)); err == nil {
		return fs.ErrExist
	}
	if err := os.Rename(from, s.Path(name)); err != nil {
		return err
	}
	return errors.Join(syncPath(s.dir), syncPath(filepath.Dir(from)))
}

// HasTree reports whether there are journals below a name.
func (s *Store) HasTree(name string) bool {
	_, err := os.Stat(s.Path(name))
	return err == nil
}
