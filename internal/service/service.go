// Package service puts the rooms together: it opens the stores and drivers,
// runs the control and serves the interface until it is told to stop.
package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"
	_ "time/tzdata" // hours of the day at places, on hosts that know none

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"unitas/internal/api"
	"unitas/internal/balancer/builtin"
	"unitas/internal/catalogue"
	"unitas/internal/caught"
	"unitas/internal/certificates"
	"unitas/internal/clock"
	"unitas/internal/conns"
	"unitas/internal/control"
	"unitas/internal/datadir"
	"unitas/internal/drill"
	"unitas/internal/feed"
	"unitas/internal/image"
	"unitas/internal/machine/process"
	"unitas/internal/notice"
	"unitas/internal/pgserver"
	"unitas/internal/places"
	"unitas/internal/sockets"
	"unitas/internal/store"
	"unitas/web"
)

// Config is what a person may set.
type Config struct {
	Listen string // address:port of the interface
	Data   string // directory for images, machines and the private database
	// Replica names this service among several on one Data and Database; "" when it is
	// the only one there.
	Replica  string
	Database string // URL; "" starts a private PostgreSQL in Data
	Places   places.Places
	// Certificates is the directory of those that listeners may use; below Data when it is "".
	Certificates string
	// Registries are those that images may be fetched from besides the public ones.
	Registries []string
	// KeepFree is how many bytes of the disk of Data are to stay free.
	KeepFree int64
	// NoCommands has no command run and no shell opened on machines.
	NoCommands bool
	// ShellIdle is how long nothing may be typed into a shell; 15 min when 0.
	ShellIdle time.Duration
	// URL is where people reach the console; "" for the address that it listens on.
	URL string
	// Names are what it is called besides its addresses and the name of its URL.
	Names []string
	// MailServer and MailFrom are where mail is sent through and from; "" for no mail.
	MailServer, MailFrom string
	// MeasureEvery is how often instances are measured; as usual when 0.
	MeasureEvery time.Duration
	// StopWithin is for how long requests may go on when the service ends.
	StopWithin time.Duration
	// Kept says for how long what is over is kept.
	Kept store.Kept
	// StrayGrace is how long a machine that no record knows runs on.
	StrayGrace time.Duration
	// Moved has the data directory take the place of the one before, which is gone.
	Moved bool
	// Helper is how this program runs a command of a recipe confined.
	Helper  []string
	Version string
	Log     *slog.Logger
}

// Run serves until the context ends, then stops within seconds and leaves the
// instances running.
func Run(ctx context.Context, c Config) (err error) {
	if c.Data, err = filepath.Abs(c.Data); err != nil {
		return err
	}
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return fmt.Errorf("make the data directory: %w", err)
	}
	own, err := ownData(c.Data, c.Replica)
	if err != nil {
		return err
	}
	defer own.close()
	directory, err := datadir.Identify(c.Data, c.Moved)
	if err != nil {
		return err
	}
	doors, err := openDoors(c)
	if err != nil {
		return err
	}
	defer doors.Close()
	listener, err := doors.Listen(c.Listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	defer listener.Close()
	if c.Database == "" {
		pg, err := pgserver.Start(ctx, filepath.Join(c.Data, "postgresql"), true)
		if err != nil {
			return err
		}
		defer func() {
			stop, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			err = errors.Join(err, pg.Leave(stop))
		}()
		supervised, stop := context.WithCancel(ctx)
		watched := make(chan struct{})
		caught.Go("watching the database", func() {
			defer close(watched)
			pg.Supervise(supervised, c.Log)
		})
		defer func() { // before it is stopped for good
			stop()
			<-watched
		}()
		if err := pg.Create(ctx, "unitas"); err != nil {
			return fmt.Errorf("make the database: %w", err)
		}
		c.Database = pg.URL("unitas")
	}
	st, err := store.Open(ctx, c.Database)
	if err != nil {
		return err
	}
	defer st.Close()
	host, _ := os.Hostname()
	if err := st.Belong(ctx, store.Directory{ID: directory, Path: c.Data, Host: host, Machines: process.Names(filepath.Join(c.Data, "machines")), Moved: c.Moved}); err != nil {
		return err
	}
	if err := firstToken(ctx, st, c); err != nil {
		return err
	}
	return run(ctx, c, st, own, directory, doors, listener)
}

