package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"unitas/api/contract"
	"unitas/client"
)

func group(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(_ *cobra.Command, args []string) error {
		if len(args) > 0 {
			if now := renamedCommands[use+" "+args[0]]; now != "" {
				return misused("%s", calledNow(use+" "+args[0], now))
			}
			return misused("there is no command %q", args[0])
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(children...)
	return c
}

// reference takes NAME@N or NAME@MARK apart.
func reference(text string) (name, version string, err error) {
	name, version, ok := strings.Cut(text, "@")
	if !ok || name == "" || version == "" || strings.ContainsAny(text, " /") {
		return "", "", misused("%q is not a version; give NAME@NUMBER or NAME@MARK, such as timetable@3", text)
	}
	return name, version, nil
}

func (a *app) placesCommand() *cobra.Command {
	return &cobra.Command{Use: "places", Short: "List regions and zones, with what runs there", Args: exactly(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			l, _, err := ask[contract.PlaceList](a, func(c *client.Client) (*http.Response, error) { return c.ListPlaces(cmd.Context()) })
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string {
				rows := [][]string{{"region", "zone", ">instances", ">serving", ">images", ">their size"}}
				for _, r := range l.Items {
					name, images, bytes := r.Name, strconv.Itoa(r.Images), size(r.ImageBytes)
					if r.Home {
						name += " (home)"
					}
					for _, z := range r.Zones {
						rows = append(rows, []string{name, z.Name, strconv.Itoa(z.Instances), strconv.Itoa(z.Serving), images, bytes})
						name, images, bytes = "", "", ""
					}
				}
				return table(rows)
			})
		}}
}

func (a *app) imageCommand() *cobra.Command {
	return group("image", "Machine images: what machines start from", a.imageImport(), a.imageBake(), a.imageFromInstance(), a.imageList(), a.imageShow(),
		a.imageLineage(), a.imageLog(), a.imageCopy(), a.imageExport(), a.markCommand("image"), a.marksCommand("image"), a.unmarkCommand("image"),
		a.withdrawCommand("image"), a.deleteCommand("image"))
}

func (a *app) imageList() *cobra.Command {
	var text, origin, state string
	var labels map[string]string
	var newer, older time.Duration
	var limit int
	cmd := &cobra.Command{Use: "list [NAME]", Short: "List image versions, newest first, or search them", Args: cobra.MaximumNArgs(1),
		Example: "  unitas image list\n  unitas image list timetable --state ready --newer-than 168h\n  unitas image list --text ferries --label service=timetable --origin baked",
		RunE: func(cmd *cobra.Command, args []string) error {
			params := contract.ListImagesParams{Text: given(cmd, "text", text), Origin: given(cmd, "origin", contract.ListImagesParamsOrigin(origin)),
				State: given(cmd, "state", contract.ListImagesParamsState(state)), NewerThanSeconds: given(cmd, "newer-than", newer.Seconds()),
				OlderThanSeconds: given(cmd, "older-than", older.Seconds())}
			if len(args) == 1 {
				params.Name = &args[0]
			}
			if len(labels) > 0 {
				all := sorted(strings.Split(pairs(labels), "\n"))
				params.Label = &all
			}
			images, err := listUpTo(a, limit, func(c *client.Client, after *string) (*http.Response, error) {
				params.After = after
				return c.ListImages(cmd.Context(), &params)
			}, func(l contract.ImageList) ([]contract.Image, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(images, func() string {
				rows := [][]string{{"image", "state", "?origin", ">size", "marks", "?in", "?digest", "made", "?by"}}
				for _, i := range images {
					rows = append(rows, []string{fmt.Sprintf("%s@%d", i.Name, i.Version), string(i.State), string(i.Origin), size(i.SizeBytes),
						strings.Join(i.Marks, ", "), regions(i), short(i.Digest), ago(i.CreatedAt), i.CreatedBy})
				}
				return orNone(rows, "There is no such image; bring one in with: unitas image import NAME --from FILE")
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&text, "text", "", "only those with this `TEXT` in the name or the source")
	pairsVar(flags, &labels, "label", "only those with these labels, `NAME=VALUE,…`")
	flags.StringVar(&origin, "origin", "", "only `ORIGIN`: provided, imported, baked or from-instance")
	flags.StringVar(&state, "state", "", "only `STATE`: baking, ready, broken or withdrawn")
	flags.DurationVar(&newer, "newer-than", 0, "only those made within this time, such as 168h")
	flags.DurationVar(&older, "older-than", 0, "only those made longer ago than this")
	numberVar(flags, &limit, "limit", 1000, "how many at most")
	return cmd
}

func regions(i contract.Image) string {
	var all []string
	for _, p := range i.Places {
		all = append(all, p.Region)
	}
	return strings.Join(all, ", ")
}

func (a *app) readImage(ctx context.Context, ref string) (contract.Image, string, error) {
	name, version, err := reference(ref)
	if err != nil {
		return contract.Image{}, "", err
	}
	return ask[contract.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, name, version) })
}

func (a *app) imageShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME@N", Short: "Show one version of an image with what uses it", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			i, _, err := a.readImage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(i, func() string { return imagePicture(i) })
		}}
}

func imagePicture(i contract.Image) string {
	state := string(i.State)
	switch {
	case i.State == contract.ImageStateBaking:
		state += ": " + i.Step
	case i.State == contract.ImageStateBroken:
		state += fmt.Sprintf(" at %q: %s", i.Step, i.Why)
	case i.Why != "":
		state += ": " + i.Why
	}
	origin := string(i.Origin)
	if i.Source != "" {
		origin += " (" + i.Source + ")"
	}
	var places []string
	for _, p := range i.Places {
		text := p.Region + ", " + ago(p.Since)
		if p.CopiedFrom != nil {
			text += ", copied from " + *p.CopiedFrom
		}
		places = append(places, text)
	}
	sizeText := ""
	if i.Digest != "" {
		sizeText = size(i.SizeBytes)
	}
	return facts("image", fmt.Sprintf("%s@%d", i.Name, i.Version), "state", state, "use instead", or(i.Successor, ""), "marks", strings.Join(i.Marks, ", "),
		"origin", origin, "parent", or(i.Parent, ""), "starts", strings.Join(i.Start, " "), "size", sizeText, "digest", i.Digest, "labels", pairs(i.Labels),
		"in", strings.Join(places, "\n"), "copies", copiesText(i), "used by", usersText(i.Users), "made", moment(i.CreatedAt)+" by "+i.CreatedBy,
		"recipe", or(i.Recipe, ""))
}

func copiesText(i contract.Image) string {
	var lines []string
	if i.Copies == nil {
		return ""
	}
	for _, c := range *i.Copies {
		if c.State != contract.CopyStateDone {
			lines = append(lines, copyLine(c))
		}
	}
	return strings.Join(lines, "\n")
}

func usersText(u *contract.Users) string {
	if u == nil {
		return ""
	}
	var lines []string
	for _, part := range []struct {
		what  string
		names []string
	}{{"groups", u.Groups}, {"instances", u.Instances}, {"templates", u.Templates}, {"images made from it", u.Children}} {
		if n := len(part.names); n > 0 {
			text := strings.Join(part.names[:min(n, 12)], ", ")
			if n > 12 {
				text += fmt.Sprintf(" and %d more", n-12)
			}
			lines = append(lines, part.what+": "+text)
		}
	}
	if len(lines) == 0 {
		return "nobody"
	}
	return strings.Join(lines, "\n")
}

func (a *app) imageLineage() *cobra.Command {
	return &cobra.Command{Use: "lineage NAME@N", Short: "Show where a version comes from and what came of it", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			i, _, err := a.readImage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			l, _, err := ask[contract.ImageList](a, func(c *client.Client) (*http.Response, error) {
				return c.GetImageLineage(cmd.Context(), i.Name, strconv.Itoa(i.Version))
			})
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string { return tree(l.Items, fmt.Sprintf("%s@%d", i.Name, i.Version)) })
		}}
}

