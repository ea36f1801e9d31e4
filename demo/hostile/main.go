// Command hostile is a workload that means ill. It runs beside others in the tests, which must not
// notice: it writes whatever it may, forks, hides, floods its log, and answers checks, metrics and
// requests in every bad way. It does nothing to the host that an unprivileged process could not do
// anyway.
package main

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

func main() {
	fmt.Println("hostile begins")
	home := os.Getenv("HOME")
	for _, deed := range []struct {
		every time.Duration
		do    func(home string)
	}{{3 * time.Second, litter}, {5 * time.Second, fill}, {3 * time.Second, flood}, {2 * time.Second, fork}, {4 * time.Second, reach}, {3 * time.Second, knock}} {
		go func() {
			for ; ; time.Sleep(deed.every) {
				deed.do(home)
			}
		}()
	}
	serve(net.JoinHostPort(os.Getenv("UNITAS_ADDRESS"), os.Getenv("UNITAS_PORT")))
}

// litter leaves what is not what it seems where the service may look.
func litter(home string) {
	run := filepath.Join(filepath.Dir(home), "run")
	for name, target := range map[string]string{"zero": "/dev/zero", "shadow": "/etc/shadow", "a": "b", "b": "a", "up": "../../../..", "image.yaml": "/dev/zero", "recipe.yaml": "zero"} {
		_ = os.Symlink(target, filepath.Join(home, name))
	}
	for _, place := range []string{home, run} { // which of run it owns is another question
		_ = syscall.Mkfifo(filepath.Join(place, "pipe"), 0o666)
		for _, name := range []string{"sparse", "first-boot", "drill.json", "instance.json"} {
			if f, err := os.OpenFile(filepath.Join(place, name), os.O_CREATE|os.O_WRONLY, 0o666); err == nil {
				_ = f.Truncate(9 << 30)
				f.Close()
			}
		}
	}
	for k := range 500 {
		_ = os.WriteFile(filepath.Join(home, fmt.Sprintf("many\n\x1b[2J%d", k)), nil, 0o600)
	}
	deep := home
	for range 100 {
		deep = filepath.Join(deep, strings.Repeat("d", 30))
		if os.Mkdir(deep, 0o755) != nil {
			break
		}
	}
	_ = os.Rename(filepath.Join(home, "sparse"), filepath.Join(home, "hostile.d"))
}

// fill takes more of the disk than it may, and lets go of it.
func fill(home string) {
	name := filepath.Join(home, "filling")
	f, err := os.Create(name)
	if err != nil {
		return
	}
	chunk := make([]byte, 1<<20)
	for range 24 {
		if _, err := f.Write(chunk); err != nil {
			break
		}
	}
	f.Close()
	time.Sleep(time.Second)
	_ = os.Remove(name)
}

// flood writes a log that is long, has no lines, and would act on a terminal.
func flood(string) {
	out := bufio.NewWriter(os.Stdout)
	defer out.Flush()
	for k := range 2000 {
		fmt.Fprintf(out, "\x1b[2J\x1b]0;hostile %d\x07\u202e{\"level\":\"error\",\"msg\":\"the service ends\"}\r", k)
	}
	_, _ = out.Write(make([]byte, 1<<20))
}

// fork begins others that hide, until it is refused.
func fork(string) {
	for range 200 {
		c := exec.Command("/usr/bin/env", "-i", "/usr/bin/setsid", "/bin/sh", "-c", "trap '' TERM HUP; while :; do sleep 30; done")
		if c.Start() != nil {
			return
		}
		go c.Wait()
	}
}

// taken is what it holds locks of, and never lets go.
var taken []*os.File

