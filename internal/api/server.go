// Package api is the service's HTTP interface: routes, sign-in, validation
// against the contract, events, and the console's files.
package api

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/balancer"
	"unitas/internal/catalogue"
	"unitas/internal/certificates"
	"unitas/internal/control"
	"unitas/internal/datadir"
	"unitas/internal/drill"
	"unitas/internal/feed"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/places"
	"unitas/internal/store"
)

// Config is what the interface needs.
type Config struct {
	Store        *store.Store
	Control      *control.Control
	Catalogue    *catalogue.Catalogue
	Places       places.Places
	Machines     machine.Driver
	Balancer     balancer.Driver
	Drills       *drill.Drills
	Feed         *feed.Feed
	Console      http.Handler // serves what is not /v1
	Version      string
	Self         string // the id of this replica
	Certificates certificates.Dir
	Log          *slog.Logger
	Metrics      *prometheus.Registry
	// Space is the disk of the data directory.
	Space *datadir.Space
	// BodyWindow is the time in which a body has to bring its next 16 KiB; 15 s when 0.
	BodyWindow time.Duration
	// RequestTime is how long a request may take that brings no bytes; 40 s when 0.
	RequestTime time.Duration
	// NoCommands has no command run and no shell opened on machines.
	NoCommands bool
	// Listen and URL are where the service is reached, and Names what else it is called; "" when nothing
	// is known of it.
	Listen, URL string
	Names       []string
	// SignedIn is told of each request whose caller is known; may be nil.
	SignedIn func(context.Context)
	// ShellMarks is the directory of marks of open shells.
	ShellMarks string
	// ShellIdle is how long nothing may be typed into a shell; 15 min when 0.
	ShellIdle time.Duration
}

// Server is the HTTP interface.
type Server struct {
	Config
	echo       *echo.Echo
	tokens     tokenCache
	rehearsing rehearsing
	usual      contract.CourseSettings // of a rollout that nothing else is said of
	took       *prometheus.HistogramVec
	peers      http.RoundTripper // to the interfaces of other replicas
	shells     shells
	followed   followed
	hosts      *hosts
	stops      atomic.Pointer[stop] // nil while it goes on
}

// now is the time by the clock that the groups are kept by.
func (s *Server) now() time.Time { return s.Control.Clock.Now() }

// New makes the interface.
func New(c Config) (*Server, error) {
	c.BodyWindow, c.RequestTime, c.ShellIdle = cmp.Or(c.BodyWindow, bodyWindow), cmp.Or(c.RequestTime, requestTime), cmp.Or(c.ShellIdle, shellIdle)
	s := &Server{Config: c, echo: echo.New(), peers: newPeers(), rehearsing: newRehearsing(), tokens: tokenCache{known: map[string]knownToken{}}, followed: newFollowed(),
		shells: shells{waiting: map[string]*shell{}, open: map[*shell]context.CancelCauseFunc{}}}
	s.took = prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "unitas_request_seconds", Help: "Time that requests to the interface took.", Buckets: prometheus.ExponentialBuckets(0.0005, 4, 8),
	}, []string{"operation", "status"})
	c.Metrics.MustRegister(s.took)

	validate, err := newValidator()
	if err != nil {
		return nil, err
	}
	if s.usual, err = usualSettings(); err != nil {
		return nil, err
	}
	if c.Listen != "" {
		s.hosts = newHosts(c.Listen, c.URL, c.Names, c.Log)
	}
	e := s.echo
	e.HTTPErrorHandler = answerError(c.Log)
	e.Logger = c.Log
	e.Use(middleware.Recover(), s.observe, s.requireToken, s.pace, s.atKeeper, compressed, validate.middleware, tried, s.repeats)
	routes.RegisterHandlers(e, routes.NewStrictHandler(s, nil))
	e.GET(shellPath, s.shell)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", s.ready)
	e.GET("/metrics", echo.WrapHandler(promhttp.HandlerFor(c.Metrics, promhttp.HandlerOpts{})))
	e.GET("/openapi.json", func(c *echo.Context) error {
		raw, err := routes.GetSpecJSON()
		if err != nil {
			return err
		}
		return c.Blob(http.StatusOK, "application/json", raw)
	})
	e.GET("/*", s.console)
	return s, nil
}

