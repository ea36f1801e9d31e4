package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

// What images and templates have in common: marks, withdrawal, deletion.

func (a *app) readMarks(call func(c *client.Client) (*http.Response, error)) (contract.Marks, error) {
	m, _, err := ask[contract.Marks](a, call)
	return m, err
}

func (a *app) markCommand(kind string) *cobra.Command {
	return &cobra.Command{Use: "mark NAME@N MARK", Short: "Put a mark on a version, or move it there", Args: exactly("NAME@N", "MARK"),
		Long: `Puts a movable name on a version. A mark may be given wherever a version may, as
NAME@MARK; what is recorded then is the number.`,
		Example: map[string]string{"image": "  unitas image mark timetable@7 stable", "template": "  unitas template mark timetable-web@4 stable"}[kind],
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(version)
			if err != nil { // it is another mark
				if n, err = a.numberOf(cmd, kind, name, version); err != nil {
					return err
				}
			}
			m, err := a.readMarks(func(c *client.Client) (*http.Response, error) {
				if kind == "image" {
					return c.SetImageMark(cmd.Context(), name, args[1], nil, contract.MarkPlace{Version: n})
				}
				return c.SetTemplateMark(cmd.Context(), name, args[1], nil, contract.MarkPlace{Version: n})
			})
			if err != nil {
				return err
			}
			return a.print(m, func() string { return fmt.Sprintf("%s@%s is %s@%d.\n", name, args[1], name, n) })
		}}
}

func (a *app) numberOf(cmd *cobra.Command, kind, name, version string) (int, error) {
	if kind == "image" {
		i, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(cmd.Context(), name, version) })
		return i.Version, err
	}
	t, _, err := ask[contract.Template](a, func(c *client.Client) (*http.Response, error) { return c.GetTemplate(cmd.Context(), name, version) })
	return t.Version, err
}

func (a *app) unmarkCommand(kind string) *cobra.Command {
	return &cobra.Command{Use: "unmark NAME MARK", Short: "Take a mark away", Args: exactly("NAME", "MARK"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.readMarks(func(c *client.Client) (*http.Response, error) {
				if kind == "image" {
					return c.RemoveImageMark(cmd.Context(), args[0], args[1], nil)
				}
				return c.RemoveTemplateMark(cmd.Context(), args[0], args[1], nil)
			})
			if err != nil {
				return err
			}
			return a.print(m, func() string { return fmt.Sprintf("%s has no mark %s any more.\n", args[0], args[1]) })
		}}
}

func (a *app) marksCommand(kind string) *cobra.Command {
	return &cobra.Command{Use: "marks NAME", Short: "List the marks under a name, and where they were", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.readMarks(func(c *client.Client) (*http.Response, error) {
				if kind == "image" {
					return c.ListImageMarks(cmd.Context(), args[0])
				}
				return c.ListTemplateMarks(cmd.Context(), args[0])
			})
			if err != nil {
				return err
			}
			return a.print(m, func() string {
				if len(m.History) == 0 {
					return fmt.Sprintf("%s has no marks; set one with: unitas %s mark %s@N MARK\n", args[0], kind, args[0])
				}
				rows := [][]string{{"mark", ">version"}}
				for _, i := range m.Items {
					rows = append(rows, []string{i.Mark, strconv.Itoa(i.Version)})
				}
				moves := [][]string{{"at", "mark", ">from", ">to", "by"}}
				number := func(n *int) string {
					if n == nil {
						return "none"
					}
					return strconv.Itoa(*n)
				}
				for _, h := range m.History {
					moves = append(moves, []string{moment(h.At), h.Mark, number(h.From), number(h.To), h.By})
				}
				return table(rows) + "\n" + table(moves)
			})
		}}
}

