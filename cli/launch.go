package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) instanceLaunch() *cobra.Command {
	var name, template, zone, image, file, text string
	var labels map[string]string
	var follow following
	cmd := &cobra.Command{
		Use: "launch --name NAME --template NAME@N --zone ZONE", Short: "Launch one instance outside any group", Args: exactly(),
		Long: `Launches one instance outside any group, and prints its boot log while it comes up.
Nothing takes its place when its machine ends, and no pool sends it requests.`,
		Example: `  unitas instance launch --name trial --template timetable-web@2 --zone mid-pier
  unitas instance launch --name trial --template timetable-web@2 --zone mid-pier --image timetable@5 --user-data try.sh --label for=ada`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop, err := follow.within(cmd.Context())
			if err != nil {
				return err
			}
			defer stop()
			data, err := userData(cmd, file, text)
			if err != nil {
				return err
			}
			in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) {
				return c.LaunchInstance(cmd.Context(), &contract.LaunchInstanceParams{IdempotencyKey: freshKey()}, contract.NewInstance{Name: name, Template: template,
					Zone: zone, Image: given(cmd, "image", image), UserData: data, Labels: given(cmd, "label", contract.Labels(labels))})
			})
			if err != nil {
				return err
			}
			if !follow.wait || a.dry {
				return a.print(in, func() string { return fmt.Sprintf("%s is %s in %s.\n", in.Id, in.State, in.Zone) })
			}
			return a.watchBoot(ctx, in, follow)
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&name, "name", "", "the instance's `NAME`")
	flags.StringVar(&template, "template", "", "the template version, `NAME@N`")
	flags.StringVar(&zone, "zone", "", "the `ZONE`")
	flags.StringVar(&image, "image", "", "another image than the template's, `NAME@N`")
	flags.StringVar(&file, "user-data", "", "a `FILE` with other user data than the template's; - reads standard input")
	flags.StringVar(&text, "user-data-text", "", "the other user data itself, as `TEXT`")
	pairsVar(flags, &labels, "label", "labels besides the template's, `NAME=VALUE,…`")
	follow.add(cmd, "print its boot log until it serves")
	for _, must := range []string{"name", "template", "zone"} {
		_ = cmd.MarkFlagRequired(must)
	}
	cmd.MarkFlagsMutuallyExclusive("user-data", "user-data-text")
	return cmd
}

// bootTail prints what the machine of an instance writes, as it comes.
type bootTail struct {
	a       *app
	id      string
	to      io.Writer
	printed int
}

// look prints what is new, and returns the instance as it is.
func (t *bootTail) look(ctx context.Context) (contract.Instance, error) {
	in, _, err := ask[contract.Instance](t.a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(ctx, t.id) })
	log, _, logErr := ask[string](t.a, func(c *client.Client) (*http.Response, error) { return c.GetBootLog(ctx, t.id) })
	if logErr == nil {
		if len(log) < t.printed { // another launch writes a log of its own
			t.printed = 0
		}
		fmt.Fprint(t.to, log[t.printed:])
		t.printed = len(log)
	}
	return in, err
}

// until looks again and again until over says that it is, the service refuses, or the context
// ends, of which it returns false.
func (t *bootTail) until(ctx context.Context, over func(contract.Instance) (bool, error)) (bool, error) {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		in, err := t.look(ctx)
		if err != nil && ctx.Err() == nil && refused(err) {
			return false, err
		}
		if err == nil {
			if done, err := over(in); done || err != nil {
				return true, err
			}
		}
		select {
		case <-ctx.Done():
			return false, nil
		case <-tick.C:
		}
	}
}

// followBootLog prints what the machine writes, from its beginning, until it is gone.
func (a *app) followBootLog(ctx context.Context, id string) error {
	tail := bootTail{a: a, id: id, to: a.out}
	_, err := tail.until(ctx, func(in contract.Instance) (bool, error) {
		over := in.State == contract.InstanceStateGone || in.State == contract.InstanceStateLost
		if over {
			fmt.Fprintf(a.err, "%s is %s: %s\n", id, in.State, a.whyNot(ctx, in))
		}
		return over, nil
	})
	return err
}