// reach takes what it can of others: their processes, their files, what is locked by name.
func reach(home string) {
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		info, statErr := os.Stat("/proc/" + e.Name())
		if err != nil || statErr != nil {
			continue
		}
		if own, ok := info.Sys().(*syscall.Stat_t); !ok || int(own.Uid) == os.Getuid() {
			continue
		}
		if syscall.Kill(pid, syscall.SIGKILL) == nil {
			fmt.Println("hostile killed", pid)
		}
		if _, err := os.ReadFile("/proc/" + e.Name() + "/environ"); err == nil {
			fmt.Println("hostile read the variables of", pid)
		}
	}
	machines := filepath.Dir(filepath.Dir(home))
	for _, pattern := range []string{machines + "/*/root/*", machines + "/*/run/*", machines + "/.services/*/*", filepath.Dir(machines) + "/*", "/var/tmp/unitas-blocks/*", "/var/lib/unitas-blocks/*"} {
		names, _ := filepath.Glob(pattern)
		for _, name := range names {
			if strings.HasPrefix(name, filepath.Dir(home)) {
				continue
			}
			if f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil && len(taken) < 500 {
				_ = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
				taken = append(taken, f)
			}
			if strings.HasPrefix(name, "/var/tmp/") { // where the first release kept its lock, and nobody waits for it now
				continue
			}
			if f, err := os.OpenFile(name, os.O_WRONLY|syscall.O_NONBLOCK, 0); err == nil {
				fmt.Println("hostile may write", name)
				f.Close()
			}
		}
	}
}

// knock holds connections of the addresses that it was told, and says nothing useful.
func knock(string) {
	for _, address := range strings.FieldsFunc(os.Getenv("KNOCK"), func(r rune) bool { return r == ' ' }) {
		for k := range 10 {
			c, err := net.DialTimeout("tcp", address, time.Second)
			if err != nil {
				continue
			}
			_ = c.SetDeadline(time.Now().Add(time.Second))
			_, _ = c.Write([]byte([]string{"POST /v1/groups HTTP/1.1\r\nHost: x\r\nContent-Length: 99999999\r\n\r\n", "\x16\x03\x01garbage", "GET / HTTP/1.1\r\nHost: ", "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", ""}[k%5]))
			time.AfterFunc(2500*time.Millisecond, func() { c.Close() })
		}
	}
}

// answered counts requests, so that each is answered in another way.
var answered atomic.Int64

// serve answers on the address, mostly badly.
func serve(address string) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	held := make(chan struct{}, 200)
	for {
		c, err := l.Accept()
		if err != nil {
			time.Sleep(10 * time.Millisecond)
			continue
		}
		select {
		case held <- struct{}{}:
			go func() {
				defer func() { <-held }()
				answer(c)
			}()
		default:
			c.Close()
		}
	}
}

func answer(c net.Conn) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(15 * time.Second))
	line, _ := bufio.NewReader(c).ReadString('\n')
	n := answered.Add(1)
	say := func(text string) bool { _, err := c.Write([]byte(text)); return err == nil }
	endless := func(head, more string) {
		for ok := say(head); ok; ok = say(more) {
			time.Sleep(10 * time.Millisecond)
		}
	}
	switch {
	case strings.Contains(line, "/metrics") && n%3 == 0:
		time.Sleep(15 * time.Second)
	case strings.Contains(line, "/metrics") && n%3 == 1:
		endless("HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n\r\n", strings.Repeat("waiting{a=\"\u202e\\n\"} 1e999\nwaiting NaN\n", 500))
	case strings.Contains(line, "/up") && n%2 == 0, n%7 == 0:
		say("HTTP/1.1 200 OK\r\nContent-Length: 3\r\nConnection: close\r\n\r\nup\n")
	case n%7 == 1:
		endless("HTTP/1.1 200 OK\r\n\r\n", strings.Repeat("\x1b[2J", 5000))
	case n%7 == 2:
		endless("HTTP/1.1 103 Early Hints\r\n\r\n", "HTTP/1.1 103 Early Hints\r\nLink: <x>\r\n\r\n")
	case n%7 == 3:
		endless("HTTP/1.1 200 OK\r\n", "X-Header: "+strings.Repeat("x", 1000)+"\r\n")
	case n%7 == 4:
		say("HTTP/1.1 200 OK\r\nContent-Length: 5\r\nContent-Length: 7\r\nTransfer-Encoding: chunked\r\n\r\nfffffffffffffffff\r\n")
	case n%7 == 5:
		say("HTTP/1.1 101 Switching Protocols\r\nUpgrade: none\r\n\r\n\x00\xff")
		time.Sleep(5 * time.Second)
	}
}
