// Package cli is the command line: it speaks to the service through the
// client and prints tables for people or JSON and YAML for programs.
//
// Of the services that it knows by name one is meant when nothing else is said. A command is staying
// when it goes on until what it began has come to its end.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"
	"sigs.k8s.io/yaml"

	"unitas/client"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:7410"

// Exit statuses besides 0.
const (
	exitRefused  = 1
	exitUsage    = 2
	exitBadEnded = 3
)

// badEnd is a watched operation that ended badly.
type badEnd struct{ text string }

func (b badEnd) Error() string { return b.text }

// passedOn is the status of a command that was run elsewhere.
type passedOn struct {
	status int
	text   string
}

func (p passedOn) Error() string { return p.text }

// usage is a command that was called wrongly.
type usage struct{ error }

func misused(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// DefaultData is the directory in which the service keeps its things unless
// told otherwise: /var/lib/unitas for root, below the home directory else.
func DefaultData() string {
	if os.Geteuid() == 0 {
		return "/var/lib/unitas"
	}
	if state := os.Getenv("XDG_STATE_HOME"); state != "" {
		return filepath.Join(state, "unitas")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		home = "."
	}
	return filepath.Join(home, ".local", "state", "unitas")
}

// app is what the commands share.
type app struct {
	server, tokenFile, output string
	// use is the service that is meant, by its name in the settings; certificate a file of
	// who signed for it.
	use, certificate string
	utc              bool
	dry              bool // nothing is changed
	out, err         io.Writer
}

// Root is the command line without the service's own commands.
func Root() *cobra.Command {
	a := &app{out: &shown{to: os.Stdout}, err: &shown{to: os.Stderr}}
	root := &cobra.Command{
		Use:   "unitas",
		Short: "Keeps load-balanced groups of machines on the versions that were chosen for them",
		Long: `Unitas keeps load-balanced groups of machine instances running on the image and
template versions that you chose: it launches, probes, heals and replaces them,
and can always say why.

A rollout in a few lines:
  unitas image import timetable --from timetable.tar.gz
  unitas template create timetable-web --image timetable@1
  unitas check create sailings-up --kind http --path /up
  unitas pool create front --listen 127.0.0.1:8000 --check sailings-up
  unitas group create timetable --template timetable-web@1 --size 6 --min 3 --max 9 --pool front --heal sailings-up
  unitas rollout start timetable --to timetable-web@2 --waves 1,50%,100% --watch`,
		SilenceErrors: true, SilenceUsage: true,
	}
	flags := root.PersistentFlags()
	flags.StringVar(&a.server, "server", environment("UNITAS_SERVER", "http://"+DefaultListen), "the service's `URL` (UNITAS_SERVER)")
	flags.StringVar(&a.tokenFile, "token-file", environment("UNITAS_TOKEN_FILE", filepath.Join(DefaultData(), "token")),
		"the `FILE` with the bearer token (UNITAS_TOKEN_FILE; UNITAS_TOKEN gives the token itself)")
	flags.StringVarP(&a.output, "output", "o", "table", "table, json or yaml")
	flags.StringVar(&a.use, "use", "", "the `SERVICE` that is meant, by its name among those of unitas config")
	flags.BoolVar(&a.utc, "utc", false, "tell times in UTC, not in the zone of this machine")
	flags.BoolVar(&wideTables, "wide", false, "keep all columns of a table, also where the terminal is too narrow")
	root.SetFlagErrorFunc(misread)
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		if a.output != "table" && a.output != "json" && a.output != "yaml" {
			return misused("--output %s: give table, json or yaml", a.output)
		}
		if a.utc {
			time.Local = time.UTC // of this process, which ends with the command
		}
		if ownChoice[cmd.Name()] || (cmd.Parent() != nil && ownChoice[cmd.Parent().Name()]) {
			return nil
		}
		return a.chooseService(cmd)
	}
	defer a.complete(root)
	defer a.tries(root)
	root.AddCommand(a.serviceCommand(), a.placesCommand(), a.imageCommand(), a.templateCommand(), a.checkCommand(), a.listenerCommand(), a.poolCommand(), a.groupCommand(),
		a.instanceCommand(), a.ruleCommand(), a.metricCommand(), a.hookCommand(), a.ticketCommand(), a.rolloutCommand(), a.courseCommand(), a.drillCommand(), a.noticeCommand(), a.replicaCommand(), a.costsCommand(), a.journalCommand(), a.whyCommand(), a.teardownCommand(), a.configCommand(), a.doctorCommand())
	return root
}

// ownChoice are the commands that ask no service, or look for it themselves.
var ownChoice = map[string]bool{"config": true, "doctor": true, "serve": true, "completion": true, "help": true}

