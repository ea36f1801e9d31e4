package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/machine/process"
	"unitas/internal/mailcatch"
)

// service is the demo's own unitas serve.
type service struct {
	cmd              *exec.Cmd
	data, url, front string
	token            string
	api              *client.Client
	exited           chan struct{}
	receiver         *exec.Cmd // of the hook's messages
	post             *mailcatch.Catcher
}

// startReceiver starts the sample receiver of hook messages, and returns where it listens.
func (s *service) startReceiver(ctx context.Context, o options) (string, error) {
	listen := freeAddress("8099")
	log, err := os.Create(filepath.Join(o.data, "receiver.log"))
	if err != nil {
		return "", err
	}
	defer log.Close()
	s.receiver = exec.Command(filepath.Join(o.workloads, "receiver"), "-listen", listen, "-secret", s.secretFile())
	s.receiver.Stdout, s.receiver.Stderr = log, log
	s.receiver.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	if err := s.receiver.Start(); err != nil {
		return "", fmt.Errorf("start the receiver: %w", err)
	}
	return listen, poll(ctx, 10*time.Second, "the receiver to listen", func() (bool, error) {
		c, err := net.DialTimeout("tcp", listen, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil, nil
	})
}

func (s *service) secretFile() string { return filepath.Join(s.data, "warm-cache.secret") }

func startService(ctx context.Context, o options, more ...string) (*service, error) {
	if err := stopEarlier(ctx, o.data); err != nil {
		return nil, err
	}
	if err := os.RemoveAll(o.data); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(o.data, 0o755); err != nil {
		return nil, err
	}
	listen, front := freeAddress("7410"), freeAddress("8000")
	log, err := os.Create(filepath.Join(o.data, "service.log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s := &service{data: o.data, url: "http://" + listen, front: front, exited: make(chan struct{})}
	places := filepath.Join(o.data, "places.yaml")
	if err := os.WriteFile(places, []byte("regions:\n- {name: harbour, zones: [east-pier, mid-pier, west-pier]}\n- {name: headland, zones: [north-slip, south-slip]}\n"), 0o644); err != nil {
		return nil, err
	}
	say("starting the service on %s, with a private PostgreSQL on loopback", s.url)
	mail, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.post = mailcatch.Listen(mail, nil) // stands in for a mail server
	s.cmd = exec.Command(o.unitas, append([]string{"serve", "--data", o.data, "--listen", listen, "--places", places, "--mail-server", "smtp://" + mail.Addr().String()}, more...)...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // Ctrl-C is for the demo, which ends it in order
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the service: %w", err)
	}
	go func() {
		_ = s.cmd.Wait()
		close(s.exited)
	}()
	if err := os.WriteFile(s.pidFile(), []byte(strconv.Itoa(s.cmd.Process.Pid)), 0o600); err != nil {
		return nil, errors.Join(err, s.tidyUp())
	}
	if err := s.awaitReady(ctx); err != nil {
		return nil, errors.Join(err, s.tidyUp())
	}
	raw, err := os.ReadFile(filepath.Join(o.data, "token"))
	if err != nil {
		return nil, errors.Join(err, s.tidyUp())
	}
	s.token = strings.TrimSpace(string(raw))
	s.api, err = client.Connect(s.url, s.token)
	return s, err
}

func (s *service) pidFile() string { return filepath.Join(s.data, "service.pid") }

// stopEarlier ends the service of a demo that was killed.
func stopEarlier(ctx context.Context, data string) error {
	raw, err := os.ReadFile(filepath.Join(data, "service.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(string(raw))
	command, readErr := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || readErr != nil || !bytes.Contains(command, []byte(data)) {
		return killMachines(data)
	}
	say("ending the service of an earlier demo")
	_ = syscall.Kill(pid, syscall.SIGTERM)
	return errors.Join(poll(ctx, 20*time.Second, "the earlier service to end", func() (bool, error) {
		return syscall.Kill(pid, 0) != nil, nil
	}), killMachines(data))
}

func freeAddress(port string) string {
	l, err := net.Listen("tcp", "127.0.0.1:"+port)
	if err != nil {
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return "127.0.0.1:" + port
		}
	}
	defer l.Close()
	return l.Addr().String()
}

func (s *service) awaitReady(ctx context.Context) error {
	return poll(ctx, 60*time.Second, "the service to be ready", func() (bool, error) {
		select {
		case <-s.exited:
			raw, _ := os.ReadFile(filepath.Join(s.data, "service.log"))
			return false, fmt.Errorf("the service ended:\n%s", raw)
		default:
		}
		res, err := http.Get(s.url + "/readyz")
		if err != nil {
			return false, nil
		}
		res.Body.Close()
		return res.StatusCode == http.StatusOK, nil
	})
}

// tidyUp deletes the group, so that its machines drain and stop, ends the
// service, and makes sure that nothing is left.
func (s *service) tidyUp() error {
	ctx, cancel := context.WithTimeout(context.Background(), 40*time.Second)
	defer cancel()
	say("tidying up: the group drains and stops, then the service")
	if s.api != nil {
		whatever := "*"
		if _, _, err := client.Read[contract.Group](s.api.DeleteGroup(ctx, "timetable", &contract.DeleteGroupParams{IfMatch: &whatever})); err == nil {
			_ = poll(ctx, 20*time.Second, "the group to be gone", func() (bool, error) {
				_, _, err := client.Read[contract.Group](s.api.GetGroup(ctx, "timetable"))
				return client.Is(err, "not-found"), nil
			})
		}
	}
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exited:
	case <-ctx.Done():
		_ = s.cmd.Process.Kill()
		<-s.exited
	}
	if s.receiver != nil {
		_ = s.receiver.Process.Kill()
		_ = s.receiver.Wait()
	}
	return errors.Join(killMachines(s.data), os.Remove(s.pidFile()))
}

// killMachines ends what a service that was killed left behind.
func killMachines(data string) error {
	dir, err := filepath.Abs(data)
	if err != nil {
		return err
	}
	process.EndAll(filepath.Join(dir, "machines"))
	raw, err := os.ReadFile(filepath.Join(dir, "postgresql", "cluster", "postmaster.pid"))
	if err == nil {
		pid, _ := strconv.Atoi(strings.SplitN(string(raw), "\n", 2)[0])
		if command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid)); err == nil && bytes.Contains(command, []byte(dir)) {
			_ = syscall.Kill(pid, syscall.SIGQUIT)
		}
	}
	return nil
}

// poll looks until it is so, an error, or the time is up.
func poll(ctx context.Context, limit time.Duration, what string, look func() (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		so, err := look()
		if so || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("waiting for %s: %w", what, ctx.Err())
		case <-tick.C:
		}
	}
}
