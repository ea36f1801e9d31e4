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
func (a *app) tellInstances(ctx context.Context, ids []string, command contract.InstancesCommandCommand, launches *map[string]int, reason *string) ([]contract.Instance, error) {
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
		return c.TellInstances(ctx, nil, contract.InstancesCommand{Instances: ids, Command: command, Launches: launches, Reason: reason})
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
			question, launches, err := a.retiring(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := a.confirm(yes, "retiring "+strings.Join(args, ", ")+" stops "+either(len(args), "its machine", "their machines"), question); err != nil {
				return err
			}
			taken, err := a.tellInstances(cmd.Context(), args, contract.InstancesCommandCommandRetire, &launches, given(cmd, "reason", reason))
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

// retiring says what goes, and what takes its place; and which machines were looked at.
func (a *app) retiring(ctx context.Context, ids []string) (question string, launches map[string]int, err error) {
	var where, groups []string
	launches = map[string]int{}
	for _, id := range ids {
		in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(ctx, id) })
		if err != nil {
			return "", nil, err
		}
		launches[id] = in.Launch
		where = append(where, in.Id+" in "+in.Zone)
		if in.Group != "" && !slices.Contains(groups, in.Group) {
			groups = append(groups, in.Group)
		}
	}
	then := "Nothing takes " + either(len(ids), "its place.", "their places.")
	if len(groups) > 0 {
		then = fmt.Sprintf("The %s %s %s %s.", either(len(groups), "group", "groups"), strings.Join(groups, ", "), either(len(groups), "launches", "launch"), either(len(ids), "another", "others"))
	}
	return fmt.Sprintf("This drains and stops the %s of %s and removes %s files. %s %s stay%s.\nRetire %s?", either(len(ids), "machine", "machines"), strings.Join(where, ", "),
		either(len(ids), "its", "their"), then, either(len(ids), "Its journal", "Their journals"), either(len(ids), "s", ""), either(len(ids), "it", "them")), launches, nil
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
	var yes bool
	var p patience
	cmd := &cobra.Command{Use: word + " INSTANCE…", Short: short, Args: someInstances,
		Example: fmt.Sprintf("  unitas instance %s timetable-003\n  unitas instance %s timetable-003 timetable-00a --reason \"to compare them\"", word, word),
		RunE: func(cmd *cobra.Command, args []string) error {
			stays, err := p.stays()
			if err != nil {
				return err
			}
			if word == "recreate" {
				where, err := a.whereAre(cmd.Context(), args)
				if err != nil {
					return err
				}
				question := fmt.Sprintf("This drains and stops the %s of %s, removes %s files, and gives %s %s under the same %s. Nothing takes %s meanwhile.\nRecreate %s?", either(len(args), "machine", "machines"), where,
					either(len(args), "its", "their"), either(len(args), "it", "them"), either(len(args), "a fresh one", "fresh ones"), either(len(args), "name", "names"), either(len(args), "its place", "their places"), either(len(args), "it", "them"))
				if err := a.confirm(yes, "recreating "+strings.Join(args, ", ")+" stops "+either(len(args), "its machine", "their machines"), question); err != nil {
					return err
				}
			}
			taken, err := a.tellInstances(cmd.Context(), args, contract.InstancesCommandCommand(word), nil, given(cmd, "reason", reason))
			if stays && len(taken) > 0 {
				return errors.Join(err, a.stayUntil(cmd.Context(), taken, p, *to))
			}
			return errors.Join(err, a.printTold(taken, done))
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept in the journal")
	if word == "recreate" {
		cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	}
	if to != nil {
		p.add(cmd, to.until)
	}
	return cmd
}

// whereAre are instances with their zones: "timetable-003 in mid-pier".
func (a *app) whereAre(ctx context.Context, ids []string) (string, error) {
	var where []string
	for _, id := range ids {
		in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(ctx, id) })
		if err != nil {
			return "", err
		}
		where = append(where, in.Id+" in "+in.Zone)
	}
	return strings.Join(where, ", "), nil
}