// bakeUser is who runs the commands of recipes: nobody else, when we may choose.
func bakeUser(b datadir.Block) int {
	if os.Geteuid() != 0 {
		return -1
	}
	return b.BakeUser()
}

// firstToken makes the first bearer token, when there is none, and writes it to a file
// that only its owner reads.
func firstToken(ctx context.Context, st *store.Store, c Config) error {
	file := filepath.Join(c.Data, "token")
	made, err := st.FirstToken(ctx, "admin", func() (string, error) {
		token := "unitas-" + rand.Text()
		return token, os.WriteFile(file, []byte(token+"\n"), 0o600)
	})
	if err != nil {
		return fmt.Errorf("make the first token: %w", err)
	}
	if made {
		c.Log.Info("the first token was made", "file", file)
	}
	return nil
}

func run(ctx context.Context, c Config, st *store.Store, own *owned, directory string, doors *sockets.Sockets, listener net.Listener) error {
	name, err := own.id()
	if err != nil {
		return fmt.Errorf("name this replica: %w", err)
	}
	st.Write(name)
	changes, err := feed.Open(ctx, st, c.Log)
	if err != nil {
		return err
	}
	space := datadir.NewSpace(c.Data, c.KeepFree)
	secrets := certificates.Dir(cmp.Or(c.Certificates, filepath.Join(c.Data, "certificates")))
	block, err := datadir.OwnBlock(c.Data)
	if err != nil {
		return err
	}
	registries, err := image.NewRegistries(c.Registries)
	if err != nil {
		return fmt.Errorf("--registry: %w", err)
	}
	var cat *catalogue.Catalogue // opened below; no machine is launched before
	machines, err := process.New(process.Config{Dir: filepath.Join(c.Data, "machines"), Directory: directory, Block: block, Zones: c.Places.Zones(), Log: c.Log, Room: space.Room,
		Images: func(zone string) (*image.Store, error) { return cat.Of(zone) }})
	if err != nil {
		return err
	}
	cat, err = catalogue.Open(ctx, catalogue.Config{Store: st, Places: c.Places, Machines: machines, Dir: filepath.Join(own.dir, "bakes"), Logs: filepath.Join(c.Data, "bakes", "logs"),
		KeepFree: c.KeepFree, BakeUser: bakeUser(block), Helper: c.Helper, Replica: name, Registries: registries, Log: c.Log})
	if err != nil {
		return err
	}
	console, err := web.Handler()
	if err != nil {
		return err
	}
	metrics := prometheus.NewRegistry()
	metrics.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	key, err := st.Key(ctx, "cookies", func() []byte { return []byte(rand.Text()) })
	if err != nil {
		return fmt.Errorf("read the key of cookies: %w", err)
	}
	balancer := builtin.New(builtin.Config{Log: c.Log, Open: doors.Listen, Logs: filepath.Join(own.dir, "served"), Key: key})
	regionOf := func(zone string) string {
		r, _ := c.Places.Of(zone)
		return r.Name
	}
	self := store.Replica{ID: name, Name: cmp.Or(c.Replica, "main"), Address: reachable(listener.Addr()), Version: c.Version}
	hours := clock.New()
	var mailer *notice.Mailer
	if c.MailServer != "" {
		if mailer, err = notice.NewMailer(c.MailServer, c.MailFrom); err != nil {
			return fmt.Errorf("--mail-server: %w", err)
		}
	}
	ctl := control.New(control.Config{Store: st, Clock: hours, Feed: changes, Machines: machines, Balancer: balancer, Self: self, Certificates: secrets, Region: regionOf, Log: c.Log, Metrics: metrics, SampleEvery: c.MeasureEvery, StrayGrace: c.StrayGrace, URL: cmp.Or(c.URL, "http://"+c.Listen), Mailer: mailer,
		Finish: func() {
			if n := balancer.Finish(c.StopWithin); n > 0 {
				c.Log.Warn("requests were broken off; they took longer than the service may take to stop", "requests", n, "within", c.StopWithin)
			} else {
				c.Log.Info("all requests have ended")
			}
		}})
	drills := drill.New(st, machines, c.Log)
	defer drills.Close() // before anything that they need
	server, err := api.New(api.Config{
		Store: st, Drills: drills, Feed: changes, Control: ctl, Catalogue: cat, Machines: machines, Balancer: balancer, Console: console,
		Places: c.Places, Version: c.Version, Self: name, Certificates: secrets, Log: c.Log, Metrics: metrics, Space: space,
		SignedIn: conns.SignedIn, Listen: c.Listen, URL: c.URL, Names: c.Names, NoCommands: c.NoCommands, ShellIdle: c.ShellIdle, ShellMarks: filepath.Join(own.dir, "shells"),
	})
	if err != nil {
		return err
	}
	metrics.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "unitas_data_free_bytes", Help: "Room on the disk of the data directory."},
		func() float64 { free, _ := space.Free(); return float64(free) }))
	bounded, stop := context.WithCancel(ctx)
	var beside sync.WaitGroup
	beside.Go(caught.Loop(bounded, "the bounds of machines", func() { machines.KeepBounds(bounded) }))
	beside.Go(caught.Func("pruning", func() { prune(bounded, st, c, hours, metrics) }))
	defer func() {
		stop()
		beside.Wait()
	}()
	return serve(ctx, c, ctl, changes, cat, server, balancer, listener, metrics)
}

