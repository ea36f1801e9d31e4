// Package pgserver runs a private PostgreSQL for a service that was not given a
// database of its own and for the tests. It is reached through a socket in a
// directory that only its owner enters, so that nobody else on the machine can take
// its connections.
package pgserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/datadir"
)

// Server is a running private PostgreSQL.
type Server struct {
	dir      string
	bin      string
	sockets  string // the directory of its socket
	password string
	owner    *syscall.Credential // nil when this process may run it itself
	fsync    bool
	using    *datadir.Held // held by all who use it
}

// Start runs the cluster in dir, making it first when there is none; one that
// still runs there is used as it is, also beside other processes that use it. The directory is made, and handed to the
// postgres user when this process is root. With fsync off a crash of the
// machine loses data: that is for tests.
func Start(ctx context.Context, dir string, fsync bool) (*Server, error) {
	s := &Server{fsync: fsync}
	var err error
	if s.dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if s.bin, err = programs(); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 {
		if s.owner, err = postgresUser(); err != nil {
			return nil, err
		}
		if err := datadir.Enterable(filepath.Dir(s.dir), "PostgreSQL runs as the user postgres"); err != nil {
			return nil, err
		}
	}
	if err := s.makeSockets(); err != nil {
		return nil, err
	}
	// Whoever stops it has it for himself.
	if s.using, err = datadir.Lock(ctx, s.usingFile(), syscall.LOCK_SH); err != nil {
		return nil, fmt.Errorf("use the private PostgreSQL: %w", err)
	}
	err = s.alone(ctx, func() error { return s.makeCluster(ctx) })
	if err == nil {
		err = s.Up(ctx)
	}
	if err != nil {
		s.using.Close()
		return nil, err
	}
	return s, nil
}

// alone does something that no two services may do at once.
func (s *Server) alone(ctx context.Context, do func() error) error {
	held, err := datadir.Lock(ctx, filepath.Join(s.dir, "starting"), syscall.LOCK_EX)
	if err != nil {
		return fmt.Errorf("start the private PostgreSQL: %w", err)
	}
	defer held.Close()
	return do()
}

// Leave ends the use of the server, and stops it unless another service uses it.
func (s *Server) Leave(ctx context.Context) error {
	s.using.Close()
	last, err := datadir.TryLock(s.usingFile(), syscall.LOCK_EX)
	if errors.Is(err, datadir.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer last.Close()
	if err := s.Stop(ctx); err != nil {
		return err
	}
	if filepath.Dir(s.sockets) != s.dir { // a name of its own, since the data's was too long
		os.Remove(s.sockets)
	}
	return nil
}

// programs finds the newest installed server.
func programs() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		return "", errors.New("PostgreSQL's server programs are not installed; on Debian: apt-get install postgresql (or give --database)")
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

func postgresUser() (*syscall.Credential, error) {
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, err
}

func (s *Server) data() string         { return filepath.Join(s.dir, "cluster") }
func (s *Server) passwordFile() string { return filepath.Join(s.dir, "password") }
func (s *Server) usingFile() string    { return filepath.Join(s.dir, "using") }
func (s *Server) log() string          { return filepath.Join(s.dir, "postgresql.log") }

// longestSocketDir leaves room for the socket's name: a path of a socket has 107 bytes
// at most.
const longestSocketDir = 107 - len("/.s.PGSQL.5432.lock")

// makeSockets makes the directory of the socket: below the data, or, when that path
// is too long, one of a name that follows from it.
func (s *Server) makeSockets() error {
	s.sockets = filepath.Join(s.dir, "socket")
	if len(s.sockets) > longestSocketDir {
		sum := sha256.Sum256([]byte(s.dir))
		s.sockets = filepath.Join(os.TempDir(), "unitas-"+hex.EncodeToString(sum[:8]))
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("make the database's directory: %w", err)
	}
	if err := os.Mkdir(s.sockets, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("make the directory of the database's socket: %w", err)
	}
	own := uint32(os.Geteuid())
	if s.owner != nil {
		own = s.owner.Uid
		for _, d := range []string{s.dir, s.sockets} {
			if err := os.Chown(d, int(s.owner.Uid), int(s.owner.Gid)); err != nil {
				return err
			}
		}
	}
	info, err := os.Lstat(s.sockets)
	if err != nil {
		return err
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); !info.IsDir() || (ok && stat.Uid != own) || info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("%s is not a directory of the database's own that only its owner enters; remove it", s.sockets)
	}
	return nil
}

