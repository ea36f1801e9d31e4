package cli

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"
	"sigs.k8s.io/yaml"

	"unitas/client"
	"unitas/internal/fleet/words"
)

func group(use, short string, children ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: func(_ *cobra.Command, args []string) error {
		if len(args) > 0 {
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
			l, _, err := ask[client.PlaceList](a, func(c *client.Client) (*http.Response, error) { return c.ListPlaces(cmd.Context()) })
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

func (a *app) imageImport() *cobra.Command {
	var from, region, user string
	var labels map[string]string
	cmd := &cobra.Command{
		Use: "import NAME --from FILE|DIRECTORY|REFERENCE", Short: "Bring in an image as the next version under a name",
		Long: `Brings in an image as the next version under a name. --from takes

  a gzip-compressed tar archive with a manifest, unitas.yaml, at its root that
  says what a machine starts:  start: [./timetable, --verbose]

  an OCI image layout, as a directory or as a tar of it (image export writes one)

  a reference in a registry that speaks the OCI distribution protocol; the
  service fetches it. UNITAS_REGISTRY_PASSWORD goes with --registry-user.`,
		Example: `  tar -czf timetable.tar.gz -C build .
  unitas image import timetable --from timetable.tar.gz
  unitas image import timetable --from ./layout --region headland
  unitas image import timetable --from registry.example/ferries/timetable:7`,
		Args: exactly("NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			info, err := os.Stat(from)
			var image client.Image
			switch {
			case errors.Is(err, os.ErrNotExist) && strings.Contains(from, "/") && !strings.HasPrefix(from, ".") && !strings.HasPrefix(from, "/"):
				image, err = a.fetch(cmd, args[0], from, region, user, labels)
			case err != nil:
				return fmt.Errorf("--from: %w", err)
			case info.IsDir():
				if _, err := os.Stat(filepath.Join(from, "oci-layout")); err != nil {
					return misused("--from: %s is a directory and no OCI image layout; pack it first with: tar -czf FILE -C %s .", from, from)
				}
				image, err = a.upload(cmd, args[0], from, region, labels, packed(func(w io.Writer) error { return packDirectory(w, from) }), sizeOf(from))
			default:
				f, err := os.Open(from)
				if err != nil {
					return fmt.Errorf("--from: %w", err)
				}
				defer f.Close()
				if image, err = a.upload(cmd, args[0], from, region, labels, f, info.Size()); err != nil {
					return err
				}
			}
			if err != nil {
				return err
			}
			return a.print(image, func() string { return readyLine(image) })
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&from, "from", "", "a `FILE`, an OCI layout's directory, or a reference in a registry")
	flags.StringVar(&region, "region", "", "the `REGION` where it comes in; without it the first")
	flags.StringToStringVar(&labels, "label", nil, "labels of the version, `NAME=VALUE,…`")
	flags.StringVar(&user, "registry-user", "", "sign in to the registry as this `USER`")
	_ = cmd.MarkFlagRequired("from")
	return cmd
}

func readyLine(i client.Image) string {
	place := ""
	if len(i.Places) > 0 {
		place = " in " + i.Places[0].Region
	}
	return fmt.Sprintf("%s@%d is ready%s (%s, %s).\n", i.Name, i.Version, place, size(i.SizeBytes), short(i.Digest))
}

func (a *app) fetch(cmd *cobra.Command, name, reference, region, user string, labels map[string]string) (client.Image, error) {
	body := client.ImageReference{Name: name, Reference: reference, Region: given(cmd, "region", region), Labels: given(cmd, "label", client.Labels(labels))}
	if user != "" {
		password := os.Getenv("UNITAS_REGISTRY_PASSWORD")
		body.User, body.Password = &user, &password
	}
	if term.IsTerminal(int(os.Stderr.Fd())) {
		fmt.Fprintf(a.err, "the service fetches %s …\n", reference)
	}
	image, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) {
		return c.FetchImage(cmd.Context(), &client.FetchImageParams{IdempotencyKey: freshKey()}, body)
	})
	return image, err
}

func (a *app) upload(cmd *cobra.Command, name, source, region string, labels map[string]string, content io.Reader, total int64) (client.Image, error) {
	body := &progress{Reader: content, a: a, total: total, begun: time.Now()}
	pairs := []string{}
	for k, v := range labels {
		pairs = append(pairs, k+"="+v)
	}
	digest, err := digestOf(content)
	if err != nil {
		return client.Image{}, err
	}
	source = filepath.Base(source)
	image, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) {
		return c.ImportImageWithBody(cmd.Context(), &client.ImportImageParams{Name: name, Region: given(cmd, "region", region), Source: &source,
			Label: given(cmd, "label", sorted(pairs)), ContentDigest: digest, IdempotencyKey: freshKey()}, "application/octet-stream", body)
	})
	body.end()
	return image, err
}

