package builtin

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"unitas/internal/balancer"
	"unitas/internal/conns"
	"unitas/internal/fleet/traffic"
	"unitas/internal/porttest"
)

// Speeds are compared with each other, one after the other in many short turns, since machines
// differ and are noisy.

const (
	callersAtOnce = 32
	turnOf        = 400 * time.Millisecond
	turns         = 9
)

// pace is what came of one turn.
type pace struct {
	perSecond float64
	p99       time.Duration
}

// ask sends a request on a connection and reads its answer.
func askOnce(c net.Conn, r *bufio.Reader, request []byte) error {
	if _, err := c.Write(request); err != nil {
		return err
	}
	length := 0
	for {
		line, err := r.ReadSlice('\n')
		if err != nil {
			return err
		}
		if len(line) == 2 {
			_, err := r.Discard(length)
			return err
		}
		if bytes.HasPrefix(bytes.ToLower(line), []byte("content-length:")) {
			_, _ = fmt.Sscan(string(line[15:]), &length)
		}
	}
}

// drive has 32 callers ask without a pause.
func drive(b *testing.B, address string, last time.Duration) pace {
	b.Helper()
	request := []byte("GET /sailings HTTP/1.1\r\nHost: saltmere.example\r\nUser-Agent: ferry\r\nAccept: */*\r\n\r\n")
	var all sync.WaitGroup
	took := make([][]time.Duration, callersAtOnce)
	until := time.Now().Add(last)
	begun := time.Now()
	for k := range callersAtOnce {
		all.Go(func() {
			c, err := net.Dial("tcp", address)
			if err != nil {
				b.Error(err)
				return
			}
			defer c.Close()
			r := bufio.NewReader(c)
			for at := time.Now(); at.Before(until); {
				if err := askOnce(c, r, request); err != nil {
					b.Error(err)
					return
				}
				now := time.Now()
				took[k] = append(took[k], now.Sub(at))
				at = now
			}
		})
	}
	all.Wait()
	whole := slices.Concat(took...)
	slices.Sort(whole)
	if len(whole) == 0 {
		b.Fatal("nothing was answered at " + address)
	}
	return pace{float64(len(whole)) / time.Since(begun).Seconds(), whole[len(whole)*99/100]}
}

func medianOf(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}