// stop is until when requests of listeners may go on, and how many do.
type stop struct {
	until    time.Time
	requests func() int
}

// Stops has the service say that it stops, until when its requests may go on, and how many do.
func (s *Server) Stops(until time.Time, requests func() int) { s.stops.Store(&stop{until, requests}) }

// tried has what only tries a change undo it. That an operation knows of it was checked before.
func tried(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if r := c.Request(); r.URL.Query().Get("dry_run") == "true" {
			c.SetRequest(r.WithContext(store.Dry(r.Context())))
		}
		return next(c)
	}
}

// compressed has answers compressed that are long, come at once and are read often: those to
// GET, where they are no streams.
var compressed = middleware.GzipWithConfig(middleware.GzipConfig{Level: 4, MinLength: 2 << 10, Skipper: func(c *echo.Context) bool {
	return c.Request().Method != http.MethodGet || !strings.HasPrefix(c.Path(), "/v1/") || streams(c.Path())
}})

// newPeers reaches other replicas, which are near.
func newPeers() http.RoundTripper {
	return &http.Transport{DialContext: (&net.Dialer{Timeout: time.Second}).DialContext, ResponseHeaderTimeout: peerLimit,
		MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute}
}

// Handler serves the interface; the feed must run beside it. HEAD is answered
// as GET is, without the body, which net/http leaves out by itself.
func (s *Server) Handler() http.Handler {
	version := cmp.Or(s.Version, "unknown")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set(contract.VersionHeader, version)
		w.Header().Set("X-Content-Type-Options", "nosniff")
		s.hosts.isOurs(r.Host)
		if strings.HasPrefix(r.URL.Path, "/v1/") { // secrets among it, and nothing that lasts
			w.Header().Set("Cache-Control", "no-store")
		}
		if r.Body != nil && r.Body != http.NoBody { // whoever answers without reading it does not wait for its end
			_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(s.BodyWindow))
		}
		if r.Method == http.MethodHead && r.URL.Path != "/v1/events" {
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		s.echo.ServeHTTP(w, r)
	})
}

func (s *Server) ready(c *echo.Context) error {
	ctx, cancel := context.WithTimeout(c.Request().Context(), 2*time.Second)
	defer cancel()
	wrong := troubles(s.databasePart(ctx), s.diskPart())
	if stop := s.stops.Load(); stop != nil {
		return c.String(http.StatusServiceUnavailable, fmt.Sprintf("The service stops: its listeners take nothing new, and %s in flight may go on for at most %s.\n",
			words.Count(stop.requests(), "request"), words.Span(max(0, time.Until(stop.until)).Round(time.Second))))
	}
	if !s.Control.IsOpen() {
		why := "The service has just begun; its listeners open once it knows the targets of all groups."
		if r, err := s.Store.Restored(ctx); err == nil && r != nil { // who asks need not be known: what is found is no business of his
			why = "The records were restored, and nothing is done to machines until the service is resumed."
		}
		wrong = append(wrong, why)
	}
	if len(wrong) > 0 {
		return c.String(http.StatusServiceUnavailable, strings.Join(wrong, "\n")+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

// console serves its files; a path of the interface that is not there is a
// problem, not the console.
func (s *Server) console(c *echo.Context) error {
	if strings.HasPrefix(c.Request().URL.Path, "/v1/") {
		return echo.ErrNotFound
	}
	s.Console.ServeHTTP(c.Response(), c.Request())
	return nil
}

// observe measures and logs requests.
func (s *Server) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		begun := time.Now()
		err := next(c)
		if err != nil {
			c.Echo().HTTPErrorHandler(c, err)
		}
		status := 0
		if r, _ := echo.UnwrapResponse(c.Response()); r != nil {
			status = r.Status
		}
		path := c.Path()
		if strings.HasPrefix(path, "/v1/") {
			s.took.WithLabelValues(c.Request().Method+" "+path, http.StatusText(status)).Observe(time.Since(begun).Seconds())
			s.Log.Debug("request", "method", c.Request().Method, "path", c.Request().URL.Path, "status", status,
				"took", time.Since(begun), "actor", actor(c.Request().Context()))
		}
		return nil
	}
}