// digestOf reads a file once beforehand, so that the service can hold what
// arrives against it; nil for what can be read only once.
func digestOf(content io.Reader) (*string, error) {
	f, ok := content.(*os.File)
	if !ok {
		return nil, nil
	}
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return nil, fmt.Errorf("--from: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, fmt.Errorf("--from: %w", err)
	}
	text := "sha-256=:" + base64.StdEncoding.EncodeToString(h.Sum(nil)) + ":"
	return &text, nil
}

// packed is what write writes, as it is read.
func packed(write func(io.Writer) error) io.Reader {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(write(pw)) }()
	return pr
}

func sizeOf(dir string) (total int64) {
	_ = filepath.Walk(dir, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			total += info.Size()
		}
		return nil
	})
	return total
}

// packDirectory writes the files of a directory as a tar.
func packDirectory(w io.Writer, dir string) error {
	t := tar.NewWriter(w)
	if err := addTo(t, dir, "."); err != nil {
		return err
	}
	return t.Close()
}

// addTo packs a file or all of a directory under the path that it has below dir.
func addTo(t *tar.Writer, dir, name string) error {
	return filepath.Walk(filepath.Join(dir, filepath.FromSlash(name)), func(file string, info os.FileInfo, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel(dir, file)
		if err != nil || (info.IsDir() && below == ".") {
			return err
		}
		if !info.IsDir() && !info.Mode().IsRegular() {
			return fmt.Errorf("%s is neither a file nor a directory", file)
		}
		h := &tar.Header{Name: filepath.ToSlash(below), Mode: int64(info.Mode().Perm()), Typeflag: tar.TypeDir}
		if info.Mode().IsRegular() {
			h.Typeflag, h.Size = tar.TypeReg, info.Size()
		}
		if err := t.WriteHeader(h); err != nil || info.IsDir() {
			return err
		}
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.CopyN(t, f, h.Size)
		return err
	})
}

func (a *app) imageBake() *cobra.Command {
	var recipe, region string
	cmd := &cobra.Command{
		Use: "bake NAME --recipe FILE", Short: "Make the next version of an image from a recipe", Args: exactly("NAME"),
		Long: `Makes the next version of an image from a recipe, and shows the log while it is
made. A recipe is YAML:

  parent: plain@1
  files:
    - {from: timetable, to: timetable, mode: "0755"}   # beside the recipe
    - {text: "summer\n", to: etc/season}
  commands:
    - ./timetable --check etc/season
  start: [./timetable]
  labels: {service: timetable}
  time_limit: 5m

Commands run as nobody in particular, without network, and can write only to the
image's own files and to $TMPDIR. The same inputs make the same digest. A bake
that fails leaves a broken version with its log and the failing step.`,
		Example: "  unitas image bake timetable --recipe recipe.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			body, err := bundle(recipe)
			if err != nil {
				return err
			}
			source := filepath.Base(recipe)
			image, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) {
				return c.BakeImageWithBody(cmd.Context(), &client.BakeImageParams{Name: args[0], Region: given(cmd, "region", region), Source: &source,
					IdempotencyKey: freshKey()}, "application/gzip", body)
			})
			if err != nil {
				return err
			}
			return a.watchMaking(cmd.Context(), image)
		},
	}
	cmd.Flags().StringVar(&recipe, "recipe", "", "the recipe's `FILE`; what it adds lies beside it")
	cmd.Flags().StringVar(&region, "region", "", "the `REGION` where it is baked; without it the first")
	_ = cmd.MarkFlagRequired("recipe")
	return cmd
}

