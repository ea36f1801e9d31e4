// Package pgserver runs a private PostgreSQL on loopback, for a service that
// was not given a database of its own and for the tests.
package pgserver

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
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
)

// Server is a running private PostgreSQL.
type Server struct {
	dir      string
	bin      string
	port     int
	password string
	owner    *syscall.Credential // nil when this process may run it itself
	fsync    bool
}

// Start runs the cluster in dir, making it first when there is none; one that
// still runs there is used as it is. The directory is made, and handed to the
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
	}
	if err := s.makeCluster(ctx); err != nil {
		return nil, err
	}
	return s, s.Up(ctx)
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
func (s *Server) log() string          { return filepath.Join(s.dir, "postgresql.log") }

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
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("make the database's directory: %w", err)
	}
	s.password = rand.Text()
	if err := os.WriteFile(s.passwordFile(), []byte(s.password+"\n"), 0o600); err != nil {
		return err
	}
	if s.owner != nil {
		for _, p := range []string{s.dir, s.passwordFile()} {
			if err := os.Chown(p, int(s.owner.Uid), int(s.owner.Gid)); err != nil {
				return err
			}
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

// Up starts the server unless it runs, on the port it had before, and waits
// until it answers.
func (s *Server) Up(ctx context.Context) error {
	if port, ok := s.running(); ok {
		s.port = port
		return s.await(ctx)
	}
	if s.port == 0 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		s.port = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	options := fmt.Sprintf("-c listen_addresses=127.0.0.1 -c port=%d -c unix_socket_directories= -c max_connections=200 -c log_min_messages=fatal", s.port)
	if !s.fsync {
		options += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off"
	}
	if err := s.run(ctx, "pg_ctl", "start", "--pgdata", s.data(), "--log", s.log(), "--no-wait", "--silent", "-o", options); err != nil {
		return fmt.Errorf("%w (its log is %s)", err, s.log())
	}
	return s.await(ctx)
}

// running returns the port of a server that runs on the cluster already.
func (s *Server) running() (port int, ok bool) {
	raw, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	lines := strings.Split(string(raw), "\n")
	if err != nil || len(lines) < 4 {
		return 0, false
	}
	pid, _ := strconv.Atoi(strings.TrimSpace(lines[0]))
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || !strings.Contains(string(command), s.data()) {
		return 0, false // a pid that was used again
	}
	port, err = strconv.Atoi(strings.TrimSpace(lines[3]))
	return port, err == nil
}

func (s *Server) await(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	tick := time.NewTicker(25 * time.Millisecond)
	defer tick.Stop()
	for {
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
		Host: fmt.Sprintf("127.0.0.1:%d", s.port), RawQuery: "sslmode=disable"}
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
