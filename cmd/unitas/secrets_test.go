package main

import (
	"bytes"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// TestPasswordsStandInFiles: an address comes from a file, the environment or the flag; a password in
// the last is warned of, and none is shown by the help.
func TestPasswordsStandInFiles(t *testing.T) {
	file := filepath.Join(t.TempDir(), "database")
	if err := os.WriteFile(file, []byte("postgres://of:file@db/unitas\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("UNITAS_DATABASE", "postgres://of:environment@db/unitas")
	for _, c := range []struct {
		args             []string
		want, fails, log string
	}{
		{nil, "postgres://of:environment@db/unitas", "", ""},
		{[]string{"--database-file", file}, "postgres://of:file@db/unitas", "", ""},
		{[]string{"--database", "postgres://db/unitas"}, "postgres://db/unitas", "", ""},
		{[]string{"--database", ""}, "", "", ""},
		{[]string{"--database", "postgres://of:flag@db/unitas"}, "postgres://of:flag@db/unitas", "", "give it by --database-file FILE or UNITAS_DATABASE"},
		{[]string{"--database", "host=db password=flag"}, "host=db password=flag", "", "give it by --database-file"},
		{[]string{"--database", "postgres://db/unitas?password=flag"}, "postgres://db/unitas?password=flag", "", "give it by --database-file"},
		{[]string{"--database", "postgres://db/unitas", "--database-file", file}, "", "give one of them", ""},
		{[]string{"--database-file", file + "-not-there"}, "", "no such file", ""},
		{[]string{"--database-file", os.DevNull}, "", "is empty", ""},
	} {
		var got string
		var log bytes.Buffer
		s := secretURL{flag: "database", environment: "UNITAS_DATABASE", to: &got}
		cmd := &cobra.Command{Use: "serve", RunE: func(cmd *cobra.Command, _ []string) error {
			return s.read(cmd, slog.New(slog.NewTextHandler(&log, nil)))
		}, SilenceErrors: true, SilenceUsage: true}
		s.add(cmd, "the `URL`")
		cmd.SetArgs(c.args)
		err := cmd.Execute()
		if (err == nil) != (c.fails == "") || (err != nil && !strings.Contains(err.Error(), c.fails)) {
			t.Errorf("%v: %v", c.args, err)
		}
		if err == nil && got != c.want {
			t.Errorf("%v gives %q", c.args, got)
		}
		if (log.Len() > 0) != (c.log != "") || !strings.Contains(log.String(), c.log) || strings.Contains(log.String(), ":flag@") {
			t.Errorf("%v logs %q", c.args, log.String())
		}
		if help := cmd.UsageString(); strings.Contains(help, "environment@") {
			t.Errorf("the help shows %s", help)
		}
	}
}
