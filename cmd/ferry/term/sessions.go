package term

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// sessionsFile is where sessions are kept, below the user's configuration folder: nobody else
// may read it.
const sessionsFile = "steady-ferry/sessions.json"

// sessions are the tokens of sessions by server.
func sessions() (path string, all map[string]string, err error) {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "", nil, err
	}
	path, all = filepath.Join(folder, sessionsFile), map[string]string{}
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return path, all, nil
	}
	if err != nil {
		return path, nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return path, nil, fmt.Errorf("%s: others than its owner can read it (mode %04o): chmod 600 it", path, info.Mode().Perm())
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return path, nil, err
	}
	if err := json.Unmarshal(b, &all); err != nil {
		return path, nil, fmt.Errorf("%s is broken (%w): remove it, and sign in again", path, err)
	}
	return path, all, nil
}

func writeSessions(path string, all map[string]string) error {
	b, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(path+".new", append(b, '\n'), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// KeepSession keeps a session for servers, and returns where.
func KeepSession(servers []string, token string) (string, error) {
	path, all, err := sessions()
	if err != nil {
		return path, err
	}
	for _, s := range servers {
		all[s] = token
	}
	return path, writeSessions(path, all)
}

// ForgetSession forgets the session for servers, and returns it; empty: there is none.
func ForgetSession(servers []string) (token string, err error) {
	path, all, err := sessions()
	if err != nil {
		return "", err
	}
	for _, s := range servers {
		token = First(token, all[s])
		delete(all, s)
	}
	if token == "" {
		return "", nil
	}
	return token, writeSessions(path, all)
}

// keptSession is the session that is kept for the first server; empty: none.
func keptSession(servers []string) (string, error) {
	_, all, err := sessions()
	if err != nil || len(servers) == 0 {
		return "", err
	}
	return all[servers[0]], nil
}
