package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

// courseFlags are settings of a rollout; those that are not given are the course's.
type courseFlags struct {
	waves              []string
	above, below       int
	soak               time.Duration
	order, pace, hours string
	gates              gateFlags
}

const courseHelp = `Each wave says how far to go: a number of instances or a share of the group, and
after a colon how long it soaks when that is not as --soak says: 1:2m,25%,100%.
Waves must go up, and the last is 100%.

Gates are looked at all the time, and one that breaks holds the rollout or reverts it.
Without --gate there is one on errors. The kinds: errors and latency compare what new
instances answer with what old ones do; healthy is the share of the new ones that are
well, serving how many of the group serve. The settings, each with what it is when left
out: margin=0.5, for latency 5 (percent points that new may do worse), floor=100
(percent, of healthy; of serving a number), on-broken=revert (or hold), warm=0s (a new
instance's first answers are left out), min-requests=0 (requests that new ones must have
answered in a wave), on-undecided=go-on (or hold, extend; when they were fewer).`

func (f *courseFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringSliceVar(&f.waves, "waves", []string{"1", "25%", "100%"}, "how far each wave goes")
	numberVar(flags, &f.above, "above", 1, "how many instances more than the size there may be")
	numberVar(flags, &f.below, "below", 0, "how many serving instances fewer than the size there may be")
	flags.DurationVar(&f.soak, "soak", 30*time.Second, "how long a wave must stay good that has no soak of its own")
	flags.StringVar(&f.order, "order", "mixed", "mixed over the zones, zone-by-zone, or oldest-first")
	flags.StringVar(&f.pace, "pace", "in-waves", "in-waves, or at-once: all at the same time, and nobody serves meanwhile; for test groups")
	flags.StringVar(&f.hours, "hours", "", "replace only in these `HOURS` of the day, such as '22:00-05:00 Europe/Paris'; UTC without a time zone")
	f.gates.add(flags)
}

func secondsOf(cmd *cobra.Command, name string, d time.Duration) *float64 {
	return given(cmd, name, d.Seconds())
}

func (a *app) courseCommand() *cobra.Command {
	listing := &cobra.Command{Use: "list", Short: "List courses", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, _, err := ask[contract.CourseList](a, func(c *client.Client) (*http.Response, error) { return c.ListCourses(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(all.Items, func() string {
				rows := [][]string{{"course", "waves", "?>above", "?>below", ">soak", "?gates", "?order", "?pace", "?hours", "used by", "note"}}
				for _, c := range all.Items {
					s := c.Settings
					rows = append(rows, []string{c.Name, strings.Join(*s.Waves, ","), fmt.Sprint(*s.Above), fmt.Sprint(*s.Below), spanOf(*s.SoakSeconds), gateNames(*s.Gates),
						string(*s.Order), string(*s.Pace), orWord(*s.Hours, "any"), strings.Join(c.UsedBy, ", "), *s.Note})
				}
				return orNone(rows, "There are no courses; save one with: unitas course save NAME --waves …")
			})
		}}
	showing := &cobra.Command{Use: "show COURSE", Short: "Show one course", Args: exactly("COURSE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, _, err := ask[contract.Course](a, func(c *client.Client) (*http.Response, error) { return c.GetCourse(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(c, func() string { return coursePicture(c) })
		}}
	return group("course", "Courses: settings of rollouts, saved by name", a.courseSave(), listing, showing,
		a.deleting("course", func(ctx context.Context, c *client.Client, name string) (*http.Response, error) {
			return c.GetCourse(ctx, name)
		},
			func(ctx context.Context, c *client.Client, name string, tag string) (*http.Response, error) {
				return c.DeleteCourse(ctx, name, &contract.DeleteCourseParams{IfMatch: &tag})
			}))
}

func coursePicture(c contract.Course) string {
	s := c.Settings
	return facts("course", c.Name, "waves", strings.Join(*s.Waves, ", "), "soak", spanOf(*s.SoakSeconds)+" for each wave that has none of its own", "above", fmt.Sprint(*s.Above), "below", fmt.Sprint(*s.Below),
		"gates", gateNames(*s.Gates), "order", string(*s.Order), "pace", string(*s.Pace), "hours", orWord(*s.Hours, "any"), "used by", strings.Join(c.UsedBy, ", "), "note", *s.Note,
		"saved", moment(c.CreatedAt)+" by "+c.CreatedBy)
}

func gateNames(gates []contract.NewGate) string {
	names := make([]string, len(gates))
	for i, g := range gates {
		names[i] = string(g.Kind)
	}
	return orWord(strings.Join(names, ", "), "none")
}

func (a *app) courseSave() *cobra.Command {
	var f courseFlags
	var note string
	cmd := &cobra.Command{Use: "save COURSE", Short: "Save settings of rollouts by name, or have a course otherwise; what is left out is as usual", Args: exactly("COURSE"),
		Long:    "Saves settings of rollouts by name. Use them with: unitas rollout start GROUP --course\nCOURSE, or have them be the usual ones of a group: unitas group set GROUP --course COURSE.\n\n" + courseHelp,
		Example: "  unitas course save careful --waves 1:10m,10%:10m,50%,100% --soak 5m --gate errors --gate latency --hours '09:00-16:00 Europe/Paris'",
		RunE: func(cmd *cobra.Command, args []string) error {
			body := contract.CourseSettings{Waves: given(cmd, "waves", f.waves), Above: given(cmd, "above", f.above), Below: given(cmd, "below", f.below), SoakSeconds: secondsOf(cmd, "soak", f.soak),
				Order: given(cmd, "order", contract.CourseSettingsOrder(f.order)), Pace: given(cmd, "pace", contract.CourseSettingsPace(f.pace)), Hours: given(cmd, "hours", f.hours), Note: given(cmd, "note", note)}
			var err error
			if body.Gates, err = f.gates.read(cmd); err != nil {
				return err
			}
			_, tag, err := ask[contract.Course](a, func(c *client.Client) (*http.Response, error) { return c.GetCourse(cmd.Context(), args[0]) })
			params := &contract.SaveCourseParams{IfMatch: &tag}
			if client.Is(err, "not-found") {
				params.IfMatch, err = nil, nil
			}
			if err != nil {
				return err
			}
			c, _, err := ask[contract.Course](a, func(c *client.Client) (*http.Response, error) {
				return c.SaveCourse(cmd.Context(), args[0], params, body)
			})
			if err != nil {
				return err
			}
			return a.print(c, func() string { return coursePicture(c) })
		}}
	f.add(cmd)
	cmd.Flags().StringVar(&note, "note", "", "what it is for")
	return cmd
}
