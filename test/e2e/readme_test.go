package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/internal/machine/process"
	"unitas/internal/porttest"
)

// quarter is the README's first quarter of an hour: what stands in its blocks, each line a
// command, with lines that end in \ and loops as one.
func quarter(t *testing.T) []string {
	t.Helper()
	raw, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, found := strings.Cut(string(raw), "## The first quarter of an hour\n")
	text, _, end := strings.Cut(text, "\n## ")
	if !found || !end {
		t.Fatal("the README has no first quarter of an hour")
	}
	var all []string
	open := ""
	for _, line := range strings.Split(text, "\n") {
		line, block := strings.CutPrefix(line, "    ")
		if !block {
			continue
		}
		open += line + "\n"
		loop := strings.HasPrefix(open, "for ") && !strings.HasSuffix(open, "done\n")
		if strings.HasSuffix(line, `\`) || loop {
			continue
		}
		all = append(all, strings.TrimSpace(open))
		open = ""
	}
	return all
}

// TestReadme does the README's first quarter of an hour word for word. Only the addresses and
// directories are others, what is built is not built again, what goes on until Ctrl-C is
// broken off, and the question before the end is answered with yes.
func TestReadme(t *testing.T) {
	t.Parallel() // it mostly waits
	dir, err := os.MkdirTemp("", "unitas-readme-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil { // machines enter it
		t.Fatal(err)
	}
	data := filepath.Join(dir, "data")
	t.Cleanup(func() {
		process.EndAll(filepath.Join(data, "machines"))
		os.RemoveAll(dir)
	})
	listen, front := porttest.Free(t), porttest.Free(t)
	ours := strings.NewReplacer("/var/tmp/unitas", data, "/tmp/timetable-", filepath.Join(dir, "timetable-"), "127.0.0.1:7410", listen, "127.0.0.1:8000", front, "bin/", bin+"/")
	lines := quarter(t)
	if len(lines) < 18 {
		t.Fatalf("only %d commands were found: %q", len(lines), lines)
	}
	env := append(os.Environ(), "UNITAS_SERVER=http://"+listen, "UNITAS_CONFIG="+filepath.Join(dir, "none.yaml"))
	for _, line := range lines {
		switch {
		case strings.HasPrefix(line, "make "):
			continue
		case strings.HasPrefix(line, "bin/unitas serve "):
			serveReadme(t, strings.Fields(ours.Replace(line)+" --listen "+listen), listen, filepath.Join(data, "token"))
		case strings.HasPrefix(line, "export "):
			env = append(env, strings.TrimPrefix(ours.Replace(line), "export "))
		default:
			told(t, line, ours.Replace(line), env)
		}
	}
}

// serveReadme starts the service as the README does, and waits until it can be asked.
func serveReadme(t *testing.T, words []string, listen, token string) {
	t.Helper()
	var log bytes.Buffer
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("the service's log:\n%s", log.String())
		}
	})
	deadline := time.After(40 * time.Second)
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		res, err := http.Get("http://" + listen + "/readyz")
		if err == nil {
			res.Body.Close()
		}
		if _, missing := os.Stat(token); err == nil && res.StatusCode == http.StatusOK && missing == nil {
			return
		}
		select {
		case <-deadline:
			t.Fatalf("the service is not ready: %v", err)
		case <-tick.C:
		}
	}
}

// endless are commands that a person breaks off.
var endless = regexp.MustCompile(`--follow|group show .* --watch`)

// told gives a command to a shell, as it stands, and wants it to end well.
func told(t *testing.T, said, line string, env []string) {
	t.Helper()
	limit := 90 * time.Second
	if endless.MatchString(line) {
		limit = 2 * time.Second
	}
	if strings.Contains(line, "group delete") {
		line += " --yes"
	}
	c, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	cmd := exec.CommandContext(c, "bash", "-c", line)
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGINT) }
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.WaitDelay = 5 * time.Second
	cmd.Dir, cmd.Env = "../..", env
	out, err := cmd.CombinedOutput()
	if endless.MatchString(line) {
		if len(out) == 0 {
			t.Errorf("$ %s\nshowed nothing", said)
		}
		return
	}
	if err != nil || strings.Contains(line, "curl") && len(out) == 0 {
		t.Fatalf("$ %s\n%s", said, fmt.Sprint(err, "\n", string(out)))
	}
}
