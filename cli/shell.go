package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/api/contract"
	"unitas/client"
)

// endOfInput is what a person types for it, Ctrl-D.
const endOfInput = 4

func (a *app) instanceShell() *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: "shell INSTANCE [-- COMMAND…]", Short: "Sit before a shell on the machine of an instance, as its workload's user",
		Long: `Opens a terminal on the machine of an instance and runs a shell in it, or the command
that is given, as the workload's user and among its files. That it was opened and how it
ended are kept in the journal, with who opened it; what is typed is not. It ends with
the shell (exit, or Ctrl-D), with the machine, with the connection, and when nothing is
typed for the time that the service was started with (--shell-idle). The exit status is
the command's own; 3 when it did not end by itself. For scripts, unitas instance run.`,
		Example: "  unitas instance shell timetable-003\n  unitas instance shell timetable-003 --reason 'its disk fills' -- bash -l",
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 || (len(args) > 1 && cmd.ArgsLenAtDash() != 1) {
				return misused("takes INSTANCE, or INSTANCE -- COMMAND…, and was given %d words", len(args))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			how, err := a.sitAt(cmd.Context(), args[0], args[1:], given(cmd, "reason", reason))
			switch {
			case err != nil:
				return err
			case how.Status > 0:
				return passedOn{how.Status, fmt.Sprintf("on %s it ended with status %d", args[0], how.Status)}
			case how.Status < 0:
				return badEnd{fmt.Sprintf("the shell on %s is over: %s", args[0], or(how.Why, "it was ended"))}
			}
			return nil
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	return cmd
}

// sitAt opens a terminal and carries it to this one until it is over.
func (a *app) sitAt(ctx context.Context, instance string, command []string, reason *string) (how contract.ShellEnd, err error) {
	asked := contract.NewShell{Reason: reason}
	if len(command) > 0 {
		asked.Command = &command
	}
	if columns, rows, err := term.GetSize(int(os.Stdout.Fd())); err == nil && columns > 0 && rows > 0 {
		columns, rows = min(columns, 1000), min(rows, 1000)
		asked.Columns, asked.Rows = &columns, &rows
	}
	if kind := os.Getenv("TERM"); kind != "" {
		asked.Terminal = &kind
	}
	opened, _, err := ask[contract.Shell](a, func(c *client.Client) (*http.Response, error) { return c.OpenShell(ctx, instance, asked) })
	if err != nil {
		return how, err
	}
	c, err := a.connect()
	if err != nil {
		return how, err
	}
	coming, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	t, err := c.Terminal(coming, opened.Stream)
	if err != nil {
		return how, a.explain(err)
	}
	if stdin := int(os.Stdin.Fd()); term.IsTerminal(stdin) {
		fmt.Fprintf(a.err, "unitas: a shell on %s; exit or Ctrl-D ends it, and so do %s without a key\n", instance, spanOf(opened.IdleSeconds))
		before, err := term.MakeRaw(stdin)
		if err != nil {
			return how, fmt.Errorf("pass keys on as they are typed: %w", err)
		}
		defer term.Restore(stdin, before)
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	go typing(ctx, t)
	go sizing(ctx, t)
	how, err = t.Show(ctx, past(a.out))
	if errors.Is(err, client.ErrCut) {
		return how, badEnd{fmt.Sprintf("the shell on %s: %s", instance, err)}
	}
	return how, err
}

// typing passes on what is typed. It may outlive its terminal by one key.
func typing(ctx context.Context, t *client.Terminal) {
	buffer := make([]byte, 16<<10)
	for {
		n, err := os.Stdin.Read(buffer)
		if n > 0 && t.Type(ctx, buffer[:n]) != nil {
			return
		}
		if err != nil {
			_ = t.Type(ctx, []byte{endOfInput})
			return
		}
	}
}

// sizing passes on how large the screen becomes.
func sizing(ctx context.Context, t *client.Terminal) {
	changed := make(chan os.Signal, 1)
	signal.Notify(changed, syscall.SIGWINCH)
	defer signal.Stop(changed)
	for {
		select {
		case <-ctx.Done():
			return
		case <-changed:
			if columns, rows, err := term.GetSize(int(os.Stdout.Fd())); err == nil && columns > 0 && rows > 0 {
				_ = t.Resize(ctx, columns, rows)
			}
		}
	}
}
