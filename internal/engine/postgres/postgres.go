// Package postgres runs a PostgreSQL server of our own, in a data directory of
// our own, for installations that bring none. It listens on a Unix socket in
// that directory alone, which only its user enters; who asks must know a
// password and be answered by somebody who knows it too (SCRAM); and the role
// may use its database and nothing else: nobody can sign in as a superuser, or as
// the role that the logbook belongs to.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"
)

// Server is a running PostgreSQL server.
type Server struct {
	dir      string // PostgreSQL's data directory
	bin      string
	url      string
	socket   string    // directory of the socket, when the data directory's path is too long
	identity *identity // nil when we are not root

	mu       sync.Mutex
	stopping bool
	pid      int
	done     chan struct{} // closed when the supervisor has ended
}

// identity is the user as whom the server runs when we are root, which
// PostgreSQL refuses to be.
type identity struct {
	uid, gid     uint32
	capabilities []uintptr
}

const startTimeout = 30 * time.Second

// Start runs the server whose data directory is dir/postgres, making it at
// the first start, and keeps it running until Stop. A server that an earlier
// run left behind is adopted. Its address is written to dir/database.url.
func Start(ctx context.Context, dir string) (*Server, error) { return start(ctx, dir, "", false) }

// StartForTests is Start with a role that may make databases and roles, which may sign in too.
func StartForTests(ctx context.Context, dir string) (*Server, error) {
	return start(ctx, dir, " CREATEDB CREATEROLE", false)
}

// Names in the directory.
const (
	data    = "postgres"     // PostgreSQL's own directory
	urlName = "database.url" // the address, with the password
)

// start runs the server. Anew says that there is none yet, whatever address there is: it gets the password of
// that one.
func start(ctx context.Context, dir, rights string, anew bool) (*Server, error) {
	bin, err := findBinaries()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	s := &Server{dir: filepath.Join(dir, data), bin: bin, done: make(chan struct{})}
	if os.Geteuid() == 0 {
		if s.identity, err = postgresUser(dir); err != nil {
			return nil, err
		}
	}
	urlFile := filepath.Join(dir, urlName)
	if err := s.initialise(urlFile, rights, anew); err != nil {
		return nil, fmt.Errorf("set up PostgreSQL in %s: %w", s.dir, err)
	}
	if err := s.launch(ctx, urlFile); err != nil {
		return nil, err
	}
	go s.supervise(urlFile)
	return s, nil
}

// URL returns the address of the database, with its password.
func (s *Server) URL() string { return s.url }

func findBinaries() (string, error) {
	var dirs []string
	if found, err := filepath.Glob("/usr/lib/postgresql/*/bin"); err == nil {
		dirs = found
	}
	for i := len(dirs) - 1; i >= 0; i-- {
		if _, err := os.Stat(filepath.Join(dirs[i], "initdb")); err == nil {
			return dirs[i], nil
		}
	}
	if path, err := exec.LookPath("initdb"); err == nil {
		if path, err = filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(path), nil
		}
	}
	return "", errors.New("PostgreSQL is not installed: install the package postgresql, or name a database with -database URL")
}

// postgresUser returns the user for the server. When the way to dir is closed
// to that user, the server gets the right to walk through directories, and
// nothing more.
func postgresUser(dir string) (*identity, error) {
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, errors.New("PostgreSQL refuses to run as root, and there is no user postgres: install the package postgresql, run as another user, or name a database with -database URL")
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	id := &identity{uid: uint32(uid), gid: uint32(gid)}
	if open, err := walkable(dir); err != nil || open {
		return id, err
	}
	for _, c := range []uintptr{unix.CAP_DAC_READ_SEARCH, unix.CAP_DAC_OVERRIDE} {
		if held, _ := unix.PrctlRetInt(unix.PR_CAPBSET_READ, c, 0, 0, 0); held == 1 {
			id.capabilities = []uintptr{c}
			return id, nil
		}
	}
	return nil, fmt.Errorf("the user postgres may not enter %s: choose another -dir, or name a database with -database URL", dir)
}