// bundle packs a recipe and what it names, as they are sent to be baked.
func bundle(recipe string) (io.Reader, error) {
	raw, err := os.ReadFile(recipe)
	if err != nil {
		return nil, fmt.Errorf("--recipe: %w", err)
	}
	var named struct {
		Files []struct {
			From string `json:"from"`
		} `json:"files"`
	}
	_ = yaml.Unmarshal(raw, &named) // what is wrong with it, the service says
	dir := filepath.Dir(recipe)
	var names []string
	for _, f := range named.Files {
		name := path.Clean(f.From)
		if f.From == "" || path.IsAbs(name) || strings.HasPrefix(name, "..") {
			continue
		}
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(name))); err != nil {
			return nil, fmt.Errorf("the recipe adds %s, which is not there: %w", f.From, err)
		}
		names = append(names, name)
	}
	return packed(func(w io.Writer) error {
		z := gzip.NewWriter(w)
		t := tar.NewWriter(z)
		if err := t.WriteHeader(&tar.Header{Name: "recipe.yaml", Mode: 0o644, Size: int64(len(raw)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		if _, err := t.Write(raw); err != nil {
			return err
		}
		done := map[string]bool{"recipe.yaml": true}
		for _, name := range names {
			if done[name] {
				continue
			}
			done[name] = true
			if err := addTo(t, dir, name); err != nil {
				return err
			}
		}
		return errors.Join(t.Close(), z.Close())
	}), nil
}

// watchMaking shows the log of a version until it is made.
func (a *app) watchMaking(ctx context.Context, image client.Image) error {
	version := strconv.Itoa(image.Version)
	fmt.Fprintf(a.err, "%s@%s is being made; its log:\n", image.Name, version)
	c, err := a.connect()
	if err != nil {
		return err
	}
	follow := true
	res, err := c.GetBakeLog(ctx, image.Name, version, &client.GetBakeLogParams{Follow: &follow})
	if err == nil {
		_, err = io.Copy(a.err, res.Body)
		res.Body.Close()
	}
	for ctx.Err() == nil {
		image, _, err = ask[client.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, image.Name, version) })
		if err != nil {
			return err
		}
		switch image.State {
		case client.ImageStateBaking:
			again := time.NewTimer(300 * time.Millisecond)
			select {
			case <-again.C:
			case <-ctx.Done():
			}
		case client.ImageStateBroken:
			return badEnd{fmt.Sprintf("%s@%s is broken at %q: %s; its log: unitas image bake-log %s@%s", image.Name, version, image.Step, image.Why, image.Name, version)}
		default:
			return a.print(image, func() string { return readyLine(image) })
		}
	}
	return err
}

func (a *app) imageFromInstance() *cobra.Command {
	var name string
	var atRest bool
	cmd := &cobra.Command{
		Use: "from-instance INSTANCE", Short: "Make the next version of an image from the files of an instance", Args: exactly("INSTANCE"),
		Long: `Makes the next version of an image from the files of a running instance, which
goes on serving meanwhile. Files that change while they are read are taken as they
were at one moment each; --at-rest drains and stops the instance first, for a
picture that is consistent as a whole, and brings it back.

What is of that instance alone is left out: its name and address, logs (*.log,
log/, var/log/), sockets, pid files, and what lies in run/ and tmp/.`,
		Example: "  unitas image from-instance timetable-003\n  unitas image from-instance timetable-003 --name timetable-patched --at-rest",
		RunE: func(cmd *cobra.Command, args []string) error {
			image, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) {
				return c.ImageFromInstance(cmd.Context(), &client.ImageFromInstanceParams{IdempotencyKey: freshKey()},
					client.ImageFromInstance{Instance: args[0], Name: given(cmd, "name", name), AtRest: &atRest})
			})
			if err != nil {
				return err
			}
			return a.watchMaking(cmd.Context(), image)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the image's `NAME`; without it that of the instance's image")
	cmd.Flags().BoolVar(&atRest, "at-rest", false, "drain and stop the instance first, and bring it back")
	return cmd
}