// Execute runs the command line and returns the exit status.
func Execute(ctx context.Context, root *cobra.Command) int {
	began, stderr := false, &shown{to: os.Stderr}
	watchBegin(root, &began)
	ran, err := root.ExecuteContextC(ctx)
	var wrong usage
	var bad badEnd
	var passed passedOn
	switch {
	case err == nil:
		return 0
	case errors.As(err, &passed):
		fmt.Fprintln(stderr, "unitas:", passed.text)
		return passed.status
	case errors.As(err, &bad):
		fmt.Fprintln(stderr, "unitas:", err)
		return exitBadEnded
	case errors.As(err, &wrong), !began: // what is wrong before a command begins is how it was called
		fmt.Fprintf(stderr, "unitas: %s (--help says more)\n", miscalled(err))
		return exitUsage
	}
	for _, line := range refusal(ran, os.Args[1:], err) {
		fmt.Fprintln(stderr, "unitas:", here(line))
	}
	return exitRefused
}

// watchBegin notes that a command began its work.
func watchBegin(c *cobra.Command, began *bool) {
	if run := c.RunE; run != nil {
		c.RunE = func(c *cobra.Command, args []string) error {
			*began = true
			return run(c, args)
		}
	}
	for _, below := range c.Commands() {
		watchBegin(below, began)
	}
}

func oneLine(err error) string { return strings.Join(strings.Fields(err.Error()), " ") }

func environment(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// exactly checks the arguments and names them when they are wrong.
func exactly(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != len(names) {
			if len(names) == 0 {
				return misused("takes no arguments, and was given %s", strings.Join(args, " "))
			}
			return misused("takes exactly %s, and was given %d", strings.Join(names, " "), len(args))
		}
		return nil
	}
}

// Exactly is it for commands of the host, which stand beside these.
func Exactly(names ...string) cobra.PositionalArgs { return exactly(names...) }

func (a *app) connect() (*client.Client, error) {
	token := os.Getenv("UNITAS_TOKEN")
	if token == "" {
		raw, err := os.ReadFile(a.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("%w; --token-file names another, UNITAS_TOKEN the token itself", onFile("the token file", a.tokenFile, err))
		}
		token = strings.TrimSpace(string(raw))
	}
	var options []client.ClientOption
	if a.certificate != "" {
		trust, err := trusting(a.certificate)
		if err != nil {
			return nil, err
		}
		options = append(options, trust)
	}
	if a.dry {
		options = append(options, onlyTried)
	}
	return client.Connect(a.server, token, options...)
}

// ask makes one call and reads its answer.
func ask[T any](a *app, call func(c *client.Client) (*http.Response, error)) (T, string, error) {
	var zero T
	c, err := a.connect()
	if err != nil {
		return zero, "", err
	}
	out, etag, err := client.Read[T](call(c))
	return out, etag, a.explain(err)
}

// explain names the way out of a service that is not reached.
func (a *app) explain(err error) error {
	var e *client.Error
	if err == nil || errors.As(err, &e) || errors.Is(err, context.Canceled) {
		return err
	}
	return &unreached{fmt.Sprintf("the service at %s is not reached: %s; --server names another", a.server, network(err)), err}
}

// unreached is a service that does not answer, in plain words.
type unreached struct {
	text string
	err  error
}

func (u *unreached) Error() string { return u.text }
func (u *unreached) Unwrap() error { return u.err }

// list reads all pages of a list.
func list[L, T any](a *app, call func(c *client.Client, after *string) (*http.Response, error), items func(L) ([]T, *string)) ([]T, error) {
	return listUpTo(a, math.MaxInt, call, items)
}

// listUpTo reads pages until there are enough.
func listUpTo[L, T any](a *app, most int, call func(c *client.Client, after *string) (*http.Response, error), items func(L) ([]T, *string)) ([]T, error) {
	all := []T{}
	var after *string
	for {
		page, _, err := ask[L](a, func(c *client.Client) (*http.Response, error) { return call(c, after) })
		if err != nil {
			return nil, err
		}
		part, next := items(page)
		all = append(all, part...)
		if len(all) >= most {
			return all[:most], nil
		}
		if next == nil {
			return all, nil
		}
		after = next
	}
}

// print writes v for programs, or what table returns for people.
func (a *app) print(v any, table func() string) error {
	if a.dry && a.output != "table" {
		fmt.Fprintln(a.err, "unitas: only tried; nothing was changed")
	}
	switch a.output {
	case "json":
		e := json.NewEncoder(a.data())
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "yaml":
		raw, err := yaml.Marshal(v)
		if err != nil {
			return err
		}
		_, err = a.data().Write(raw)
		return err
	}
	_, err := io.WriteString(a.out, onScreen(a.framed(table())))
	return err
}

// freshKey lets a creation be repeated when its answer was lost on the way.
func freshKey() *string {
	key := uuid.NewString()
	return &key
}

// given returns the flag's value when it was given, else nil.
func given[T any](cmd *cobra.Command, flag string, v T) *T {
	if !cmd.Flags().Changed(flag) {
		return nil
	}
	return &v
}