// bare is a bare httputil.ReverseProxy.
func bare(b *testing.B, target string) string {
	to, _ := url.Parse(target)
	server := httptest.NewServer(&httputil.ReverseProxy{
		Rewrite:       func(r *httputil.ProxyRequest) { r.SetURL(to); r.SetXForwarded() },
		Transport:     &http.Transport{MaxIdleConnsPerHost: 256, DisableCompression: true},
		FlushInterval: -1,
	})
	b.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

// inC is a proxy that is written in C, with a target, where one is installed; "" where not.
func inC(b *testing.B, target string) string {
	program, err := exec.LookPath("haproxy")
	if err != nil {
		return ""
	}
	address, file := porttest.Free(b), filepath.Join(b.TempDir(), "proxy.cfg")
	text := fmt.Sprintf("global\n nbthread %d\ndefaults\n mode http\n timeout connect 5s\n timeout client 60s\n timeout server 60s\n option forwardfor\nfrontend f\n bind %s\n default_backend b\nbackend b\n server one %s\n",
		runtime.GOMAXPROCS(0), address, strings.TrimPrefix(target, "http://"))
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	cmd := exec.Command(program, "-db", "-q", "-f", file)
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	waitFor(b, "the other proxy listens", func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	return address
}

// BenchmarkSpeeds compares what passes with a bare proxy, and with one in C.
func BenchmarkSpeeds(b *testing.B) {
	one := newSite(b, say("up"))
	many := newSite(b, slices.Repeat([]http.HandlerFunc{say("up")}, 100)...)
	ways := map[string]string{"one": one.address, "many": many.address, "bare": bare(b, one.servers[0].URL)}
	if at := inC(b, one.servers[0].URL); at != "" {
		ways["C"] = at
	}
	for b.Loop() {
		got := map[string][]float64{}
		for range turns {
			round := map[string]pace{}
			for _, way := range []string{"bare", "one", "many", "C"} {
				if ways[way] != "" {
					round[way] = drive(b, ways[way], turnOf)
				}
			}
			for _, way := range []string{"one", "many"} {
				got[way] = append(got[way], round[way].perSecond/round["bare"].perSecond)
			}
			got["p99"] = append(got["p99"], float64(round["one"].p99)/float64(round["bare"].p99))
			got["a second"] = append(got["a second"], round["one"].perSecond)
			if c := round["C"]; c.perSecond > 0 {
				got["C"] = append(got["C"], round["one"].perSecond/c.perSecond)
			}
		}
		b.ReportMetric(medianOf(got["one"]), "bare/1")
		b.ReportMetric(medianOf(got["many"]), "bare/100")
		b.ReportMetric(medianOf(got["p99"]), "p99/bare")
		b.ReportMetric(medianOf(got["a second"]), "requests/s")
		if len(got["C"]) > 0 {
			b.ReportMetric(medianOf(got["C"]), "C/1")
		}
	}
}

// BenchmarkBytes compares a connection of any protocol with a bare loop that copies.
func BenchmarkBytes(b *testing.B) {
	target := sink(b)
	f := newSite(b)
	f.targets = []balancer.Target{{Instance: "sink", Address: target, Open: true, Weight: 100}}
	f.apply()
	f.listen(func(l *traffic.Listener) { l.Protocol = traffic.TCP })
	loop := connected(b, func(near net.Conn) {
		far, err := net.Dial("tcp", target)
		if err != nil {
			return
		}
		defer far.Close()
		go func() { _, _ = io.Copy(far, near); _ = far.(*net.TCPConn).CloseWrite() }()
		_, _ = io.Copy(near, far)
	})
	for b.Loop() {
		var ratios []float64
		for range turns {
			bare := pour(b, loop)
			ratios = append(ratios, pour(b, f.address)/bare)
		}
		b.ReportMetric(medianOf(ratios), "loop/1")
	}
}

// sink takes bytes and says at the end how many.
func sink(b *testing.B) string {
	return connected(b, func(c net.Conn) {
		n, _ := io.Copy(io.Discard, c)
		fmt.Fprintln(c, n)
	})
}

// pour sends as many bytes as pass within a turn, and returns how many a second.
func pour(b *testing.B, address string) float64 {
	c, err := net.Dial("tcp", address)
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	part, begun := make([]byte, 256<<10), time.Now()
	for time.Since(begun) < turnOf {
		if _, err := c.Write(part); err != nil {
			b.Fatal(err)
		}
	}
	if l, ok := c.(*net.TCPConn); ok {
		_ = l.CloseWrite()
	}
	var n float64
	if _, err := fmt.Fscan(c, &n); err != nil {
		b.Fatal(err)
	}
	return n / time.Since(begun).Seconds()
}

// BenchmarkIdle tells what 10,000 connections take on which something was asked and nothing is.
func BenchmarkIdle(b *testing.B) {
	const n = 10_000
	for b.Loop() {
		f := newSite(b, say("up"))
		f.Listen(nil)
		f.guard = conns.New(conns.Bounds{}) // a quarter of the descriptors here may be fewer
		f.Listen([]balancer.Listener{f.listener})
		callers := exec.Command(os.Args[0], "-test.run", "TestIdleCallers", "-test.v")
		callers.Env = append(os.Environ(), "IDLE_AT="+f.address, fmt.Sprint("IDLE_N=", n))
		in, _ := callers.StdinPipe()
		before := heap()
		if err := callers.Start(); err != nil {
			b.Fatal(err)
		}
		waitFor(b, "they are there", func() bool { return f.Listening()[0].Connections >= n })
		waitFor(b, "they were answered", func() bool { return f.Listening()[0].Requests >= n })
		b.ReportMetric(float64(heap()-before)/(1<<20), "MiB/10000")
		in.Close()
		_ = callers.Wait()
	}
}

// heap is what is held, with the stacks.
func heap() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapInuse + m.StackInuse)
}

// TestIdleCallers is who calls in BenchmarkIdle, in a process of its own.
func TestIdleCallers(t *testing.T) {
	address := os.Getenv("IDLE_AT")
	if address == "" {
		return // only as a part of that
	}
	n := 0
	_, _ = fmt.Sscan(os.Getenv("IDLE_N"), &n)
	for k := range n {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+k%200))}, Timeout: 10 * time.Second}
		c, err := d.Dial("tcp", address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if err := askOnce(c, bufio.NewReaderSize(c, 512), []byte("GET / HTTP/1.1\r\nHost: h\r\n\r\n")); err != nil {
			t.Fatal(err)
		}
	}
	_, _ = io.ReadAll(os.Stdin)
}