func (a *app) imageList() *cobra.Command {
	var text, origin, state string
	var labels map[string]string
	var newer, older time.Duration
	var limit int
	cmd := &cobra.Command{Use: "list [NAME]", Short: "List image versions, newest first, or search them", Args: cobra.MaximumNArgs(1),
		Example: "  unitas image list\n  unitas image list timetable --state ready --newer-than 168h\n  unitas image list --text ferries --label service=timetable --origin baked",
		RunE: func(cmd *cobra.Command, args []string) error {
			params := client.ListImagesParams{Text: given(cmd, "text", text), Origin: given(cmd, "origin", client.ListImagesParamsOrigin(origin)),
				State: given(cmd, "state", client.ListImagesParamsState(state)), NewerThanSeconds: given(cmd, "newer-than", newer.Seconds()),
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
			}, func(l client.ImageList) ([]client.Image, *string) { return l.Items, l.Next })
			if err != nil {
				return err
			}
			return a.print(images, func() string {
				rows := [][]string{{"image", "state", "origin", ">size", "marks", "in", "digest", "made", "by"}}
				for _, i := range images {
					rows = append(rows, []string{fmt.Sprintf("%s@%d", i.Name, i.Version), string(i.State), string(i.Origin), size(i.SizeBytes),
						strings.Join(i.Marks, ", "), regions(i), short(i.Digest), ago(i.CreatedAt), i.CreatedBy})
				}
				return orNone(rows, "There is no such image; bring one in with: unitas image import NAME --from FILE")
			})
		}}
	flags := cmd.Flags()
	flags.StringVar(&text, "text", "", "only those with this `TEXT` in the name or the source")
	flags.StringToStringVar(&labels, "label", nil, "only those with these labels, `NAME=VALUE,…`")
	flags.StringVar(&origin, "origin", "", "only `ORIGIN`: provided, imported, baked or from-instance")
	flags.StringVar(&state, "state", "", "only `STATE`: baking, ready, broken or withdrawn")
	flags.DurationVar(&newer, "newer-than", 0, "only those made within this time, such as 168h")
	flags.DurationVar(&older, "older-than", 0, "only those made longer ago than this")
	flags.IntVar(&limit, "limit", 1000, "how many at most")
	return cmd
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

func regions(i client.Image) string {
	var all []string
	for _, p := range i.Places {
		all = append(all, p.Region)
	}
	return strings.Join(all, ", ")
}

func (a *app) readImage(ctx context.Context, ref string) (client.Image, string, error) {
	name, version, err := reference(ref)
	if err != nil {
		return client.Image{}, "", err
	}
	return ask[client.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, name, version) })
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

func imagePicture(i client.Image) string {
	state := string(i.State)
	switch {
	case i.State == client.ImageStateBaking:
		state += ": " + i.Step
	case i.State == client.ImageStateBroken:
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

func copiesText(i client.Image) string {
	var lines []string
	if i.Copies == nil {
		return ""
	}
	for _, c := range *i.Copies {
		if c.State != client.CopyStateDone {
			lines = append(lines, copyLine(c))
		}
	}
	return strings.Join(lines, "\n")
}

func usersText(u *client.Users) string {
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
			l, _, err := ask[client.ImageList](a, func(c *client.Client) (*http.Response, error) {
				return c.GetImageLineage(cmd.Context(), i.Name, strconv.Itoa(i.Version))
			})
			if err != nil {
				return err
			}
			return a.print(l.Items, func() string { return tree(l.Items, fmt.Sprintf("%s@%d", i.Name, i.Version)) })
		}}
}

