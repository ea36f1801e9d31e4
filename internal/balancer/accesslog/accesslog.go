// Package accesslog writes down what a listener served: a line of JSON for each request or
// connection, in files of a bounded size and number. Nobody who serves waits for it.
package accesslog

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gopkg.in/natefinch/lumberjack.v2"

	"unitas/internal/caught"
)

// Line is one request, or one connection of another protocol.
type Line struct {
	At        time.Time `json:"at"` // when it began
	RequestID string    `json:"request_id,omitempty"`
	Trace     string    `json:"trace_id,omitempty"` // W3C Trace Context
	Listener  string    `json:"listener"`
	Caller    string    `json:"caller"` // address
	Method    string    `json:"method,omitempty"`
	Host      string    `json:"host,omitempty"`
	Path      string    `json:"path,omitempty"` // without its query, which may hold secrets
	Protocol  string    `json:"protocol"`
	Route     int       `json:"route,omitempty"` // from 1; none when no route took it
	Pool      string    `json:"pool,omitempty"`
	Target    string    `json:"target,omitempty"`
	Group     string    `json:"group,omitempty"`
	Version   string    `json:"version,omitempty"`
	Attempts  []Attempt `json:"attempts,omitempty"`
	Status    int       `json:"status,omitempty"`
	Failure   string    `json:"failure,omitempty"`
	BytesIn   int64     `json:"bytes_in"`
	BytesOut  int64     `json:"bytes_out"`
	FirstMs   float64   `json:"first_byte_ms,omitempty"`
	TotalMs   float64   `json:"total_ms"`
}

// Attempt is one target that was tried.
type Attempt struct {
	Target string  `json:"target"`
	TookMs float64 `json:"took_ms"`
	Why    string  `json:"why,omitempty"` // it did not answer
}

// How much is kept: files of so many MB, and so many beside the newest.
const (
	fileMB = 20
	files  = 4
	queue  = 4096
)

// Files are the logs of all listeners, in one directory. Their methods are safe for concurrent
// use.
type Files struct {
	dir string
	log *slog.Logger

	mu  sync.Mutex
	all map[string]*Log // by address, also of those that are closed: their files can be opened again
}

// NewFiles keeps logs in a directory, which is made with the first line.
func NewFiles(dir string, log *slog.Logger) *Files {
	return &Files{dir: dir, log: log, all: map[string]*Log{}}
}

// Log is the log of one listener. Its methods are safe for concurrent use.
type Log struct {
	files *Files
	path  string
	lines chan *Line
	lost  atomic.Int64
	file  *lumberjack.Logger // written by one goroutine at a time

	// Under the lock of all.
	users int
	stop  chan struct{} // of who writes now
	ended chan struct{}
}

// FileOf is where the log of a listener is.
func FileOf(dir, address string) string {
	return filepath.Join(dir, strings.NewReplacer(":", "_", "[", "", "]", "", "/", "_").Replace(address)+".jsonl")
}

// Open begins to write the log of a listener, or goes on with it where another, who is about to
// end, still writes.
func (f *Files) Open(address string) *Log {
	f.mu.Lock()
	defer f.mu.Unlock()
	l := f.all[address]
	if l == nil {
		path := FileOf(f.dir, address)
		l = &Log{files: f, path: path, lines: make(chan *Line, queue), file: &lumberjack.Logger{Filename: path, MaxSize: fileMB, MaxBackups: files}}
		f.all[address] = l
	}
	if l.users++; l.users == 1 {
		before := l.ended
		l.stop, l.ended = make(chan struct{}), make(chan struct{})
		stop, ended := l.stop, l.ended
		caught.Go("the log of a listener", func() { l.write(before, stop, ended) })
	}
	return l
}

// unusedFor is for how long the files of a listener are kept that is no more.
const unusedFor = 7 * 24 * time.Hour

// Sweep removes the files of listeners that have been gone for a week.
func (f *Files) Sweep(now time.Time) {
	entries, err := os.ReadDir(f.dir)
	if err != nil {
		return // nothing was written yet
	}
	f.mu.Lock()
	var used []string
	for _, l := range f.all {
		if l.users > 0 {
			used = append(used, strings.TrimSuffix(filepath.Base(l.path), ".jsonl"))
		}
	}
	f.mu.Unlock()
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || now.Sub(info.ModTime()) < unusedFor || !strings.HasSuffix(e.Name(), ".jsonl") {
			continue
		}
		if !slices.ContainsFunc(used, func(base string) bool { return strings.HasPrefix(e.Name(), base) }) {
			if err := os.Remove(filepath.Join(f.dir, e.Name())); err != nil {
				f.log.Warn("the old log of a listener cannot be removed", "file", e.Name(), "error", err)
			}
		}
	}
}

// Write writes a line when there is time for it.
func (l *Log) Write(line *Line) {
	select {
	case l.lines <- line:
	default:
		l.lost.Add(1)
	}
}

// Lost is how many lines there was no time for.
func (l *Log) Lost() int64 { return l.lost.Load() }

// Close says that one of its users writes no more; with the last what is still to be written is.
func (l *Log) Close() {
	l.files.mu.Lock()
	l.users--
	last, stop, ended := l.users == 0, l.stop, l.ended
	l.files.mu.Unlock()
	if last {
		close(stop)
		<-ended
	}
}

// write writes lines once whoever wrote before has ended, until it is to stop.
func (l *Log) write(before, stop, ended chan struct{}) {
	defer close(ended)
	if before != nil {
		<-before
	}
	defer l.file.Close()
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	told := false
	put := func(line *Line) {
		buf.Reset()
		err := enc.Encode(line)
		if err == nil {
			_, err = l.file.Write(buf.Bytes())
		}
		if err != nil {
			l.lost.Add(1)
			if !told {
				l.files.log.Warn("the log of a listener cannot be written", "file", l.path, "error", err)
			}
		}
		told = err != nil
	}
	for {
		select {
		case line := <-l.lines:
			put(line)
		case <-stop:
			for {
				select {
				case line := <-l.lines:
					put(line)
				default:
					return
				}
			}
		}
	}
}

// Last are the newest lines of a listener's log, the oldest of them first, at most so many, and
// the file. There are none when nothing was written yet.
func (f *Files) Last(address string, most int) (lines []json.RawMessage, file string, err error) {
	file = FileOf(f.dir, address)
	lines, err = last(file, most)
	return lines, file, err
}

func last(file string, most int) ([]json.RawMessage, error) {
	f, err := os.Open(file)
	if os.IsNotExist(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	const window = 2 << 20 // no more of it is looked at
	if info.Size() > window {
		if _, err := f.Seek(-window, io.SeekEnd); err != nil {
			return nil, err
		}
	}
	var all []json.RawMessage
	r := bufio.NewReaderSize(f, 64<<10)
	if info.Size() > window {
		_, _ = r.ReadBytes('\n')
	}
	for {
		line, err := r.ReadBytes('\n')
		if err == nil && json.Valid(line) { // the last may be half written
			all = append(all, json.RawMessage(bytes.TrimSpace(line)))
		}
		if err != nil {
			break
		}
	}
	return all[max(0, len(all)-most):], nil
}
