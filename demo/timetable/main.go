// Command timetable is the sample workload: it tells the sailings of Saltmere
// Line. It takes a moment to come up, answers on its own address, and finishes
// its requests when it is asked to end.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/signal"
	"runtime"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// The cache: what is in it, for how many days, and how long it takes to fill. LOOK_UP is how
// much longer an answer takes without.
const (
	daysAhead = 40
	cacheTime = 300 * time.Millisecond
)

var sailings = []string{"06:40 Saltmere – Gullhaven", "08:15 Saltmere – Thornsey", "11:30 Saltmere – Gullhaven"}

// release is set for each version that the demo builds.
var release = "1"

func main() {
	if err := run(); err != nil {
		fmt.Println("timetable:", err)
		os.Exit(1)
	}
}

func run() error {
	warmUp, err := time.ParseDuration(setting("WARM_UP", "2s"))
	if err != nil {
		return fmt.Errorf("WARM_UP: %w", err)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	var ready atomic.Bool
	address := net.JoinHostPort(setting("UNITAS_ADDRESS", "127.0.0.1"), setting("UNITAS_PORT", "8080"))
	fmt.Printf("timetable release %s, instance %s in %s, on %s\n", release, os.Getenv("UNITAS_INSTANCE"), os.Getenv("UNITAS_ZONE"), address)
	fmt.Printf("reading the sailings, which takes %s\n", warmUp)

	server := &http.Server{Addr: address, Handler: routes(&ready), ReadHeaderTimeout: 5 * time.Second}
	served := make(chan error, 1)
	go func() { served <- server.ListenAndServe() }()
	select {
	case <-time.After(warmUp):
	case <-ctx.Done():
	case err := <-served:
		return err
	}
	ready.Store(true)
	fmt.Println("ready")
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	fmt.Println("asked to end; finishing requests")
	grace, cancel := context.WithTimeout(context.Background(), 4*time.Second)
	defer cancel()
	if err := server.Shutdown(grace); err != nil && !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	fmt.Println("ended")
	return nil
}

func routes(ready *atomic.Bool) http.Handler {
	mux := http.NewServeMux()
	drill := &drill{file: os.Getenv("UNITAS_DRILL")}
	mux.HandleFunc("GET /up", func(w http.ResponseWriter, _ *http.Request) {
		switch {
		case setting("SAILINGS_FILE", "") != "":
			http.Error(w, "the sailings cannot be read: "+os.Getenv("SAILINGS_FILE")+" is not there", http.StatusServiceUnavailable)
		case !ready.Load():
			http.Error(w, "still reading the sailings", http.StatusServiceUnavailable)
		default:
			fmt.Fprintln(w, "up")
		}
	})
	var cached atomic.Bool
	lookUp, _ := time.ParseDuration(setting("LOOK_UP", "0s"))
	work, _ := time.ParseDuration(setting("WORK", "0s"))
	var asked atomic.Int64
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) { // in the text format of Prometheus
		fmt.Fprintf(w, "# HELP timetable_asked_total How often somebody asked for sailings.\n# TYPE timetable_asked_total counter\ntimetable_asked_total %d\n"+
			"# HELP timetable_sailings Sailings of today.\n# TYPE timetable_sailings gauge\ntimetable_sailings %d\n", asked.Load(), len(sailings))
	})
	mux.HandleFunc("POST /cache", func(w http.ResponseWriter, _ *http.Request) { // what a launch hook asks for
		time.Sleep(cacheTime)
		cached.Store(true)
		fmt.Fprintf(w, "%d sailings are in the cache\n", len(sailings)*daysAhead)
	})
	mux.HandleFunc("GET /", func(w http.ResponseWriter, r *http.Request) {
		if wait, err := time.ParseDuration(r.URL.Query().Get("wait")); err == nil { // for trying out drains
			select {
			case <-time.After(min(wait, 30*time.Second)):
			case <-r.Context().Done():
			}
		}
		asked.Add(1)
		burn(work)
		if lookUp > 0 && !cached.Load() { // each has to be looked up
			time.Sleep(lookUp)
		}
		if rand.Float64()*100 < share("SLOW_PERCENT") {
			time.Sleep(100 * time.Millisecond)
		}
		if rand.Float64()*100 < share("ERROR_PERCENT") {
			http.Error(w, "the sailings of today are not to be found", http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{
			"release": release, "instance": os.Getenv("UNITAS_INSTANCE"), "zone": os.Getenv("UNITAS_ZONE"),
			"cached": cached.Load(), "sailings": sailings,
		})
	})
	return drill.under(mux)
}

// burn works out the sailings anew for so long of a processor's time, for trying out sizes.
func burn(work time.Duration) {
	if work <= 0 {
		return
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	const ofThread = 1 // RUSAGE_THREAD
	spent := func() time.Duration {
		var u syscall.Rusage
		if syscall.Getrusage(ofThread, &u) != nil {
			return work
		}
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	sum := 1.0
	for from := spent(); spent()-from < work; {
		for n := range 2000 {
			sum += 1 / (sum + float64(n))
		}
	}
}

// share is a setting in percent: how many of all requests go wrong, for trying out gates.
func share(name string) float64 {
	p, _ := strconv.ParseFloat(setting(name, "0"), 64)
	return p
}

// drill is a fault that somebody makes on purpose: the file says how requests are
// to be answered for a time.
type drill struct {
	file string

	mu      sync.Mutex
	looked  time.Time
	present note
}

type note struct {
	Until        time.Time `json:"until"`
	SlowSeconds  float64   `json:"slow_seconds"`
	ErrorPercent int       `json:"error_percent"`
}

// now reads the file, at most every tenth of a second.
func (d *drill) now() note {
	d.mu.Lock()
	defer d.mu.Unlock()
	if now := time.Now(); now.Sub(d.looked) > 100*time.Millisecond {
		d.looked, d.present = now, note{}
		if raw, err := os.ReadFile(d.file); err == nil {
			_ = json.Unmarshal(raw, &d.present)
		}
	}
	if time.Now().After(d.present.Until) {
		return note{}
	}
	return d.present
}

func (d *drill) under(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := d.now()
		if n.SlowSeconds > 0 {
			select {
			case <-time.After(time.Duration(n.SlowSeconds * float64(time.Second))):
			case <-r.Context().Done():
			}
		}
		if rand.IntN(100) < n.ErrorPercent {
			http.Error(w, "a drill", http.StatusInternalServerError)
			return
		}
		h.ServeHTTP(w, r)
	})
}

func setting(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}
