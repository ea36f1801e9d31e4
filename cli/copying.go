package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) imageCopy() *cobra.Command {
	var to string
	var stop bool
	var follow following
	cmd := &cobra.Command{Use: "copy NAME@N --to REGION", Short: "Bring a version to another region", Args: exactly("NAME@N"),
		Long: `Brings a version to another region and shows how far it is. Ctrl-C leaves the copy
going; --stop breaks it off. Started again, it goes on where it was.`,
		Example: "  unitas image copy timetable@3 --to headland\n  unitas image copy timetable@3 --to headland --stop",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			ctx, leave, err := follow.within(cmd.Context())
			if err != nil {
				return err
			}
			defer leave()
			call := func(c *client.Client) (*http.Response, error) {
				return c.CopyImage(cmd.Context(), name, version, contract.NewCopy{To: to})
			}
			if stop {
				call = func(c *client.Client) (*http.Response, error) { return c.StopCopy(cmd.Context(), name, version, to) }
			}
			i, _, err := ask[contract.Image](a, call)
			if err != nil {
				return err
			}
			if stop || !follow.wait {
				return a.print(i, func() string { return copyLine(copyTo(i, to)) + "\n" })
			}
			return a.watchCopy(ctx, i, to, follow)
		}}
	cmd.Flags().StringVar(&to, "to", "", "the `REGION`")
	cmd.Flags().BoolVar(&stop, "stop", false, "break off the copy that is under way")
	follow.add(cmd, "show how far it is until it ends")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

func copyTo(i contract.Image, region string) contract.Copy {
	if i.Copies != nil {
		for _, c := range *i.Copies {
			if c.Region == region {
				return c
			}
		}
	}
	return contract.Copy{Region: region}
}

func copyLine(c contract.Copy) string {
	text := fmt.Sprintf("to %s: %s, %s of %s", c.Region, c.State, size(c.DoneBytes), size(c.TotalBytes))
	if c.State == contract.CopyStateCopying {
		took := time.Since(c.StartedAt).Seconds()
		rate := float64(c.DoneBytes) / max(took, 0.001)
		text += fmt.Sprintf(", %s/s", size(int64(rate)))
		if rate > 1 {
			text += fmt.Sprintf(", %s left", words.Span(time.Duration(float64(c.TotalBytes-c.DoneBytes)/rate*float64(time.Second))))
		}
	}
	if c.Why != "" {
		text += ": " + c.Why
	}
	return text
}

func (a *app) watchCopy(ctx context.Context, i contract.Image, to string, follow following) error {
	name, version := i.Name, strconv.Itoa(i.Version)
	onTerminal := term.IsTerminal(int(os.Stderr.Fd()))
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		i, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, name, version) })
		if err != nil && ctx.Err() == nil {
			return err
		}
		c := copyTo(i, to)
		if onTerminal && err == nil {
			fmt.Fprintf(past(a.err), "\r%s\x1b[K", shownText(fmt.Sprintf("%s@%s %s", i.Name, version, copyLine(c))))
		}
		if c.State != contract.CopyStateCopying && err == nil {
			if onTerminal {
				fmt.Fprint(past(a.err), "\r\x1b[K")
			}
			if c.State != contract.CopyStateDone {
				return badEnd{fmt.Sprintf("the copy of %s@%s is %s: %s", i.Name, version, c.State, c.Why)}
			}
			return a.print(i, func() string {
				return fmt.Sprintf("%s@%s is in %s (%s).\n", i.Name, version, strings.ReplaceAll(regions(i), ", ", " and "), size(i.SizeBytes))
			})
		}
		select {
		case <-ctx.Done():
			if onTerminal {
				fmt.Fprintln(a.err)
			}
			return a.leaves(ctx, follow, fmt.Sprintf("%s@%s is not in %s", name, version, to), fmt.Sprintf("unitas image show %s@%s", name, version))
		case <-tick.C:
		}
	}
}

func (a *app) imageExport() *cobra.Command {
	var to string
	cmd := &cobra.Command{Use: "export NAME@N --to FILE", Short: "Write a version as the tar of an OCI image layout", Args: exactly("NAME@N"),
		Long:    "Writes a version as the tar of an OCI image layout, which imports again with the\nsame digest. --to - writes to standard output.",
		Example: "  unitas image export timetable@3 --to timetable-3.tar",
		RunE: func(cmd *cobra.Command, args []string) error {
			i, _, err := a.readImage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			c, err := a.connect()
			if err != nil {
				return err
			}
			res, err := c.ExportImage(cmd.Context(), i.Name, strconv.Itoa(i.Version))
			if err != nil {
				return a.explain(err)
			}
			if res.StatusCode != http.StatusOK {
				_, _, err := client.Read[string](res, nil)
				return err
			}
			defer res.Body.Close()
			body := &progress{Reader: res.Body, a: a, total: i.SizeBytes, begun: time.Now()}
			defer body.end()
			if to == "-" {
				_, err = io.Copy(a.data(), body)
				return err
			}
			n, err := writeWhole(to, body)
			if err != nil {
				return err
			}
			body.end()
			return a.print(map[string]any{"file": to, "bytes": n, "digest": i.Digest}, func() string { return fmt.Sprintf("%s holds %s (%s).\n", to, args[0], size(n)) })
		}}
	cmd.Flags().StringVar(&to, "to", "", "the `FILE`, or - for standard output")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

// writeWhole writes a file that is there whole or not at all.
func writeWhole(file string, r io.Reader) (int64, error) {
	f, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".half-*")
	if err != nil {
		return 0, onFile("--to", file, err)
	}
	defer os.Remove(f.Name())
	n, err := io.Copy(f, r)
	if err := errors.Join(err, f.Chmod(0o644), f.Close()); err != nil {
		return n, fmt.Errorf("the export broke off, and nothing was written: %s", brokeOff(err))
	}
	return n, os.Rename(f.Name(), file)
}