func (a *app) withdrawCommand(kind string) *cobra.Command {
	var reason, successor string
	var yes bool
	cmd := &cobra.Command{Use: "withdraw NAME@N --reason WHY", Short: "Stop new use of a version; what runs on it stays", Args: exactly("NAME@N"),
		Long: `Stops new use of a version, for good. Instances that run on it stay, and groups
that launch it go on and show an advice. --successor names what to use instead.`,
		Example: map[string]string{"image": `  unitas image withdraw timetable@2 --reason "its library has a hole" --successor timetable@3`,
			"template": `  unitas template withdraw timetable-web@2 --reason "too little memory" --successor timetable-web@3`}[kind],
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			body := contract.Withdrawal{Reason: reason, Successor: given(cmd, "successor", successor)}
			if kind == "image" {
				was, tag, err := a.readImage(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				if err := a.confirm(yes, "withdrawing "+args[0]+" is for good", withdrawal(kind, args[0], was.Users)); err != nil {
					return err
				}
				i, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) {
					return c.WithdrawImage(cmd.Context(), name, version, &contract.WithdrawImageParams{IfMatch: &tag}, body)
				})
				if err != nil {
					return err
				}
				return a.print(i, func() string { return withdrawnLine(args[0], i.Users) })
			}
			t, tag, err := a.readTemplate(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			users := t.Users
			if err := a.confirm(yes, "withdrawing "+args[0]+" is for good", withdrawal(kind, args[0], users)); err != nil {
				return err
			}
			if t, _, err = ask[contract.Template](a, func(c *client.Client) (*http.Response, error) {
				return c.WithdrawTemplate(cmd.Context(), name, version, &contract.WithdrawTemplateParams{IfMatch: &tag}, body)
			}); err != nil {
				return err
			}
			return a.print(t, func() string { return withdrawnLine(args[0], users) })
		}}
	cmd.Flags().StringVar(&reason, "reason", "", "why; whoever wants to use it is told")
	cmd.Flags().StringVar(&successor, "successor", "", "what to use instead, `NAME@N`")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

// withdrawal says what the withdrawal of a version means, and asks.
func withdrawal(kind, ref string, u *contract.Users) string {
	text := fmt.Sprintf("This stops new use of the %s %s for good; it cannot be taken back.\n", kind, ref)
	if u != nil && len(u.Groups)+len(u.Instances) > 0 {
		text += "What runs on it stays, and groups that launch it go on with an advice:\n" + usersText(u) + "\n"
	}
	return text + "Withdraw it?"
}

func withdrawnLine(ref string, u *contract.Users) string {
	if u == nil || len(u.Groups)+len(u.Instances) == 0 {
		return fmt.Sprintf("%s is withdrawn; nothing runs on it.\n", ref)
	}
	return fmt.Sprintf("%s is withdrawn; these go on with it:\n%s\n", ref, usersText(u))
}

func (a *app) deleteCommand(kind string) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "delete NAME@N", Short: "Delete a version that nothing uses", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			var tag, goes string
			if kind == "image" {
				var i contract.Image
				if i, tag, err = a.readImage(cmd.Context(), args[0]); err != nil {
					return err
				}
				goes = fmt.Sprintf("This deletes the image %s@%d (%s, in %s) for good. Layers that others share stay, and so does its journal.",
					i.Name, i.Version, size(i.SizeBytes), orWord(strings.ReplaceAll(regions(i), ", ", " and "), "no region"))
			} else {
				var t contract.Template
				if t, tag, err = a.readTemplate(cmd.Context(), args[0]); err != nil {
					return err
				}
				goes = fmt.Sprintf("This deletes the template %s@%d for good. Its image and its journal stay.", t.Name, t.Version)
			}
			if err := a.confirm(yes, "deleting "+args[0]+" is for good", goes+"\nDelete it?"); err != nil {
				return err
			}
			_, _, err = ask[string](a, func(c *client.Client) (*http.Response, error) {
				if kind == "image" {
					return c.DeleteImage(cmd.Context(), name, version, &contract.DeleteImageParams{IfMatch: &tag})
				}
				return c.DeleteTemplate(cmd.Context(), name, version, &contract.DeleteTemplateParams{IfMatch: &tag})
			})
			if err != nil {
				return err
			}
			return a.print(map[string]string{"deleted": args[0]}, func() string { return args[0] + " is deleted.\n" })
		}}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}