// makeCluster runs initdb unless it was run to its end before.
func (s *Server) makeCluster(ctx context.Context) error {
	if raw, err := os.ReadFile(s.passwordFile()); err == nil {
		if _, err := os.Stat(filepath.Join(s.data(), "PG_VERSION")); err == nil {
			s.password = strings.TrimSpace(string(raw))
			return nil
		}
	}
	if err := os.RemoveAll(s.data()); err != nil {
		return err
	}
	s.password = rand.Text()
	if err := os.WriteFile(s.passwordFile(), []byte(s.password+"\n"), 0o600); err != nil {
		return err
	}
	if s.owner != nil {
		if err := os.Chown(s.passwordFile(), int(s.owner.Uid), int(s.owner.Gid)); err != nil {
			return err
		}
	}
	// In a directory of another name first, so that a half-made cluster is never taken for one.
	half := s.data() + ".half"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	if err := s.run(ctx, "initdb", "--pgdata", half, "--username", "unitas", "--pwfile", s.passwordFile(), "--auth", "scram-sha-256",
		"--encoding", "UTF8", "--locale", "C.UTF-8", "--no-sync"); err != nil {
		return err
	}
	return os.Rename(half, s.data())
}

// run runs one of PostgreSQL's programs to its end.
func (s *Server) run(ctx context.Context, name string, args ...string) error {
	cmd := exec.CommandContext(ctx, filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C.UTF-8", "TZ=UTC"}
	// In a session of its own, so that a Ctrl-C meant for the service ends the
	// service first.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: s.owner}
	var out bytes.Buffer
	if name == "initdb" {
		cmd.Stdout, cmd.Stderr = &out, &out
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", name, err, strings.TrimSpace(out.String()))
	}
	return nil
}

// Up starts the server unless it runs, and waits until it answers.
func (s *Server) Up(ctx context.Context) error {
	return s.alone(ctx, func() error { return s.up(ctx) })
}

func (s *Server) up(ctx context.Context) error {
	switch sockets, ok := s.running(); {
	case ok && sockets == s.sockets:
		return s.await(ctx)
	case ok: // an earlier version of this program started it, elsewhere
		if err := s.Stop(ctx); err != nil {
			return err
		}
	}
	options := "-c listen_addresses= -c port=5432 -c unix_socket_directories='" + s.sockets + "' -c unix_socket_permissions=0700 -c max_connections=200 -c log_min_messages=fatal"
	if !s.fsync {
		options += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off"
	}
	if err := s.run(ctx, "pg_ctl", "start", "--pgdata", s.data(), "--log", s.log(), "--no-wait", "--silent", "-o", options); err != nil {
		return fmt.Errorf("%w (its log is %s)", err, s.log())
	}
	return s.await(ctx)
}

// running returns where the socket of a server is that runs on the cluster already.
func (s *Server) running() (sockets string, ok bool) {
	raw, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	lines := strings.Split(string(raw), "\n")
	if err != nil || len(lines) < 5 {
		return "", false
	}
	pid, _ := strconv.Atoi(strings.TrimSpace(lines[0]))
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(command), s.data()) {
		return "", false // a pid that was used again
	}
	return strings.TrimSpace(lines[4]), true
}

// How often it is looked whether the server runs, and how long at most it is waited
// after tries to start it that failed.
const (
	lookEvery = time.Second
	lastWait  = time.Minute
)

// Supervise brings the server back whenever it is down, until the context ends. It
// tries ever more slowly while that fails, as it does on a full disk.
func (s *Server) Supervise(ctx context.Context, log *slog.Logger) {
	wait := lookEvery
	timer := time.NewTimer(wait)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-timer.C:
		}
		if _, ok := s.running(); ok {
			wait = lookEvery
		} else {
			log.Warn("the private PostgreSQL is down and is started again", "log", s.log())
			if err := s.Up(ctx); err != nil && ctx.Err() == nil {
				wait = min(2*wait, lastWait)
				log.Error("the private PostgreSQL does not start; it is tried again", "in", wait, "error", err)
			} else if err == nil {
				wait = lookEvery
				log.Info("the private PostgreSQL is back")
			}
		}
		timer.Reset(wait)
	}
}

// startWithin is how soon after it was started the server must be seen to run.
const startWithin = 2 * time.Second

func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	tick := time.NewTicker(25 * time.Millisecond)
	defer tick.Stop()
	seen := time.Now()
	for {
		if _, ok := s.running(); ok {
			seen = time.Now()
		} else if time.Since(seen) > startWithin {
			return fmt.Errorf("the private PostgreSQL ended while it started (its log is %s)", s.log())
		}
		conn, err := pgx.Connect(ctx, s.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the private PostgreSQL does not answer: %w (its log is %s)", err, s.log())
		case <-tick.C:
		}
	}
}

// URL is the address of one of its databases.
func (s *Server) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("unitas", s.password), Path: "/" + database,
		RawQuery: url.Values{"host": {s.sockets}, "port": {"5432"}, "sslmode": {"disable"}}.Encode()}
	return u.String()
}

// Create makes a database unless it is there.
func (s *Server) Create(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(ctx, `select exists (select from pg_database where datname = $1)`, database).Scan(&there); err != nil || there {
		return err
	}
	_, err = conn.Exec(ctx, `create database `+pgx.Identifier{database}.Sanitize())
	return err
}

// Stop ends the server, with connections cut, and returns when it is down.
func (s *Server) Stop(ctx context.Context) error {
	if _, ok := s.running(); !ok {
		return nil
	}
	return s.run(ctx, "pg_ctl", "stop", "--pgdata", s.data(), "--mode", "fast", "--silent")
}
