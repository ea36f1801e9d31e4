// Package served writes down what a listener served: a line of JSON for each request or
// connection, in files of a bounded size and number. Nobody who serves waits for it.
package served

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"gopkg.in/natefinch/lumberjack.v2"
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

// Log is the log of one listener. Its methods are safe for concurrent use.
type Log struct {
	path  string
	lines chan *Line
	lost  atomic.Int64
	ended chan struct{}
	once  sync.Once
	stop  chan struct{}
}

// FileOf is where the log of a listener is.
func FileOf(dir, address string) string {
	return filepath.Join(dir, strings.NewReplacer(":", "_", "[", "", "]", "", "/", "_").Replace(address)+".jsonl")
}

// Open begins to write the log of a listener.
func Open(dir, address string, log *slog.Logger) *Log {
	l := &Log{path: FileOf(dir, address), lines: make(chan *Line, queue), ended: make(chan struct{}), stop: make(chan struct{})}
	go l.write(log)
	return l
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

// Close writes what is still to be written.
func (l *Log) Close() {
	l.once.Do(func() { close(l.stop) })
	<-l.ended
}

func (l *Log) write(log *slog.Logger) {
	defer close(l.ended)
	file := &lumberjack.Logger{Filename: l.path, MaxSize: fileMB, MaxBackups: files}
	defer file.Close()
	var buf bytes.Buffer
	enc := json.NewEncoder(&buf)
	enc.SetEscapeHTML(false)
	told := false
	put := func(line *Line) {
		buf.Reset()
		err := enc.Encode(line)
		if err == nil {
			_, err = file.Write(buf.Bytes())
		}
		if err != nil {
			l.lost.Add(1)
			if !told {
				log.Warn("the log of a listener cannot be written", "file", l.path, "error", err)
			}
		}
		told = err != nil
	}
	for {
		select {
		case line := <-l.lines:
			put(line)
		case <-l.stop:
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

// Last are the newest lines of a listener's log, the oldest of them first, at most so many.
// There are none when nothing was written yet.
func Last(dir, address string, most int) ([]json.RawMessage, error) {
	f, err := os.Open(FileOf(dir, address))
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
