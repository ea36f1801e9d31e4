package probe

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"unitas/internal/certtest"
	"unitas/internal/fleet/health"
)

// BenchmarkProbes asks as fast as one goroutine can; BenchmarkBareLoop is the
// same without what makes it a probe. They are compared in one run.
func BenchmarkProbes(b *testing.B) {
	host, c := answering(b)
	a := newAsker()
	defer a.close()
	for b.Loop() {
		if got := a.once(host, c, true); !got.Good {
			b.Fatal(got.Why)
		}
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "probes/s")
}

func BenchmarkBareLoop(b *testing.B) {
	host, c := answering(b)
	url := fmt.Sprintf("http://%s:%d%s", host, c.Port, c.Path)
	client := &http.Client{Timeout: c.Timeout, Transport: &http.Transport{DisableCompression: true}}
	defer client.CloseIdleConnections()
	for b.Loop() {
		res, err := client.Get(url)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := io.ReadAll(res.Body); err != nil || res.StatusCode != http.StatusOK {
			b.Fatal(err, res.Status)
		}
		res.Body.Close()
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
}

func answering(b *testing.B) (host string, c health.Check) {
	b.Helper()
	server := httptest.NewServer(http.HandlerFunc(up))
	b.Cleanup(server.Close)
	host, port, _ := net.SplitHostPort(strings.TrimPrefix(server.URL, "http://"))
	c = health.Check{Kind: health.HTTP, Path: "/up", Timeout: 5 * time.Second}
	_, _ = fmt.Sscan(port, &c.Port)
	return host, c
}

func up(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "up") }

// many is how many targets BenchmarkManyTargets has; each has an address of its
// own. They are in other processes, so that only what the prober costs is
// measured, a half in each, so that no process needs a descriptor for all.
const many = 20_000

func addressOf(n int) string { return fmt.Sprintf("127.100.%d.%d", n/250, n%250+1) }

const (
	manyPort = "UNITAS_BENCH_TARGETS"
	manyHalf = "UNITAS_BENCH_HALF" // 0 or 1
	manyTLS  = "UNITAS_BENCH_TLS"  // a directory with a certificate
)

// TestMain is the process of the targets when it is asked to be: it listens on
// the port of every address, says so, and answers until it is killed.
func TestMain(m *testing.M) {
	port := os.Getenv(manyPort)
	if port == "" {
		os.Exit(m.Run())
	}
	server := &http.Server{Handler: http.HandlerFunc(up)}
	half, _ := strconv.Atoi(os.Getenv(manyHalf))
	for n := half; n < many; n += 2 { // in turns, so that neither has all that are kept
		l, err := net.Listen("tcp", addressOf(n)+":"+port)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		go func() {
			if dir := os.Getenv(manyTLS); dir != "" {
				_ = server.ServeTLS(l, dir+"/pem", dir+"/key")
				return
			}
			_ = server.Serve(l)
		}()
	}
	fmt.Println("ready")
	select {}
}

// BenchmarkManyTargets probes 20,000 targets at a 10-second interval and tells how
// many cores that takes, from the processor time of this process; and with TLS as many
// questions a second, of as many targets as have connections that are kept.
func BenchmarkManyTargets(b *testing.B) {
	b.Run("clear", func(b *testing.B) { manyTargets(b, many, 10*time.Second, health.HTTP, "") })
	b.Run("tls", func(b *testing.B) {
		dir := b.TempDir()
		certtest.Write(b, dir+"/pem", dir+"/key", 1)
		manyTargets(b, many/5, 2*time.Second, health.HTTPS, dir)
	})
}

func manyTargets(b *testing.B, targets int, interval time.Duration, kind health.Kind, certificate string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	runtime.LockOSThread() // whose end would end the targets
	for half := range 2 {
		server := exec.Command(os.Args[0])
		server.Env = append(os.Environ(), manyPort+"="+port, fmt.Sprintf("%s=%d", manyHalf, half), manyTLS+"="+certificate)
		server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		out, err := server.StdoutPipe()
		if err != nil {
			b.Fatal(err)
		}
		if err := server.Start(); err != nil {
			b.Fatal(err)
		}
		defer func() {
			_ = server.Process.Kill()
			_ = server.Wait()
		}()
		if said, _ := io.ReadAll(io.LimitReader(out, 6)); string(said) != "ready\n" {
			b.Fatalf("the targets are not there: %s", said)
		}
	}
	check := health.Check{Name: "up", Kind: kind, Path: "/up", Interval: interval, Timeout: min(interval, 5*time.Second), Passes: 1, Fails: 3}
	_, _ = fmt.Sscan(port, &check.Port)
	ill := make(chan string, many)
	p := New(func(instance string, r health.Report) {
		if r.Verdict != health.Healthy {
			ill <- r.Why
		}
	})
	for n := range targets {
		p.Watch(fmt.Sprint("timetable-", n), addressOf(n), check, health.Report{})
		if n%100 == 99 {
			time.Sleep(50 * time.Millisecond) // as they come up in life: not all at one moment
		}
	}
	time.Sleep(22 * time.Second) // every one has its phase, and whatever was late has caught up
	const span = 20 * time.Second
	asked, used, begun := p.Asked(), processorTime(), time.Now()
	time.Sleep(span)
	took := time.Since(begun)
	rate, cores := float64(p.Asked()-asked)/took.Seconds(), (processorTime()-used).Seconds()/took.Seconds()
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	p.Close()
	select {
	case why := <-ill:
		b.Errorf("of the healthy targets %d are found ill, one because %s", len(ill)+1, why)
	default:
	}
	b.ReportMetric(rate, "probes/s")
	b.ReportMetric(cores, "cores")
	b.ReportMetric(float64(memory.Sys)/(1<<20), "MiB")
}

func processorTime() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkForget forgets 1,000 instances of 20,000.
func BenchmarkForget(b *testing.B) {
	p := New(func(string, health.Report) {})
	defer p.Close()
	check := health.Check{Name: "up", Kind: health.TCP, Port: 1, Interval: time.Hour, Timeout: time.Second, Passes: 1, Fails: 1}
	var ids []string
	watch := func(n int) { p.Watch(fmt.Sprint("timetable-", n), "127.100.0.1", check, health.Report{}) }
	for n := range many {
		watch(n)
		if n%20 == 0 {
			ids = append(ids, fmt.Sprint("timetable-", n))
		}
	}
	for b.Loop() {
		p.Forget(ids...)
		b.StopTimer()
		for n := 0; n < many; n += 20 {
			watch(n)
		}
		b.StartTimer()
	}
	b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms/1000")
}
