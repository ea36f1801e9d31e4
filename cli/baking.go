package cli

import (
	"archive/tar"
	"compress/gzip"
	"context"
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
	"sigs.k8s.io/yaml"

	"unitas/api/contract"
	"unitas/client"
)

func (a *app) imageBake() *cobra.Command {
	var recipe, region string
	var follow following
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
			ctx, leave, err := follow.within(cmd.Context())
			if err != nil {
				return err
			}
			defer leave()
			body, err := bundle(recipe)
			if err != nil {
				return err
			}
			source := filepath.Base(recipe)
			image, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) {
				return c.BakeImageWithBody(cmd.Context(), &contract.BakeImageParams{Name: args[0], Region: given(cmd, "region", region), Source: &source,
					IdempotencyKey: freshKey()}, "application/gzip", body)
			})
			if err != nil {
				return err
			}
			return a.watchMaking(ctx, image, follow)
		},
	}
	follow.add(cmd, "show its log until it is made")
	cmd.Flags().StringVar(&recipe, "recipe", "", "the recipe's `FILE`; what it adds lies beside it")
	cmd.Flags().StringVar(&region, "region", "", "the `REGION` where it is baked; without it the first")
	_ = cmd.MarkFlagRequired("recipe")
	return cmd
}

// bundle packs a recipe and what it names, as they are sent to be baked.
func bundle(recipe string) (io.Reader, error) {
	raw, err := os.ReadFile(recipe)
	if err != nil {
		return nil, onFile("--recipe", recipe, err)
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
			return nil, onFile("the recipe adds", f.From, err)
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

// watchMaking shows the log of a version until it is made, unless nobody follows it.
func (a *app) watchMaking(ctx context.Context, image contract.Image, follow following) error {
	name, version := image.Name, strconv.Itoa(image.Version)
	if !follow.wait {
		return a.print(image, func() string {
			return fmt.Sprintf("%s@%s is being made; see its log with: unitas image bake-log %s@%s --follow\n", name, version, name, version)
		})
	}
	fmt.Fprintf(a.err, "%s@%s is being made; its log:\n", name, version)
	c, err := a.connect()
	if err != nil {
		return err
	}
	live := true
	if res, err := c.GetBakeLog(ctx, name, version, &contract.GetBakeLogParams{Follow: &live}); err == nil {
		_, _ = io.Copy(a.err, res.Body)
		res.Body.Close()
	}
	for ctx.Err() == nil {
		image, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) { return c.GetImage(ctx, name, version) })
		if err != nil && ctx.Err() == nil {
			return err
		}
		if err != nil {
			break
		}
		switch image.State {
		case contract.ImageStateBaking:
			again := time.NewTimer(300 * time.Millisecond)
			select {
			case <-again.C:
			case <-ctx.Done():
			}
		case contract.ImageStateBroken:
			return badEnd{fmt.Sprintf("%s@%s is broken at %q: %s; its log: unitas image bake-log %s@%s", image.Name, version, image.Step, image.Why, image.Name, version)}
		default:
			return a.print(image, func() string { return readyLine(image) })
		}
	}
	return a.leaves(ctx, follow, fmt.Sprintf("%s@%s is not made", name, version), fmt.Sprintf("unitas image show %s@%s", name, version))
}

func (a *app) imageFromInstance() *cobra.Command {
	var name string
	var stopFirst bool
	var follow following
	cmd := &cobra.Command{
		Use: "from-instance INSTANCE", Short: "Make the next version of an image from the files of an instance", Args: exactly("INSTANCE"),
		Long: `Makes the next version of an image from the files of a running instance, which
goes on serving meanwhile. Files that change while they are read are taken as they
were at one moment each; --stop-first drains and stops the instance first, for a
picture that is consistent as a whole, and brings it back.

What is of that instance alone is left out: its name and address, logs (*.log,
log/, var/log/), sockets, pid files, and what lies in run/ and tmp/.`,
		Example: "  unitas image from-instance timetable-003\n  unitas image from-instance timetable-003 --name timetable-patched --stop-first",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, leave, err := follow.within(cmd.Context())
			if err != nil {
				return err
			}
			defer leave()
			image, _, err := ask[contract.Image](a, func(c *client.Client) (*http.Response, error) {
				return c.ImageFromInstance(cmd.Context(), &contract.ImageFromInstanceParams{IdempotencyKey: freshKey()},
					contract.ImageFromInstance{Instance: args[0], Name: given(cmd, "name", name), StopFirst: &stopFirst})
			})
			if err != nil {
				return err
			}
			return a.watchMaking(ctx, image, follow)
		},
	}
	follow.add(cmd, "show its log until it is made")
	cmd.Flags().StringVar(&name, "name", "", "the image's `NAME`; without it that of the instance's image")
	cmd.Flags().BoolVar(&stopFirst, "stop-first", false, "drain and stop the instance first, and bring it back")
	return cmd
}
