package cli

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) instanceCommand() *cobra.Command {
	var of string
	var gone bool
	listing := &cobra.Command{Use: "list", Short: "List instances", Args: exactly(),
		Long: `Lists instances, of all groups and those that belong to none. The number at the end of
an instance's name is counted in the group, in base 16: after timetable-009 comes
timetable-00a, and timetable-010 is the sixteenth. A number is never given twice.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			instances, err := a.instancesOf(cmd.Context(), of, gone)
			if err != nil {
				return err
			}
			return a.print(instances, func() string { return instanceTable(instances) })
		}}
	listing.Flags().StringVar(&of, "group", "", "only those of this `GROUP`")
	listing.Flags().BoolVar(&gone, "gone", false, "show those that are gone as well")
	showing := &cobra.Command{Use: "show INSTANCE", Short: "Show one instance with the last answers of its checks", Args: exactly("INSTANCE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, _, err := ask[contract.Instance](a, func(c *client.Client) (*http.Response, error) { return c.GetInstance(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(in, func() string { return instancePicture(in) })
		}}
	follow := false
	logging := &cobra.Command{Use: "boot-log INSTANCE", Short: "Print what the machine of an instance has written", Args: exactly("INSTANCE"),
		Example: "  unitas instance boot-log timetable-003 --follow",
		RunE: func(cmd *cobra.Command, args []string) error {
			if follow {
				return a.followBootLog(cmd.Context(), args[0])
			}
			log, _, err := ask[string](a, func(c *client.Client) (*http.Response, error) { return c.GetBootLog(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(map[string]string{"instance": args[0], "boot_log": log}, func() string { return log })
		}}
	logging.Flags().BoolVar(&follow, "follow", false, "go on with what it writes until it is gone, or Ctrl-C")
	return group("instance", "Instances: the machines that groups or people launched", listing, showing, logging, a.instanceLaunch(), a.instanceRetire(), a.instanceRelease(), a.instanceRun(), a.instanceShell(),
		a.instanceTell("recreate", "Give instances fresh machines under their names; nothing takes their places meanwhile", "getting a fresh machine.", &comes{contract.InstanceStateServing, "it serves again, on its fresh machine", true}),
		a.instanceTell("pin", "Protect instances from removal, by healing, shedding and rollouts alike", "pinned, and removed by nothing.", nil),
		a.instanceTell("unpin", "Let instances be removed again", "not pinned any more.", nil),
		a.instanceTell("park", "Take instances out of traffic and keep them running; the group launches others", "parked; bring back with: unitas instance unpark", &comes{contract.InstanceStateParked, "it is parked, with no request left", false}),
		a.instanceTell("unpark", "Bring parked instances back; once they serve the group sheds as many", "coming back.", &comes{contract.InstanceStateServing, "it serves again", false}))
}

func instancePicture(in contract.Instance) string {
	served := ""
	if in.ServedAt != nil {
		served = moment(*in.ServedAt) + ", " + words.Span(in.ServedAt.Sub(in.OrderedAt)) + " after it was ordered"
	}
	pinned := ""
	if in.Pinned {
		pinned = "yes; nothing removes it, and its group cannot be deleted, until: unitas instance unpin " + in.Id
	}
	var b strings.Builder
	image, labels, address := in.Image, in.Labels, in.Address
	if w := in.LaunchedWith; w != nil {
		image, labels = w.Image, w.Labels
		if in.Image != "" {
			image += ", in place of the template's"
		}
		address = fmt.Sprintf("%s, listens on port %d", in.Address, w.Port)
	}
	b.WriteString(facts("instance", in.Id, "group", orWord(in.Group, "none; a person launched it"), "zone", in.Zone, "template", in.Version, "image", image, "labels", pairs(labels), "address", address,
		"state", fmt.Sprintf("%s for %s", in.State, words.Span(time.Since(in.Since))), "because", in.Why, "verdict", map[bool]string{true: string(in.Verdict)}[in.State != contract.InstanceStateGone],
		"in flight", fmt.Sprintf("%d requests", in.InFlight), "pinned", pinned, "fresh machine", map[bool]string{true: "asked for; its turn comes once all others of the group serve"}[in.Awaits], "comes up", comesUp(in), "launched for", purpose(in), "ordered", moment(in.OrderedAt), "served", served))
	for _, r := range in.Reports {
		since := ""
		if r.Since != nil && in.State != contract.InstanceStateGone {
			since = " for " + words.Span(time.Since(*r.Since))
		}
		fmt.Fprintf(&b, "\n%s says %s%s: %s\n", r.Check, r.Verdict, since, r.Why)
		if r.Answers == nil || len(*r.Answers) == 0 {
			continue
		}
		rows := [][]string{{"  at", ">took", "answer", "response"}}
		for _, answer := range *r.Answers {
			good := "good"
			if !answer.Good {
				good = "bad"
			}
			rows = append(rows, []string{"  " + clock(answer.At), fmt.Sprintf("%.1f ms", answer.TookMs), good, answer.Why})
		}
		b.WriteString(table(rows))
	}
	return b.String()
}

// purpose tells what an instance was launched for, where it stands, and which of its
// machines it has.
func purpose(in contract.Instance) string {
	text := map[contract.InstancePurpose]string{"size": "the size", "healing": "healing", "balance": "balance between zones",
		"rollout": "a rollout", "person": "a person"}[in.Purpose]
	if in.Group != "" {
		text += fmt.Sprintf(", in slot %d", in.Slot)
	}
	if in.Launch > 1 {
		text += fmt.Sprintf("; this is its machine number %d", in.Launch)
	}
	return text
}

// comesUp holds how long an instance has taken against how long its kind takes;
// not ready is not ill.
func comesUp(in contract.Instance) string {
	if in.ServedAt != nil || in.State == contract.InstanceStateGone || in.State == contract.InstanceStateLost {
		return ""
	}
	text := "for " + words.Span(time.Since(in.OrderedAt))
	if in.UsualSeconds == nil || in.SlowSeconds == nil {
		return text + "; how long its kind takes is not known yet"
	}
	return fmt.Sprintf("%s; its kind usually takes %s, and 95 of 100 are there within %s", text, spanOf(*in.UsualSeconds), spanOf(*in.SlowSeconds))
}

func instanceTable(instances []contract.Instance) string {
	rows := [][]string{{"instance", "?group", "zone", "version", "state", ">for", "verdict", "pinned", "?>in flight", "?address", "because"}}
	groups, pins := false, false
	for _, in := range instances {
		groups = groups || in.Group != instances[0].Group
		pins = pins || in.Pinned
		verdict := string(in.Verdict)
		if in.State == contract.InstanceStateGone {
			verdict = "" // there is nobody to ask
		}
		why := in.Why
		if in.Awaits {
			why = "it waits for its turn to get a fresh machine"
		}
		rows = append(rows, []string{in.Id, orWord(in.Group, "none"), in.Zone, in.Version, string(in.State), words.Span(time.Since(in.Since)), verdict,
			map[bool]string{true: "pinned"}[in.Pinned], strconv.Itoa(in.InFlight), in.Address, why})
	}
	return orNone(without(rows, map[string]bool{"?group": !groups, "pinned": !pins}), "There are no instances.")
}

// without leaves out the columns of these headings, which would say nothing.
func without(rows [][]string, empty map[string]bool) [][]string {
	for k := len(rows[0]) - 1; k >= 0; k-- {
		if !empty[rows[0][k]] {
			continue
		}
		for r := range rows {
			rows[r] = slices.Delete(rows[r], k, k+1)
		}
	}
	return rows
}

func clip(text string, n int) string {
	if r := []rune(text); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return text
}
