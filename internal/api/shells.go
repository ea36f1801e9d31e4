package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/labstack/echo/v5"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/machine"
	"unitas/internal/store"
)

// What bounds terminals: how many there are at once, in which time one is to be taken,
// how long nothing may be typed, and how much comes in one message.
const (
	shellsAt     = 16
	shellAwaited = 30 * time.Second
	shellIdle    = 15 * time.Minute
	shellMessage = 64 << 10
	shellBeat    = 15 * time.Second // between looks at whether the reader is there
)

// shellPath is where the stream of a terminal is.
const shellPath = "/v1/shells/:key"

// Why a terminal ends that did not end by itself.
var (
	errNobodyCame = errors.New("nobody came to it")
	errLeft       = errors.New("who sat before it left")
	errStops      = errors.New("the service stops")
)

// shells are the terminals that are open.
type shells struct {
	mu      sync.Mutex
	waiting map[string]*shell // by key: those that nobody has come to yet
	open    map[*shell]context.CancelCauseFunc
	over    bool
	all     sync.WaitGroup
}

// shell is one terminal on a machine.
type shell struct {
	machine.Terminal
	instance store.Instance
	actor    string
	marked   string // the file of its mark
}

// add keeps a terminal until somebody comes to it.
func (s *shells) add(sh *shell, key string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over || len(s.open) >= shellsAt {
		return false
	}
	s.waiting[key] = sh
	s.open[sh] = nil
	s.all.Add(1)
	return true
}

// take hands the terminal of a key out, once.
func (s *shells) take(key string, end context.CancelCauseFunc) *shell {
	s.mu.Lock()
	defer s.mu.Unlock()
	sh := s.waiting[key]
	if sh == nil {
		return nil
	}
	delete(s.waiting, key)
	s.open[sh] = end
	return sh
}

// remove forgets a terminal that has ended.
func (s *shells) remove(sh *shell) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, sh)
	s.all.Done()
}

// full reports whether there is no room for one more.
func (s *shells) full() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.over || len(s.open) >= shellsAt
}

// close has no more be opened, ends those that somebody sits before, and returns the others.
func (s *shells) close() (waiting []*shell) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.over = true
	waiting = slices.Collect(maps.Values(s.waiting))
	clear(s.waiting)
	for _, end := range s.open {
		if end != nil {
			end(errStops)
		}
	}
	return waiting
}

// CloseShells ends all terminals, and returns when that is told and in the journal. None
// is opened after.
func (s *Server) CloseShells() {
	for _, sh := range s.shells.close() {
		s.shellOver(sh, errStops)
		s.shells.remove(sh)
	}
	s.shells.all.Wait()
}

// mayRun refuses commands where they are switched off.
func (s *Server) mayRun() error {
	if s.NoCommands {
		return &problem{status: http.StatusForbidden, kind: "switched-off",
			detail: "This service runs no commands and opens no shells on machines: it was started with --no-commands."}
	}
	return nil
}

// OpenShell opens a terminal on the machine of an instance. It is journalled before, and
// how it ended after.
func (s *Server) OpenShell(ctx context.Context, r routes.OpenShellRequestObject) (routes.OpenShellResponseObject, error) {
	in, err := s.Store.Instance(ctx, r.Id)
	if err != nil {
		return nil, about("instance", r.Id, err)
	}
	if err := s.mayRun(); err != nil {
		return nil, err
	}
	sheller, can := s.Machines.(machine.Sheller)
	if !can {
		return nil, &problem{status: http.StatusConflict, kind: "conflict", detail: "The machines of this service open no terminals."}
	}
	busy := &problem{status: http.StatusTooManyRequests, kind: "busy", detail: fmt.Sprintf("%d shells are open, as many as there may be; end one first.", shellsAt)}
	if s.shells.full() {
		return nil, busy
	}
	command := given(r.Body.Command)
	sh := &shell{instance: in, actor: actor(ctx)}
	if err := s.mark(sh); err != nil {
		return nil, err
	}
	if err := s.noteRun(ctx, sh.actor, in, "shell-opened", fmt.Sprintf("A shell is opened on %s: %s", in.ID, commandWords(command)), fleet.Asked(some(r.Body.Reason, ""))); err != nil {
		_ = os.Remove(sh.marked)
		return nil, err
	}
	sh.Terminal, err = sheller.Shell(in.ID, machine.Opening{
		Command: command, Columns: given(r.Body.Columns), Rows: given(r.Body.Rows),
		Variables: map[string]string{"TERM": given(r.Body.Terminal), "PS1": in.ID + " $ "},
	})
	if err != nil {
		s.shellEnd(sh, fmt.Sprintf("The shell was not opened on %s.", in.ID), err.Error())
		return nil, &problem{status: http.StatusConflict, kind: "conflict", detail: fmt.Sprintf("The shell was not opened on %s: %s.", in.ID, err)}
	}
	key := rand.Text()
	if !s.shells.add(sh, key) {
		sh.End()
		s.shellEnd(sh, fmt.Sprintf("The shell was not opened on %s.", in.ID), "as many are open as there may be")
		return nil, busy
	}
	time.AfterFunc(shellAwaited, func() {
		defer caught.Told("a shell that nobody came for", nil)
		if s.shells.take(key, nil) != nil {
			s.shellOver(sh, errNobodyCame)
			s.shells.remove(sh)
		}
	})
	return routes.OpenShell201JSONResponse{Stream: strings.Replace(shellPath, ":key", key, 1), UntilAt: time.Now().Add(shellAwaited).UTC(), IdleSeconds: secondsOf(s.ShellIdle)}, nil
}

