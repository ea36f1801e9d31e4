// Command unitas is the service and its client in one binary.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"unitas/cli"
	"unitas/internal/service"
)

// version is set when a release is built.
var version = "development"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	root := cli.Root()
	root.Version = version
	root.AddCommand(serveCommand())
	status := cli.Execute(ctx, root)
	stop()
	os.Exit(status)
}

func serveCommand() *cobra.Command {
	c := service.Config{Version: version}
	var level, format string
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service",
		Long: `Runs the service: its HTTP interface, the console, and everything that keeps
groups right. Without --database it starts a private PostgreSQL of its own in the
data directory. The first bearer token is written to the file "token" there.

SIGTERM or Ctrl-C stops it within seconds; the instances go on running, and the
service finds them again when it is started again.`,
		Example: "  unitas serve\n  unitas serve --listen 127.0.0.1:7410 --data ./state --zones east-pier,mid-pier,west-pier",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var l slog.Level
			if err := l.UnmarshalText([]byte(strings.ToUpper(level))); err != nil {
				return fmt.Errorf("--log-level %s: give debug, info, warn or error", level)
			}
			options := &slog.HandlerOptions{Level: l}
			switch format {
			case "text":
				c.Log = slog.New(slog.NewTextHandler(os.Stderr, options))
			case "json":
				c.Log = slog.New(slog.NewJSONHandler(os.Stderr, options))
			default:
				return fmt.Errorf("--log-format %s: give text or json", format)
			}
			if len(c.Zones) > 128 {
				return fmt.Errorf("--zones: there are %d; give at most 128", len(c.Zones))
			}
			return service.Run(cmd.Context(), c)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&c.Listen, "listen", cli.DefaultListen, "the `ADDRESS:PORT` of the interface and the console")
	flags.StringVar(&c.Data, "data", cli.DefaultData(), "the `DIRECTORY` for images, machines, the token and the private database")
	flags.StringVar(&c.Database, "database", os.Getenv("UNITAS_DATABASE"), "the `URL` of a PostgreSQL database (UNITAS_DATABASE)")
	flags.StringSliceVar(&c.Zones, "zones", []string{"east-pier", "mid-pier", "west-pier"}, "the zones, in the order in which they are filled")
	flags.StringVar(&level, "log-level", "info", "debug, info, warn or error")
	flags.StringVar(&format, "log-format", "text", "text or json")
	return cmd
}