// tree draws versions under their parents, and points at one of them.
func tree(images []client.Image, at string) string {
	children := map[string][]client.Image{}
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
				res, err := c.GetBakeLog(cmd.Context(), name, version, &client.GetBakeLogParams{Follow: &follow})
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

func (a *app) imageCopy() *cobra.Command {
	var to string
	var stop, wait bool
	cmd := &cobra.Command{Use: "copy NAME@N --to REGION", Short: "Bring a version to another region", Args: exactly("NAME@N"),
		Long: `Brings a version to another region and shows how far it is. Ctrl-C leaves the copy
going; --stop breaks it off. Started again, it goes on where it was.`,
		Example: "  unitas image copy timetable@3 --to headland\n  unitas image copy timetable@3 --to headland --stop",
		RunE: func(cmd *cobra.Command, args []string) error {
			name, version, err := reference(args[0])
			if err != nil {
				return err
			}
			call := func(c *client.Client) (*http.Response, error) {
				return c.CopyImage(cmd.Context(), name, version, client.NewCopy{To: to})
			}
			if stop {
				call = func(c *client.Client) (*http.Response, error) { return c.StopCopy(cmd.Context(), name, version, to) }
			}
			i, _, err := ask[client.Image](a, call)
			if err != nil {
				return err
			}
			if stop || !wait {
				return a.print(i, func() string { return copyLine(copyTo(i, to)) + "\n" })
			}
			return a.watchCopy(cmd.Context(), i, to)
		}}
	cmd.Flags().StringVar(&to, "to", "", "the `REGION`")
	cmd.Flags().BoolVar(&stop, "stop", false, "break off the copy that is under way")
	cmd.Flags().BoolVar(&wait, "wait", true, "show how far it is until it ends")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

func copyTo(i client.Image, region string) client.Copy {
	if i.Copies != nil {
		for _, c := range *i.Copies {
			if c.Region == region {
				return c
			}
		}
	}
	return client.Copy{Region: region}
}

func copyLine(c client.Copy) string {
	text := fmt.Sprintf("to %s: %s, %s of %s", c.Region, c.State, size(c.DoneBytes), size(c.TotalBytes))
	if c.State == client.CopyStateCopying {
		took := time.Since(c.BeganAt).Seconds()
		rate := float64(c.DoneBytes) / max(took, 0.001)
		text += fmt.Sprintf(", %s/s", size(int64(rate)))
		if rate > 1 {
			text += fmt.Sprintf(", %s left", words.Span(time.Duration(float64(c.TotalBytes-c.DoneBytes)/rate*float64(time.Second))))
		}
	}
	if c.Why != "" {
		text += ": " + c.Why
	}
	return text
}

func (a *app) watchCopy(ctx context.Context, i client.Image, to string) error {
	version := strconv.Itoa(i.Version)
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		i, _, err := ask[client.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, i.Name, version) })
		if err != nil {
			return err
		}
		c := copyTo(i, to)
		onTerminal := term.IsTerminal(int(os.Stderr.Fd()))
		if onTerminal {
			fmt.Fprintf(a.err, "\r%s@%s %s\x1b[K", i.Name, version, copyLine(c))
		}
		if c.State != client.CopyStateCopying {
			if onTerminal {
				fmt.Fprint(a.err, "\r\x1b[K")
			}
			if c.State != client.CopyStateDone {
				return badEnd{fmt.Sprintf("the copy of %s@%s is %s: %s", i.Name, version, c.State, c.Why)}
			}
			return a.print(i, func() string {
				return fmt.Sprintf("%s@%s is in %s (%s).\n", i.Name, version, strings.ReplaceAll(regions(i), ", ", " and "), size(i.SizeBytes))
			})
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(a.err, "\nthe copy goes on; see it with: unitas image show %s@%s\n", i.Name, version)
			return nil
		case <-tick.C:
		}
	}
}

func (a *app) imageExport() *cobra.Command {
	var to string
	cmd := &cobra.Command{Use: "export NAME@N --to FILE", Short: "Write a version as the tar of an OCI image layout", Args: exactly("NAME@N"),
		Long:    "Writes a version as the tar of an OCI image layout, which imports again with the\nsame digest. --to - writes to standard output.",
		Example: "  unitas image export timetable@3 --to timetable-3.tar",
		RunE: func(cmd *cobra.Command, args []string) error {
			i, _, err := a.readImage(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			c, err := a.connect()
			if err != nil {
				return err
			}
			res, err := c.ExportImage(cmd.Context(), i.Name, strconv.Itoa(i.Version))
			if err != nil {
				return a.explain(err)
			}
			if res.StatusCode != http.StatusOK {
				_, _, err := client.Read[string](res, nil)
				return err
			}
			defer res.Body.Close()
			body := &progress{Reader: res.Body, a: a, total: i.SizeBytes, begun: time.Now()}
			defer body.end()
			if to == "-" {
				_, err = io.Copy(a.out, body)
				return err
			}
			n, err := writeWhole(to, body)
			if err != nil {
				return err
			}
			body.end()
			return a.print(map[string]any{"file": to, "bytes": n, "digest": i.Digest}, func() string { return fmt.Sprintf("%s holds %s (%s).\n", to, args[0], size(n)) })
		}}
	cmd.Flags().StringVar(&to, "to", "", "the `FILE`, or - for standard output")
	_ = cmd.MarkFlagRequired("to")
	return cmd
}

// writeWhole writes a file that is there whole or not at all.
func writeWhole(file string, r io.Reader) (int64, error) {
	f, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".half-*")
	if err != nil {
		return 0, fmt.Errorf("--to: %w", err)
	}
	defer os.Remove(f.Name())
	n, err := io.Copy(f, r)
	if err := errors.Join(err, f.Chmod(0o644), f.Close()); err != nil {
		return n, fmt.Errorf("the export broke off, and nothing was written: %w", err)
	}
	return n, os.Rename(f.Name(), file)
}