// watchBoot prints what the machine writes until it serves or is gone.
func (a *app) watchBoot(ctx context.Context, in contract.Instance, follow following) error {
	fmt.Fprintf(a.err, "%s is %s in %s; its boot log:\n", in.Id, in.State, in.Zone)
	tail := bootTail{a: a, id: in.Id, to: a.err}
	over, err := tail.until(ctx, func(now contract.Instance) (bool, error) {
		switch now.State {
		case contract.InstanceStateServing:
			return true, a.print(now, func() string {
				return fmt.Sprintf("%s runs in %s on %s, %s after it was ordered. Remove it with: unitas instance retire %s\n", now.Id, now.Zone, now.Address,
					words.Span(now.ServedAt.Sub(now.OrderedAt)), now.Id)
			})
		case contract.InstanceStateGone, contract.InstanceStateLost, contract.InstanceStateLeaving:
			return true, badEnd{fmt.Sprintf("%s did not come up: %s; its boot log: unitas instance boot-log %s", in.Id, a.whyNot(ctx, now), in.Id)}
		}
		return false, nil
	})
	if !over && err == nil {
		return a.leaves(ctx, follow, in.Id+" does not serve", "unitas instance show "+in.Id)
	}
	return err
}

// whyNot finds what ended an instance; the last state only says that it is over.
func (a *app) whyNot(ctx context.Context, in contract.Instance) string {
	l, _, err := ask[contract.JournalList](a, func(c *client.Client) (*http.Response, error) {
		return c.ListJournal(ctx, &contract.ListJournalParams{Instance: &in.Id})
	})
	if err == nil {
		for _, e := range l.Items {
			if e.Kind == "instance.lost" || e.Kind == "instance.leaving" {
				return e.Because
			}
		}
	}
	return in.Why
}

func (a *app) instanceRelease() *cobra.Command {
	var replace, yes bool
	var reason string
	cmd := &cobra.Command{Use: "release INSTANCE", Short: "Let an instance go without stopping it; it belongs to no group from then on", Args: exactly("INSTANCE"),
		Long: `Lets an instance go without stopping it: it leaves its pools and its group, keeps
running, and is listed as belonging to nobody until it is retired. With --replace the
group launches another in its place; without it the size of the group is one less.`,
		Example: "  unitas instance release timetable-003 --replace --reason \"to look into it\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in, tag, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			then := "The size of the group is one less."
			if replace {
				then = "The group launches another."
			}
			if err := a.confirm(yes, "releasing "+in.Id+" takes it out of its group for good",
				fmt.Sprintf("This takes %s out of the group %s and its pools for good; its machine runs on. %s\nRelease it?", in.Id, in.Group, then)); err != nil {
				return err
			}
			in, _, err = ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) {
				return c.ReleaseInstance(cmd.Context(), args[0], &contract.ReleaseInstanceParams{IfMatch: &tag}, contract.InstanceRelease{Replace: &replace, Reason: given(cmd, "reason", reason)})
			})
			if err != nil {
				return err
			}
			return a.print(in, func() string {
				return fmt.Sprintf("%s belongs to nobody and runs on, on %s. Remove it with: unitas instance retire %s\n", in.Id, in.Address, in.Id)
			})
		}}
	cmd.Flags().BoolVar(&replace, "replace", false, "have the group launch another in its place")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) instanceRun() *cobra.Command {
	var timeout time.Duration
	cmd := &cobra.Command{Use: "run INSTANCE -- COMMAND…", Short: "Run a command on the machine of an instance, as its workload's user",
		Long: `Runs a command on the machine of an instance, as its workload's user and among its
files, and prints what it writes. That it was run is kept in the journal, with who ran
it. No shell reads the command; give one for pipes: -- sh -c '…'. The exit status is the
command's own; 3 as well when it did not end by itself.`,
		Example: "  unitas instance run timetable-003 -- cat season\n  unitas instance run timetable-003 --timeout 5s -- sh -c 'ls -l | head'",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 2 {
				return misused("takes INSTANCE -- COMMAND…, and was given %d words", len(args))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			ran, _, err := ask[contract.Run](a, func(c *client.Client) (*http.Response, error) {
				return c.RunOnInstance(cmd.Context(), args[0], contract.NewRun{Command: args[1:], TimeoutSeconds: given(cmd, "timeout", timeout.Seconds())})
			})
			if err != nil {
				return err
			}
			if a.output == "table" {
				_, err = io.WriteString(a.data(), ran.Output)
			} else {
				err = a.print(ran, nil)
			}
			if err != nil {
				return err
			}
			if ran.Truncated {
				fmt.Fprintln(a.err, "unitas: only the first 256 KiB of what it wrote are shown")
			}
			if ran.Status > 0 && ran.Why == nil {
				return passedOn{int(ran.Status), fmt.Sprintf("on %s it ended with status %d", args[0], ran.Status)}
			}
			if ran.Status != 0 {
				return badEnd{fmt.Sprintf("on %s: %s", args[0], or(ran.Why, fmt.Sprintf("it ended with status %d", ran.Status)))}
			}
			return nil
		}}
	cmd.Flags().DurationVar(&timeout, "timeout", 30*time.Second, "end it after this long, at most 5m")
	return cmd
}
