package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// restoring is where a database is made anew, beside the one that it replaces.
const restoring = "postgres-restoring"

// stopTimeout bounds how long a server may take to end that was filled.
const stopTimeout = 30 * time.Second

// Restore makes the database in dir anew from what pg_dump -Fc has written. A server that runs there is
// ended: none that needs it may be at work. The database until now is set aside, under the name that is
// returned ("" when there was none). Until all of the dump is in the new one nothing is changed: what is half
// done is begun again.
//
// Whoever restores into a database must own all that is in it, which the role of the service does not: so it
// is another database, with the same password.
func Restore(ctx context.Context, dir, dump string) (aside string, err error) {
	if err := readable(dump); err != nil {
		return "", err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return "", err
	}
	old := &Server{dir: filepath.Join(dir, data)}
	if pid, runs := old.running(); runs {
		old.pid = pid
		old.end(ctx)
	}
	at := filepath.Join(dir, restoring)
	if err := os.RemoveAll(at); err != nil {
		return "", err
	}
	defer os.RemoveAll(at)
	if err := os.Mkdir(at, 0o711); err != nil {
		return "", err
	}
	before := filepath.Join(dir, urlName)
	if text, err := os.ReadFile(before); err == nil {
		if err := os.WriteFile(filepath.Join(at, urlName), text, 0o600); err != nil {
			return "", err
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	made, err := start(ctx, at, "", true)
	if err != nil {
		return "", err
	}
	err = made.fill(ctx, dump)
	made.end(ctx)
	if err != nil {
		return "", err
	}
	return swap(dir, at, before)
}

// readable says why a file cannot be a dump.
func readable(dump string) error {
	f, err := os.Open(dump)
	if err != nil {
		return err
	}
	defer f.Close()
	begin := make([]byte, len(magic))
	if _, err := io.ReadFull(f, begin); err != nil || string(begin) != magic {
		return fmt.Errorf("%s is no dump: pg_dump -Fc -f %s \"$(cat database.url)\" writes one", dump, filepath.Base(dump))
	}
	return nil
}

// magic is what files of pg_dump -Fc begin with.
const magic = "PGDMP"

func (s *Server) end(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTimeout)
	defer cancel()
	s.Stop(ctx)
}

// fill reads a dump into the database; one that ends with an error is of no use.
func (s *Server) fill(ctx context.Context, dump string) error {
	// What belonged to whom is for the service to say when it starts; the roles may have other names.
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, "pg_restore"), "--no-owner", "--no-privileges", "--exit-on-error", "-d", s.plain(), dump)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s could not be read into a database: %w: %s", dump, err, lastLines(bytes.TrimSpace(out), 3))
	}
	return nil
}

// swap puts the database in at into the place of the one in dir.
func swap(dir, at, urlFile string) (aside string, err error) {
	place := filepath.Join(dir, data)
	if _, err := os.Stat(place); err == nil {
		aside = place + "-before-" + time.Now().UTC().Format("20060102T150405Z")
		if err := os.Rename(place, aside); err != nil {
			return "", err
		}
	}
	if err := os.Rename(filepath.Join(at, data), place); err != nil {
		if aside != "" {
			err = errors.Join(err, os.Rename(aside, place))
		}
		return "", err
	}
	if _, err := os.Stat(urlFile); errors.Is(err, os.ErrNotExist) {
		return aside, os.Rename(filepath.Join(at, urlName), urlFile)
	}
	return aside, nil
}