// tree draws versions under their parents, and points at one of them.
func tree(images []contract.Image, at string) string {
	children := map[string][]contract.Image{}
	there := map[string]bool{}
	for _, i := range images {
		there[fmt.Sprintf("%s@%d", i.Name, i.Version)] = true
	}
	for _, i := range images {
		parent := or(i.Parent, "")
		if !there[parent] {
			parent = ""
		}
		children[parent] = append(children[parent], i)
	}
	var b strings.Builder
	var draw func(parent, indent string)
	draw = func(parent, indent string) {
		for k, i := range children[parent] {
			ref := fmt.Sprintf("%s@%d", i.Name, i.Version)
			branch, next := "├─ ", "│  "
			if k == len(children[parent])-1 {
				branch, next = "└─ ", "   "
			}
			if indent == "" && parent == "" {
				branch, next = "", ""
			}
			line := fmt.Sprintf("%s%s%s  %s, %s, %s", indent, branch, ref, i.State, i.Origin, ago(i.CreatedAt))
			if len(i.Marks) > 0 {
				line += ", marked " + strings.Join(i.Marks, ", ")
			}
			if ref == at {
				line = strong.paint(line + "  ← this one")
			}
			b.WriteString(line + "\n")
			draw(ref, indent+next)
		}
	}
	draw("", "")
	return b.String()
}

func (a *app) imageLog() *cobra.Command {
	var follow bool
	cmd := &cobra.Command{Use: "bake-log NAME@N", Short: "Print the log of how a version was made", Args: exactly("NAME@N"),
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			if follow && a.output == "table" {
				c, err := a.connect()
				if err != nil {
					return err
				}
				res, err := c.GetBakeLog(cmd.Context(), name, version, &contract.GetBakeLogParams{Follow: &follow})
				if err != nil {
					return a.explain(err)
				}
				if res.StatusCode == http.StatusOK {
					defer res.Body.Close()
					_, err = io.Copy(a.out, res.Body)
					return err
				}
				res.Body.Close()
			}
			log, _, err := ask[string](a, func(c *client.Client) (*http.Response, error) { return c.GetBakeLog(cmd.Context(), name, version, nil) })
			if err != nil {
				return err
			}
			return a.print(map[string]string{"image": args[0], "log": log}, func() string { return log })
		}}
	cmd.Flags().BoolVar(&follow, "follow", false, "go on until the version is made")
	return cmd
}
