package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

// someInstances checks the arguments of an act on instances.
func someInstances(_ *cobra.Command, args []string) error {
	if len(args) == 0 {
		return misused("takes INSTANCE, or several, and was given none")
	}
	for k, name := range args {
		if slices.Contains(args[:k], name) {
			return misused("%s is named twice", name)
		}
	}
	return nil
}

// tellInstances gives the same command to instances and returns those that took it; the
// others are an error, after which the act still goes on for those. With launches it is meant of
// those machines alone.
func (a *app) tellInstances(ctx context.Context, ids []string, command contract.InstancesCommandCommand, launches *map[string]int, atOnce *bool, reason *string) ([]contract.Instance, error) {
	if len(ids) == 1 && launches == nil { // what is wrong with one is told as itself
		whatever := "*"
		in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) {
			return c.TellInstance(ctx, ids[0], &contract.TellInstanceParams{IfMatch: &whatever}, contract.InstanceCommand{Command: contract.InstanceCommandCommand(command), Reason: reason})
		})
		if err != nil {
			return nil, err
		}
		return []contract.Instance{in}, nil
	}
	told, _, err := ask[contract.InstancesTold](a, func(c *client.Client) (*http.Response, error) {
		return c.TellInstances(ctx, nil, contract.InstancesCommand{Instances: ids, Command: command, Launches: launches, AtOnce: atOnce, Reason: reason})
	})
	if err != nil {
		return nil, err
	}
	if len(told.Refused) == 0 {
		return told.Taken, nil
	}
	lines := make([]string, len(told.Refused))
	for k, r := range told.Refused {
		lines[k] = strings.TrimSuffix(r.Why, ".")
	}
	if len(ids) == 1 {
		return nil, errors.New(lines[0])
	}
	return told.Taken, fmt.Errorf("%d of %s refused: %s", len(lines), words.Count(len(ids), "instance"), strings.Join(lines, "; "))
}

// printTold prints one instance as itself and several as a list.
func (a *app) printTold(taken []contract.Instance, done string) error {
	if len(taken) == 0 {
		return nil
	}
	if len(taken) == 1 {
		return a.print(taken[0], func() string { return fmt.Sprintf("%s is %s\n", taken[0].Id, done) })
	}
	names := make([]string, len(taken))
	for k, in := range taken {
		names[k] = in.Id
	}
	return a.print(taken, func() string { return fmt.Sprintf("%s: %s\n", strings.Join(names, ", "), done) })
}

func (a *app) instanceRetire() *cobra.Command {
	var yes bool
	var reason string
	var p patience
	cmd := &cobra.Command{Use: "retire INSTANCE…", Short: "Drain, stop and remove instances; their groups launch others", Args: someInstances,
		Example: "  unitas instance retire timetable-003 --reason \"its disk is slow\" --wait --timeout 2m\n  unitas instance retire timetable-003 timetable-00a --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			stays, err := p.stays()
			if err != nil {
				return err
			}
			l, err := a.seeFirst(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := a.confirm(yes, "retiring "+strings.Join(args, ", ")+" stops "+either(len(args), "its machine", "their machines"), l.retiring()); err != nil {
				return err
			}
			taken, err := a.tellInstances(cmd.Context(), args, contract.InstancesCommandCommandRetire, &l.launches, nil, given(cmd, "reason", reason))
			if stays && len(taken) > 0 {
				return errors.Join(err, a.stayUntilGone(cmd.Context(), taken, p))
			}
			return errors.Join(err, a.printTold(taken, "being retired."))
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	p.add(cmd, "they are gone and their groups are whole again")
	return cmd
}

// looked is what was seen of instances before something is done to them.
type looked struct {
	where    string // "timetable-003 in mid-pier, …"
	groups   []string
	launches map[string]int // which of their machines it was
}

func (a *app) seeFirst(ctx context.Context, ids []string) (l looked, err error) {
	var where []string
	l.launches = map[string]int{}
	for _, id := range ids {
		in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(ctx, id) })
		if err != nil {
			return l, err
		}
		l.launches[id] = in.Launch
		where = append(where, in.Id+" in "+in.Zone)
		if in.Group != "" && !slices.Contains(l.groups, in.Group) {
			l.groups = append(l.groups, in.Group)
		}
	}
	l.where = strings.Join(where, ", ")
	return l, nil
}

// retiring says what goes, and what takes its place.
func (l looked) retiring() string {
	n := len(l.launches)
	then := "Nothing takes " + either(n, "its place.", "their places.")
	if len(l.groups) > 0 {
		then = fmt.Sprintf("The %s %s %s %s.", either(len(l.groups), "group", "groups"), strings.Join(l.groups, ", "), either(len(l.groups), "launches", "launch"), either(n, "another", "others"))
	}
	return fmt.Sprintf("This drains and stops the %s of %s and removes %s files. %s %s stay%s.\nRetire %s?", either(n, "machine", "machines"), l.where,
		either(n, "its", "their"), then, either(n, "Its journal", "Their journals"), either(n, "s", ""), either(n, "it", "them"))
}

// recreating says what goes, and what comes.
func (l looked) recreating(atOnce bool) string {
	n := len(l.launches)
	turns := either(n, "It goes once all others of its group serve.", "They go one after another, each once all others of its group serve.")
	if atOnce {
		turns = either(n, "It goes at once.", "All go at the same time.")
	}
	return fmt.Sprintf("This drains and stops the %s of %s, removes %s files, and gives %s under the same %s. %s Nothing takes %s meanwhile.\nRecreate %s?", either(n, "machine", "machines"), l.where,
		either(n, "its", "their"), either(n, "it a fresh one", "them fresh ones"), either(n, "name", "names"), turns, either(n, "its place", "their places"), either(n, "it", "them"))
}

// either is the word for one or for several.
func either(n int, one, several string) string {
	if n == 1 {
		return one
	}
	return several
}

// comes is what an act on instances comes to in the end, for who waits.
type comes struct {
	state contract.InstanceState
	until string
	fresh bool // on another machine than when it was told
}

// instanceTell is a command that is told to instances.
func (a *app) instanceTell(word, short, done string, to *comes) *cobra.Command {
	var reason string
	var yes, atOnce bool
	var p patience
	cmd := &cobra.Command{Use: word + " INSTANCE…", Short: short, Args: someInstances,
		Example: fmt.Sprintf("  unitas instance %s timetable-003\n  unitas instance %s timetable-003 timetable-00a --reason \"to compare them\"", word, word),
		RunE: func(cmd *cobra.Command, args []string) error {
			stays, err := p.stays()
			if err != nil {
				return err
			}
			var launches *map[string]int
			if word == "recreate" {
				l, err := a.seeFirst(cmd.Context(), args)
				if err != nil {
					return err
				}
				if err := a.confirm(yes, "recreating "+strings.Join(args, ", ")+" stops "+either(len(args), "its machine", "their machines"), l.recreating(atOnce)); err != nil {
					return err
				}
				launches = &l.launches
			}
			taken, err := a.tellInstances(cmd.Context(), args, contract.InstancesCommandCommand(word), launches, given(cmd, "at-once", atOnce), given(cmd, "reason", reason))
			if stays && len(taken) > 0 {
				return errors.Join(err, a.stayUntil(cmd.Context(), taken, p, *to))
			}
			return errors.Join(err, a.printTold(taken, done))
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	if word == "recreate" {
		cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
		cmd.Flags().BoolVar(&atOnce, "at-once", false, "all at the same time, whoever else serves; without it one after another")
	}
	if to != nil {
		p.add(cmd, to.until)
	}
	return cmd
}
