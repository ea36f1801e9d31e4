package pgserver

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Dump writes all of a database, private or not, into a file by PostgreSQL's own program: as it is at one
// moment, while it is used. The address is a URL.
func Dump(ctx context.Context, address, file string) error {
	return tool(ctx, address, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--file="+file)
}

// Load fills an empty database with what [Dump] wrote, all of it or nothing.
func Load(ctx context.Context, address, file string) error {
	return tool(ctx, address, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction", file)
}

// tool runs a program of PostgreSQL's against a database. The password is no argument of it: those every
// process of the host can read.
func tool(ctx context.Context, address, name string, args ...string) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	u, err := url.Parse(address)
	if err != nil || (u.Scheme != "postgres" && u.Scheme != "postgresql") {
		return errors.New("the address of the database is no URL; give postgres://USER@HOST/NAME")
	}
	password, _ := u.User.Password()
	u.User = url.User(u.User.Username())
	cmd := exec.CommandContext(ctx, filepath.Join(bin, name), append([]string{"--dbname=" + u.String(), "--no-password"}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
	if password != "" {
		cmd.Env = append(cmd.Env, "PGPASSWORD="+password)
	}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", name, cmp.Or(ctx.Err(), err), strings.TrimSpace(out.String()))
	}
	return nil
}