// walkable reports whether every directory above dir, and dir, lets any user
// through.
func walkable(dir string) (bool, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return false, err
	}
	for {
		info, err := os.Stat(dir)
		if err != nil {
			return false, err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return false, nil
		}
		if parent := filepath.Dir(dir); parent != dir {
			dir = parent
			continue
		}
		return true, nil
	}
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	// Not in its own directory: the right to walk through closed ones holds
	// from the program on, not on the way to it.
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
	// A group of its own: a key press in our terminal is for us to handle.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if s.identity != nil {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: s.identity.uid, Gid: s.identity.gid}
		cmd.SysProcAttr.AmbientCaps = s.identity.capabilities
	}
	return cmd
}

// socketDir is where the server listens. The data directory is entered by its
// user alone; a path that is too long for a socket gets one of its own.
func (s *Server) socketDir() (string, error) {
	if len(s.dir) < 80 {
		return s.dir, nil
	}
	if s.socket != "" {
		return s.socket, nil
	}
	dir, err := os.MkdirTemp("", "ferry-socket-")
	if err == nil && s.identity != nil {
		err = os.Chown(dir, int(s.identity.uid), int(s.identity.gid))
	}
	s.socket = dir
	return dir, err
}

func (s *Server) address(password, socketDir string) string {
	q := url.Values{"host": {socketDir}, "sslmode": {"disable"}}
	u := url.URL{Scheme: "postgres", User: url.UserPassword(role, password), Path: "/" + role, RawQuery: q.Encode()}
	return u.String()
}

const scramOnly = "require_auth=scram-sha-256"

// demanding makes the address one that gives the password to nobody who asks for
// it in another way than by SCRAM. The file goes without, since not every
// pg_dump knows the parameter.
func demanding(address string) string {
	if strings.Contains(address, "require_auth=") {
		return address
	}
	return address + "&" + scramOnly
}

func (s *Server) writeURL(path, password string) error {
	dir, err := s.socketDir()
	if err != nil {
		return err
	}
	u := s.address(password, dir)
	s.url = demanding(u)
	if err := os.WriteFile(path+".new", []byte(u+"\n"), 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// plain is the address for programs that do not know how to demand SCRAM.
func (s *Server) plain() string { return strings.Replace(s.url, "&"+scramOnly, "", 1) }

// launch adopts a server that runs in our directory, or starts one.
func (s *Server) launch(ctx context.Context, urlFile string) error {
	b, err := os.ReadFile(urlFile)
	if err != nil {
		return err
	}
	u, err := url.Parse(strings.TrimSpace(string(b)))
	if err != nil {
		return fmt.Errorf("%s: %w", urlFile, err)
	}
	password, _ := u.User.Password()
	if pid, ok := s.running(); ok {
		s.url, s.pid = demanding(u.String()), pid
		if s.answers(ctx, 5*time.Second) == nil {
			slog.Info("adopted the PostgreSQL that an earlier run left", "pid", pid)
			return nil
		}
		slog.Warn("the PostgreSQL that an earlier run left does not answer; ending it", "pid", pid)
		end(pid)
	}
	if err := s.clearLock(ctx); err != nil {
		return err
	}
	if err := s.writeURL(urlFile, password); err != nil {
		return err
	}
	at, err := url.Parse(s.url)
	if err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(s.dir, "..", "postgres.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	cmd := s.command("postgres", "-D", s.dir, "-h", "", "-k", at.Query().Get("host"), "-c", "unix_socket_permissions=0700", "-c", "shared_buffers=32MB", "-c", "max_connections=60",
		"-c", "max_wal_size=256MB", "-c", "logging_collector=off", "-c", "log_min_messages=warning")
	cmd.Stdout, cmd.Stderr = logFile, logFile
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	go cmd.Wait()
	s.mu.Lock()
	s.pid = cmd.Process.Pid
	s.mu.Unlock()
	if err := s.answers(ctx, startTimeout); err != nil {
		said, _ := os.ReadFile(logFile.Name())
		return fmt.Errorf("PostgreSQL does not answer: %w; it said: %s", err, lastLines(said, 5))
	}
	return nil
}

func lastLines(b []byte, n int) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(len(lines)-n, 0):], " | ")
}

