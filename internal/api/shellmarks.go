package api

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"unitas/internal/datadir"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/store"
)

// shellMark is a file for as long as a shell is open, so that its end is told by the next service
// when this one is killed.
type shellMark struct {
	Instance, Group, Actor string
	At                     time.Time
}

const shellMarkBytes = 4096 // at most

// mark marks a shell as open; the mark is taken away once its end is in the journal.
func (s *Server) mark(sh *shell) error {
	if err := os.MkdirAll(s.ShellMarks, 0o700); err != nil {
		return fmt.Errorf("mark a shell as open: %w", err)
	}
	raw, err := json.Marshal(shellMark{sh.instance.ID, sh.instance.Group, sh.actor, s.now()})
	if err != nil {
		return err
	}
	sh.marked = filepath.Join(s.ShellMarks, rand.Text()+".json")
	return datadir.WriteFile(sh.marked, raw, 0o600)
}

// TellKilledShells writes into the journal which shells were over with a service that was killed.
func (s *Server) TellKilledShells() {
	names, _ := filepath.Glob(filepath.Join(s.ShellMarks, "*.json"))
	for _, name := range names {
		m, err := readMark(name)
		if err == nil {
			in := store.Instance{Group: m.Group, Instance: fleet.Instance{ID: words.Plain(m.Instance, 100)}}
			err = s.noteEnd(m.Actor, in, fmt.Sprintf("The shell on %s that was opened at %s is over.", in.ID, words.Moment(m.At)), "the service was killed while it was open")
		}
		if err != nil {
			s.Log.Warn("the end of a shell is not in the journal", "mark", name, "error", err)
			continue
		}
		_ = os.Remove(name)
	}
}

func readMark(name string) (m shellMark, err error) {
	f, err := os.Open(name)
	if err != nil {
		return m, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, shellMarkBytes))
	if err == nil {
		err = json.Unmarshal(raw, &m)
	}
	return m, err
}
