package postgres

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

// initialise makes the data directory unless a finished one is there.
func (s *Server) initialise(urlFile, rights string, anew bool) error {
	_, versionErr := os.Stat(filepath.Join(s.dir, "PG_VERSION"))
	password, urlErr := passwordIn(urlFile)
	switch {
	case versionErr == nil && urlErr == nil:
		return nil
	case versionErr == nil:
		return fmt.Errorf("%s is missing, and with it the password of the database: %w", urlFile, urlErr)
	case urlErr == nil && !anew: // the address is written last
		return fmt.Errorf("there is an address in %s, and no database: put it back (ferryd restore sets the one until then aside, as %s-before-…), or take %s away to begin with empty records", urlFile, s.dir, urlName)
	}
	// What an interrupted first start left is begun again: nothing is in it.
	if err := os.RemoveAll(s.dir); err != nil {
		return err
	}
	if err := os.Mkdir(s.dir, 0o700); err != nil {
		return err
	}
	if s.identity != nil {
		if err := os.Chown(s.dir, int(s.identity.uid), int(s.identity.gid)); err != nil {
			return err
		}
	}
	if urlErr != nil {
		password = rand.Text()
	}
	cmd := s.command("initdb", "-D", s.dir, "-U", superuser, "-A", "reject", "-E", "UTF8", "--locale=C.UTF-8", "--no-instructions")
	out, err := cmd.CombinedOutput()
	if err == nil {
		// Before the server listens, and without anybody having to sign in.
		cmd = s.command("postgres", "--single", "-D", s.dir, "postgres")
		statements := []string{"CREATE ROLE " + role + " LOGIN" + rights + " PASSWORD '" + password + "'"}
		owner := role
		if rights == "" {
			owner = keeper
			statements = append(statements, "CREATE ROLE "+keeper, "GRANT "+keeper+" TO "+role+" WITH ADMIN OPTION")
		}
		statements = append(statements, "CREATE DATABASE "+role+" OWNER "+owner, "GRANT CREATE ON DATABASE "+role+" TO "+role, "")
		cmd.Stdin = strings.NewReader(strings.Join(statements, "\n"))
		out, err = cmd.CombinedOutput()
		if err == nil && bytes.Contains(out, []byte("ERROR:")) {
			err = errors.New("the roles could not be made")
		}
	}
	if err == nil {
		who := role
		if rights != "" {
			who = "all"
		}
		err = s.writeAccess(who)
	}
	if err != nil {
		os.RemoveAll(s.dir)
		return fmt.Errorf("%w: %s", err, bytes.TrimSpace(out))
	}
	return s.writeURL(urlFile, password)
}

const (
	role      = "ferry"
	keeper    = role + "_logbook" // what it owns, role gives up when it has made the logbook (logbook_apart)
	superuser = "keeper"          // no line of the access file lets it in
)

// passwordIn reads the password from the file with the address of the database.
func passwordIn(urlFile string) (string, error) {
	text, err := os.ReadFile(urlFile)
	if err != nil {
		return "", err
	}
	u, err := url.Parse(strings.TrimSpace(string(text)))
	if err != nil {
		return "", fmt.Errorf("%s: %w", urlFile, err)
	}
	password, _ := u.User.Password()
	if password == "" || strings.ContainsAny(password, "'\n\\") {
		return "", fmt.Errorf("%s has no password that was made here", urlFile)
	}
	return password, nil
}

// writeAccess says who may connect, and how.
func (s *Server) writeAccess(who string) error {
	path := filepath.Join(s.dir, "pg_hba.conf")
	if err := os.WriteFile(path, []byte("local all "+who+" scram-sha-256\n"), 0o600); err != nil {
		return err
	}
	if s.identity != nil {
		return os.Chown(path, int(s.identity.uid), int(s.identity.gid))
	}
	return nil
}