// running returns the process that the data directory's lock file names, if
// it is a PostgreSQL that lives.
func (s *Server) running() (pid int, ok bool) {
	b, err := os.ReadFile(filepath.Join(s.dir, "postmaster.pid"))
	if err != nil {
		return 0, false
	}
	line, _, _ := strings.Cut(string(b), "\n")
	pid, err = strconv.Atoi(strings.TrimSpace(line))
	if err != nil || pid <= 1 {
		return 0, false
	}
	cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return 0, false
	}
	want, err := filepath.EvalSymlinks(s.dir)
	return pid, err == nil && cwd == want
}

// clearLock removes the lock files of a server that was killed, once none of
// its processes works in the directory any more. The server itself would take
// a dead process that nobody has waited for as one that lives.
func (s *Server) clearLock(ctx context.Context) error {
	lock := filepath.Join(s.dir, "postmaster.pid")
	if _, err := os.Stat(lock); os.IsNotExist(err) {
		return nil
	}
	dir, err := filepath.EvalSymlinks(s.dir)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	for {
		left := 0
		links, err := filepath.Glob("/proc/[0-9]*/cwd")
		if err != nil {
			return err
		}
		for _, link := range links {
			if cwd, err := os.Readlink(link); err == nil && cwd == dir {
				left++
			}
		}
		if left == 0 {
			sockets, err := s.socketDir()
			if err != nil {
				return err
			}
			for _, name := range []string{".s.PGSQL.5432.lock", ".s.PGSQL.5432"} {
				if err := os.Remove(filepath.Join(sockets, name)); err != nil && !os.IsNotExist(err) {
					return err
				}
			}
			return os.Remove(lock)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%d processes of an earlier PostgreSQL still work in %s", left, s.dir)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (s *Server) answers(ctx context.Context, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		attempt, done := context.WithTimeout(ctx, 2*time.Second)
		conn, err := pgx.Connect(attempt, s.url)
		if err == nil {
			err = conn.Ping(attempt)
			conn.Close(attempt)
		}
		done()
		if err == nil {
			return nil
		}
		if !alive(s.pid) {
			return fmt.Errorf("it has ended: %w", err)
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func alive(pid int) bool { return syscall.Kill(pid, 0) == nil }

// end asks a server to stop at once and kills it if it does not.
func end(pid int) {
	syscall.Kill(pid, syscall.SIGQUIT)
	for range 50 {
		if !alive(pid) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	syscall.Kill(pid, syscall.SIGKILL)
	time.Sleep(100 * time.Millisecond)
}

// supervise starts the server again when it has ended without being asked.
// The socket stays the same, so that open pools find it again.
func (s *Server) supervise(urlFile string) {
	defer close(s.done)
	for {
		time.Sleep(time.Second)
		s.mu.Lock()
		stopping, pid := s.stopping, s.pid
		s.mu.Unlock()
		if stopping {
			return
		}
		if alive(pid) {
			continue
		}
		slog.Warn("PostgreSQL has ended; starting it again", "pid", pid)
		if err := s.launch(context.Background(), urlFile); err != nil {
			slog.Error("could not start PostgreSQL again; trying once more", "error", err)
			time.Sleep(2 * time.Second)
		}
	}
}

// Stop ends the server, waiting for it up to the deadline of the context.
func (s *Server) Stop(ctx context.Context) {
	s.mu.Lock()
	s.stopping = true
	pid := s.pid
	s.mu.Unlock()
	syscall.Kill(pid, syscall.SIGINT) // its fast shutdown
	for alive(pid) && ctx.Err() == nil {
		time.Sleep(20 * time.Millisecond)
	}
	if alive(pid) {
		end(pid)
	}
}