// commandWords is a command as somebody would type it.
func commandWords(command []string) string {
	typed := make([]string, len(command))
	for i, w := range command {
		typed[i] = w
		if w == "" || strings.ContainsAny(w, " \t\n\"'") {
			typed[i] = strconv.Quote(w)
		}
	}
	return strings.Join(typed, " ")
}

// noteRun writes of what people run on a machine, also when who asked has left.
func (s *Server) noteRun(ctx context.Context, who string, in store.Instance, kind, what string, because fleet.Cause) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	return s.Store.Record(ctx, s.now(), who, in.Group, fleet.Entry{Kind: "instance." + kind, Instance: in.ID, Text: what, Cause: because})
}

// shellOver ends a terminal, and writes how it ended into the journal.
func (s *Server) shellOver(sh *shell, cause error) machine.Ran {
	sh.End()
	how := sh.Wait()
	if cause != nil {
		how.Status, how.Why = -1, cause.Error()
	}
	because := cmp.Or(how.Why, fmt.Sprintf("it ended with status %d", how.Status))
	s.shellEnd(sh, fmt.Sprintf("The shell on %s is over after %s.", sh.instance.ID, words.Span(how.Took)), because)
	return how
}

// shellEnd writes the end of a shell into the journal; while that fails its mark stays, for the
// next service to tell it.
func (s *Server) shellEnd(sh *shell, what, because string) {
	if err := s.noteEnd(sh.actor, sh.instance, what, because); err != nil {
		s.Log.Warn("the end of a shell is not in the journal", "instance", sh.instance.ID, "error", err)
		return
	}
	_ = os.Remove(sh.marked)
}

func (s *Server) noteEnd(who string, in store.Instance, what, because string) error {
	return s.noteRun(context.Background(), who, in, "shell-closed", what, fleet.Because(because))
}

// shell is the stream of a terminal. Its key is all that is asked for: a browser can send
// no other proof with a WebSocket.
func (s *Server) shell(c *echo.Context) error {
	ctx, end := context.WithCancelCause(context.WithoutCancel(c.Request().Context()))
	defer end(nil)
	sh := s.shells.take(c.Param("key"), end)
	if sh == nil {
		return &problem{status: http.StatusNotFound, kind: "not-found", detail: "There is no such shell; it may have been taken already. Open another."}
	}
	defer s.shells.remove(sh)
	conn, err := websocket.Accept(c.Response(), c.Request(), nil)
	if err != nil { // it has been answered
		s.shellOver(sh, errLeft)
		return nil
	}
	conn.SetReadLimit(shellMessage)
	sit(ctx, end, sh, conn, s.ShellIdle)
	how := s.shellOver(sh, context.Cause(ctx))
	last, _ := json.Marshal(contract.ShellEnd{Status: how.Status, Why: text(how.Why)})
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if conn.Write(ctx, websocket.MessageText, last) == nil {
		_ = conn.Close(websocket.StatusNormalClosure, "") // it waits for the other side for 5 s at most
	}
	_ = conn.CloseNow()
	return nil
}

// sit carries what is typed and what is shown, until the command is over or the context
// ends.
func sit(ctx context.Context, end context.CancelCauseFunc, sh *shell, conn *websocket.Conn, idle time.Duration) {
	watch := time.AfterFunc(idle, caught.Func("the idle time of a shell", func() { end(fmt.Errorf("nothing was typed for %s", words.Span(idle))) }))
	defer watch.Stop()
	shown := make(chan struct{})
	go func() {
		defer caught.Told("a shell", end)
		defer close(shown)
		buffer := make([]byte, shellMessage/2)
		for {
			n, err := sh.Read(buffer)
			if n > 0 && within(func(ctx context.Context) error { return conn.Write(ctx, websocket.MessageBinary, buffer[:n]) }) != nil {
				end(errLeft)
				return
			}
			if err != nil {
				return
			}
		}
	}()
	go func() {
		defer caught.Told("a shell", end)
		for {
			kind, typed, err := conn.Read(context.Background()) // the end of its context would cut the connection
			if err != nil {
				end(errLeft)
				return
			}
			var size contract.ShellSize
			switch {
			case kind == websocket.MessageBinary:
				watch.Reset(idle) // a window that is pulled about is no key
				_, _ = sh.Write(typed)
			case json.Unmarshal(typed, &size) == nil && size.Columns > 0 && size.Columns <= 1000 && size.Rows > 0 && size.Rows <= 1000:
				_ = sh.Resize(size.Columns, size.Rows)
			}
		}
	}()
	over := make(chan struct{})
	go func() {
		defer caught.Told("a shell", end)
		defer close(over)
		sh.Wait()
		select {
		case <-shown: // all that it wrote
		case <-time.After(time.Second): // a job that it left holds the screen
		}
	}()
	beat := time.NewTicker(shellBeat)
	defer beat.Stop()
	for {
		select {
		case <-over:
			return
		case <-ctx.Done():
			return
		case <-beat.C:
			if within(conn.Ping) != nil {
				end(errLeft)
			}
		}
	}
}

// within does something that may take as long as a beat at most.
func within(do func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), shellBeat)
	defer cancel()
	return do(ctx)
}
