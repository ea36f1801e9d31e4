package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode"

	"github.com/creack/pty"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/image"
	"unitas/internal/pgserver/pgtest"
)

// hostileWords clear a screen, move on it, hide, rename the window, and turn the direction of writing.
const hostileWords = `printf 'begin\033[2J\033[5A\033[8m\033]0;renamed\007\302\2332J\342\200\256moc\rover\n'`

// ownColours are all that the command line itself writes to a terminal besides text.
var ownColours = regexp.MustCompile("\x1b\\[(?:0|1|2|31|33|36)m")

// TestHostileWordsOnATerminal: whatever workloads, recipes and notes say, no reading command lets it
// act on the terminal.
func TestHostileWordsOnATerminal(t *testing.T) {
	t.Parallel()
	s := startOn(t, pgtest.Database(t), func(s *service) { s.flags = []string{"--measure-every", "1s"} })
	s.stock()
	settle, one := 2.0, 1
	must[contract.Image](t)(client.Read[contract.Image](s.api.ImportImageWithBody(ctx, &contract.ImportImageParams{Name: "hostile"}, "application/octet-stream",
		bytes.NewReader(packed(t, image.File{Name: image.ManifestName, Content: []byte("start: [./hostile]\n")}, image.File{Name: "hostile", Content: []byte("#!/bin/sh\n" + hostileWords + "\nexec sleep 600\n")})))))
	recipe := filepath.Join(s.dir, "recipe.yaml")
	if err := os.WriteFile(recipe, []byte("parent: plain@1\ncommands: [\""+strings.ReplaceAll(hostileWords, `\`, `\\`)+"\"]\nlabels: {what: \"a\u202eb\"}\nstart: [sh]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if o := s.command("unitas image bake baked --recipe " + recipe); o.exit != 0 {
		t.Fatalf("the bake ended with %d: %s", o.exit, o.stderr)
	}
	must[contract.Template](t)(client.Read[contract.Template](s.api.CreateTemplate(ctx, nil, contract.NewTemplate{Name: "hostile", Image: "hostile@1"})))
	heal := "sailings-up"
	must[contract.Group](t)(client.Read[contract.Group](s.api.CreateGroup(ctx, nil, contract.NewGroup{Name: "hostile", Template: "hostile@1", Size: one, Max: &one, SettleSeconds: &settle, Heal: &heal})))
	var id string
	s.eventually("it has failed", func() error {
		o := s.command("unitas group failures hostile")
		if id = regexp.MustCompile(`hostile-\w+`).FindString(o.stdout); id == "" || !strings.Contains(o.stdout, "begin") {
			return fmt.Errorf("the failures are %q", o.stdout)
		}
		return nil
	})
	for _, command := range []string{"image list", "image show baked@1", "image bake-log baked@1", "image lineage baked@1", "template list", "template show hostile@1", "group list", "group show hostile",
		"group failures hostile", "instance list", "instance show " + id, "instance boot-log " + id, "journal --limit 500", "why hostile", "rollout list", "places", "check list", "pool show front",
		"listener list", "ticket list", "notice list", "metric list hostile", "costs", "service", "drill list", "replica list"} {
		shown := s.onTerminal(command)
		for _, r := range ownColours.ReplaceAllString(shown, "") {
			if r != '\n' && r != '\r' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r)) {
				t.Errorf("$ unitas %s\nwrites %U to the terminal: %q", command, r, shown)
				break
			}
		}
		if strings.Contains(command, "log") && !strings.Contains(shown, "begin␛[2J") {
			t.Errorf("$ unitas %s\ndoes not show what was written: %q", command, shown)
		}
	}
}

// onTerminal is what a command writes to a terminal.
func (s *service) onTerminal(line string) string {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), commandLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "unitas"), strings.Fields(line)...)
	cmd.Env = append(os.Environ(), "TERM=xterm", "TZ=UTC", "UNITAS_SERVER=http://"+s.listen, "UNITAS_TOKEN="+s.token, "UNITAS_CONFIG="+filepath.Join(s.dir, "config.yaml"))
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Cols: 120, Rows: 40})
	if err != nil {
		s.t.Fatal(err)
	}
	defer tty.Close()
	_ = tty.SetReadDeadline(time.Now().Add(commandLimit))
	shown, err := io.ReadAll(tty)
	if err != nil && !errors.Is(err, syscall.EIO) { // which is how a terminal says that nobody is there
		s.t.Errorf("$ unitas %s: %v", line, err)
	}
	_ = cmd.Wait()
	return string(shown)
}
