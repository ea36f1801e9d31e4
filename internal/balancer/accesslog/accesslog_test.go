package accesslog

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestLinesAreKeptInOrder(t *testing.T) {
	f := NewFiles(t.TempDir(), slog.New(slog.DiscardHandler))
	if lines, _, err := f.Last("127.0.0.1:8000", 10); len(lines) != 0 || err != nil {
		t.Errorf("before anything is written: %v, %v", lines, err)
	}
	one := f.Open("127.0.0.1:8000")
	two := f.Open("127.0.0.1:8000") // another door at the address, while the first ends
	for n := range 100 {
		log := one
		if n%2 == 1 {
			log = two
		}
		log.Write(&Line{Path: fmt.Sprint("/", n), Listener: "<127.0.0.1:8000>"})
	}
	one.Close()
	two.Write(&Line{Path: "/100"})
	two.Close()
	three := f.Open("127.0.0.1:8000") // and once more
	three.Write(&Line{Path: "/101"})
	three.Close()
	lines, file, err := f.Last("127.0.0.1:8000", 1000)
	if err != nil || len(lines) != 102 || three.Lost() != 0 {
		t.Fatalf("%d lines, %d lost, %v", len(lines), three.Lost(), err)
	}
	for n, raw := range lines {
		var l Line
		if err := json.Unmarshal(raw, &l); err != nil || l.Path != fmt.Sprint("/", n) {
			t.Errorf("line %d is %s, %v", n, raw, err)
		}
	}
	if lines, _, _ := f.Last("127.0.0.1:8000", 3); len(lines) != 3 || !strings.Contains(string(lines[2]), "/101") {
		t.Errorf("the last three are %s", lines)
	}
	half, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(half, `{"path":"/half`)
	half.Close()
	if lines, _, _ := f.Last("127.0.0.1:8000", 1); len(lines) != 1 || !strings.Contains(string(lines[0]), "/101") {
		t.Errorf("half a line is told: %s", lines)
	}
}

// TestNobodyWaitsForTheLog: with nobody to write, lines are lost and counted.
func TestNobodyWaitsForTheLog(t *testing.T) {
	l := &Log{lines: make(chan *Line, 2)}
	for range 5 {
		l.Write(&Line{})
	}
	if l.Lost() != 3 {
		t.Errorf("%d are lost", l.Lost())
	}
}

// TestSweep removes the files of listeners that are no more after a week, and no others.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	f := NewFiles(dir, slog.New(slog.DiscardHandler))
	f.Sweep(time.Now())
	used := f.Open("127.0.0.1:8000")
	defer used.Close()
	gone := f.Open("127.0.0.1:9000")
	gone.Write(&Line{})
	gone.Close()
	for _, name := range []string{"127.0.0.1_8000.jsonl", "127.0.0.1_8000-2026-11-01T10-00-00.000.jsonl", "127.0.0.1_9000-2026-11-01T10-00-00.000.jsonl", "notes.txt"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	left := func() string {
		all, _ := filepath.Glob(filepath.Join(dir, "*"))
		for i := range all {
			all[i] = filepath.Base(all[i])
		}
		return strings.Join(all, " ")
	}
	before := left()
	if f.Sweep(time.Now().Add(unusedFor - time.Hour)); left() != before {
		t.Errorf("after less than a week there are %s", left())
	}
	f.Sweep(time.Now().Add(unusedFor + time.Hour))
	if got := left(); got != "127.0.0.1_8000-2026-11-01T10-00-00.000.jsonl 127.0.0.1_8000.jsonl notes.txt" {
		t.Errorf("after a week there are %s", got)
	}
}
