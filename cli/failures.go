package cli

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unitas/api/contract"
	"unitas/client"
	"unitas/internal/fleet/words"
)

func (a *app) groupFailures() *cobra.Command {
	return &cobra.Command{Use: "failures NAME", Short: "Show the places of a group whose instances failed, with the ends of their boot logs", Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			l, _, err := ask[contract.FailingSlotList](a, func(c *client.Client) (*http.Response, error) { return c.ListFailures(cmd.Context(), args[0]) })
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string {
				if len(l.Items) == 0 {
					return "No slot of " + args[0] + " has failed lately.\n"
				}
				var b strings.Builder
				for _, p := range l.Items {
					b.WriteString(placePicture(p, terminalWidth()) + "\n")
				}
				return b.String()
			})
		}}
}

func terminalWidth() int {
	width, _, err := term.GetSize(1)
	if err != nil || width < 40 {
		return 120
	}
	return width
}

// placePicture shows the last failures of one place side by side, oldest left.
func placePicture(p contract.FailingSlot, width int) string {
	var b strings.Builder
	switch {
	case p.Instance != nil:
		fmt.Fprintf(&b, "%s failed in a row; %s has the slot now.\n", words.Count(p.Count, "instance"), *p.Instance)
	case p.UntilAt.After(time.Now()):
		fmt.Fprintf(&b, "%s failed in a row; the slot stays empty for %s more.\n", words.Count(p.Count, "instance"), words.Span(time.Until(p.UntilAt)))
	default:
		fmt.Fprintf(&b, "%s failed in a row; the slot is to be filled.\n", words.Count(p.Count, "instance"))
	}
	if len(p.Failures) == 0 {
		return b.String()
	}
	column := width/len(p.Failures) - 2
	columns := make([][]string, len(p.Failures))
	height := 0
	for i, f := range p.Failures {
		columns[i] = append(wrap(fmt.Sprintf("%s (%s, %s), %s", f.Instance, f.Version, f.Zone, clock(f.At)), column), wrap(f.Why, column)...)
		columns[i] = append(columns[i], strings.Repeat("-", column))
		lines := strings.Split(strings.TrimRight(f.BootLog, "\n"), "\n")
		for _, line := range lines[max(0, len(lines)-12):] {
			columns[i] = append(columns[i], wrap(line, column)...)
		}
		height = max(height, len(columns[i]))
	}
	for row := range height {
		var line strings.Builder
		for _, c := range columns {
			text := ""
			if row < len(c) {
				text = c[row]
			}
			line.WriteString(text + strings.Repeat(" ", max(column-len([]rune(text)), 0)+2))
		}
		b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
	}
	return b.String()
}

// wrap breaks a text into lines of at most width characters.
func wrap(text string, width int) []string {
	r := []rune(text)
	lines := []string{}
	for len(r) > width {
		lines = append(lines, string(r[:width]))
		r = r[width:]
	}
	return append(lines, string(r))
}