// serve runs everything until the context ends or something fails, and then
// stops in this order: the decisions, the traffic, the interface, which tells how it goes.
func serve(ctx context.Context, c Config, ctl *control.Control, changes *feed.Feed, cat *catalogue.Catalogue, server *api.Server, balancer *builtin.Balancer, listener net.Listener, metrics prometheus.Registerer) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	room := conns.Share(0.125, 4096)
	guard := conns.New(conns.Bounds{All: room, ByCaller: room * 3 / 4, SignIn: true})
	listener = guard.Listen(conns.Worded(listener, api.Unread))
	metrics.MustRegister(boundMetrics{"interface", guard}, boundMetrics{"listeners", balancer.Guard()}, faultMetrics{})
	web := &http.Server{Handler: server.Handler(), ConnContext: conns.With, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug)}
	var open conns.Count
	web.ConnState = func(c net.Conn, s http.ConnState) {
		guard.State(c, s)
		open.State(c, s)
	}
	server.TellKilledShells() // before one of this service can be opened
	served, controlled, catalogued := make(chan struct{}), make(chan struct{}), make(chan struct{})
	go func() {
		defer caught.Told("the server of the interface", stop)
		defer close(served)
		if err := web.Serve(listener); ctx.Err() == nil {
			stop(err)
		}
	}()
	go func() {
		defer caught.Told("the control", stop)
		defer close(controlled)
		if err := ctl.Run(ctx); err != nil {
			stop(err)
		}
	}()
	go func() {
		defer caught.Told("the catalogue", stop)
		defer close(catalogued)
		cat.Run(ctx)
	}()
	following, follow := context.WithCancel(context.Background())
	defer follow()
	caught.Go("following what changed", func() { changes.Run(following) }) // ends the event streams when the context ends
	c.Log.Info("the service is ready", "address", "http://"+listener.Addr().String(), "data", c.Data, "zones", c.Places.Zones(), "version", c.Version)

	if err := ctl.SayBegun(ctx); err != nil && ctx.Err() == nil {
		c.Log.Warn("that the service begins is not in the journal", "error", err)
	}

	<-ctx.Done()
	c.Log.Info("stopping; the instances go on running", "requests", balancer.Requests(), "within", c.StopWithin)
	server.Stops(time.Now().Add(c.StopWithin), balancer.Requests)
	why := "it was told to"
	if cause := context.Cause(ctx); !errors.Is(cause, context.Canceled) {
		why = "it failed; its log says why"
	}
	if err := ctl.SayStopped(why); err != nil {
		c.Log.Warn("that the service stops is not in the journal", "error", err)
	}
	<-controlled // the leases are given up, and then the requests of the listeners end
	balancer.Close()
	follow()
	grace, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	server.CloseShells()
	listener.Close()
	<-served
	conns.Finish(grace, web, &open)
	<-catalogued
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return nil
}
