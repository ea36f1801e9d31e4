// Package catalogue keeps the image versions: it takes them in, bakes them,
// makes them from instances, copies them between regions, and sweeps what none
// of them needs. A version is recorded before it is made and ready only when
// it is whole.
package catalogue

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"unitas/internal/caught"
	"unitas/internal/datadir"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/image/bake"
	"unitas/internal/machine"
	"unitas/internal/places"
	"unitas/internal/store"
)

// Config is what the catalogue needs.
type Config struct {
	Store    *store.Store
	Places   places.Places
	Machines machine.Driver
	// Dir is for scratch trees of this service's bakes, and Logs for the logs of all.
	Dir, Logs string
	// BakeUser is the user that commands of recipes run as, negative for our own.
	BakeUser int
	// Helper runs [bake.Confined]: the program and its first arguments.
	Helper  []string
	Replica string
	// Registries are those that images may be fetched from.
	Registries image.Registries
	Log        *slog.Logger
	// KeepFree is how many bytes of the disks of images are to stay free.
	KeepFree int64
	// CopyPace is how long a copy waits after each 256 KiB; only tests set it.
	CopyPace time.Duration
}

// Catalogue takes images in and looks after them.
type Catalogue struct {
	Config
	stores map[string]*image.Store // by region
	lanes  lanes

	ending context.Context // done when the service stops
	end    context.CancelCauseFunc
	jobs   sync.WaitGroup

	mu     sync.Mutex
	copies map[string]context.CancelCauseFunc // under way, by version and region
	sweeps chan struct{}
}

// Open opens the stores of all regions, ends what an earlier service left
// undone, and sees that the images that ship with the product are there.
func Open(ctx context.Context, c Config) (*Catalogue, error) {
	cat := &Catalogue{Config: c, lanes: newLanes(), stores: map[string]*image.Store{}, copies: map[string]context.CancelCauseFunc{}, sweeps: make(chan struct{}, 1)}
	cat.ending, cat.end = context.WithCancelCause(context.Background())
	for _, r := range c.Places {
		s, err := image.Open(r.Images)
		if err != nil {
			return nil, fmt.Errorf("region %s: %w", r.Name, err)
		}
		cat.stores[r.Name] = s
	}
	bake.KillStragglers(cat.scratch())
	if err := bake.RemoveAll(cat.scratch()); err != nil {
		return nil, fmt.Errorf("clear what bakes left: %w", err)
	}
	for _, d := range []struct {
		name string
		mode os.FileMode
	}{{c.Dir, 0o711}, {cat.scratch(), 0o711}, {c.Logs, 0o700}} { // commands of recipes enter the first two
		if err := errors.Join(os.MkdirAll(d.name, d.mode), os.Chmod(d.name, d.mode)); err != nil {
			return nil, err
		}
	}
	if err := cat.endUndone(ctx); err != nil {
		return nil, err
	}
	if err := cat.provide(ctx); err != nil {
		return nil, err
	}
	for _, r := range c.Places { // a service starts on a full disk as well
		cat.stores[r.Name].Space = datadir.NewSpace(r.Images, c.KeepFree)
	}
	return cat, nil
}

func (c *Catalogue) scratch() string { return filepath.Join(c.Dir, "scratch") }

// endUndone breaks what was being made when the service was killed.
func (c *Catalogue) endUndone(ctx context.Context) error {
	baking, err := c.Store.BakingOf(ctx, c.Replica)
	if err != nil {
		return fmt.Errorf("find undone bakes: %w", err)
	}
	for _, i := range baking {
		if err := c.broken(ctx, i.Ref(), i.Step, "the service stopped while it was made; start it again"); err != nil {
			return err
		}
	}
	copies, err := c.Store.Copies(ctx, fleet.Version{}, c.Replica)
	if err != nil {
		return fmt.Errorf("find undone copies: %w", err)
	}
	for _, cp := range copies {
		if err := c.Store.EndCopy(ctx, now(), cp, store.CopyStopped, "the service stopped; start it again, and it goes on where it was"); err != nil {
			return err
		}
	}
	return nil
}

func now() time.Time { return time.Now().UTC() }

// plainStart is what machines of the base image run: a workload that a child
// image put beside it, or nothing.
const plainStart = `#!/bin/sh
# Runs ./workload when an image made from this one has it, and waits otherwise.
if [ -x ./workload ]; then exec ./workload "$@"; fi
echo "plain: there is no ./workload; waiting to be stopped"
exec sleep infinity
`

// provide records the base image when it is not there as it should be.
func (c *Catalogue) provide(ctx context.Context) error {
	for _, r := range c.Places {
		in := c.stores[r.Name].Begin()
		defer in.Close()
		pr, pw := io.Pipe()
		go func() {
			defer caught.Told("the base image", func(err error) { pw.CloseWithError(err) })
			pw.CloseWithError(image.Pack(pw, image.File{Name: image.ManifestName, Content: []byte("start: [./start]\n")},
				image.File{Name: "start", Content: []byte(plainStart)}))
		}()
		a, err := in.Import(ctx, pr)
		if err != nil {
			return fmt.Errorf("make the base image: %w", err)
		}
		if err := c.provideIn(ctx, r.Name, a); err != nil {
			return fmt.Errorf("record the base image: %w", err)
		}
		in.Keep(a)
	}
	return nil
}

func (c *Catalogue) provideIn(ctx context.Context, region string, a image.Artifact) error {
	had, err := c.Store.Images(ctx, store.ImageQuery{Name: "plain", Origin: store.Provided, Page: store.Page{Limit: 1}})
	if err != nil {
		return err
	}
	here := map[string]store.Place{region: {Since: now()}}
	if len(had) == 0 || had[0].Digest != a.Digest {
		_, err := c.Store.AddImage(ctx, now(), store.Service, fill(store.Image{Name: "plain", State: store.Ready, Origin: store.Provided, Places: here}, a))
		return err
	}
	if _, there := had[0].Places[region]; there {
		return nil
	}
	_, err = c.Store.ChangeImage(ctx, now(), store.Service, had[0].Ref(), store.AnyRevision, func(i *store.Image) error {
		i.Places[region] = here[region]
		return nil
	})
	return err
}

// fill writes an artifact into a record.
func fill(i store.Image, a image.Artifact) store.Image {
	i.Digest, i.SizeBytes, i.Start, i.Labels = a.Digest, a.Size, a.Start, a.Labels
	i.Environment = map[string]string{}
	for _, v := range a.Environment {
		// The machine's own system decides where programs and homes are.
		if name, value, ok := strings.Cut(v, "="); ok && name != "PATH" && name != "HOME" {
			i.Environment[name] = value
		}
	}
	return i
}

// Run sweeps and notes, until the context ends; then it breaks off what is
// under way and waits for it.
func (c *Catalogue) Run(ctx context.Context) {
	c.Sweep()
	tick := time.NewTicker(sweepEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			c.end(errors.New("the service stops"))
			c.jobs.Wait()
			return
		case <-tick.C:
			c.sweep(ctx)
		case <-c.sweeps:
			c.sweep(ctx)
		}
	}
}

// Sweep has unreferenced layers removed soon, and the indexes written anew.
func (c *Catalogue) Sweep() {
	select {
	case c.sweeps <- struct{}{}:
	default:
	}
}

// sweepEvery is how often is swept without being asked: what was too young then goes within the hour.
const sweepEvery = 30 * time.Minute

// sweepGrace protects blobs that another service on the same directory may be
// about to record.
const sweepGrace = 10 * time.Minute

func (c *Catalogue) sweep(ctx context.Context) {
	if r, err := c.Store.Restored(ctx); err != nil || r != nil {
		return // what restored records do not know may be needed still
	}
	for _, r := range c.Places {
		s := c.stores[r.Name]
		var refs map[string]string
		freed, err := s.Sweep(ctx, sweepGrace, func(ctx context.Context) (used []string, err error) {
			refs, err = c.Store.ImagesIn(ctx, r.Name)
			for _, d := range refs {
				used = append(used, d)
			}
			return used, err
		})
		if err == nil {
			err = s.Index(refs)
		}
		switch {
		case err != nil && ctx.Err() == nil:
			c.Log.Warn("the image store was not swept; it is tried again within the hour", "region", r.Name, "error", err)
		case freed > 0:
			c.Log.Info("layers that nothing uses were removed", "region", r.Name, "bytes", freed)
		}
	}
}

// region finds a region by name; the home region for "".
func (c *Catalogue) region(name string) (string, *image.Store, error) {
	if name == "" {
		name = c.Places.Home().Name
	}
	s, ok := c.stores[name]
	if !ok {
		return "", nil, &fleet.Refusal{Field: "region", Text: fmt.Sprintf("there is no region %q; there are %s", name, c.Places.Names())}
	}
	return name, s, nil
}

// Of returns the image store of the region that a zone lies in.
func (c *Catalogue) Of(zone string) (*image.Store, error) {
	r, ok := c.Places.Of(zone)
	if !ok {
		return nil, fmt.Errorf("there is no zone %q", zone)
	}
	return c.stores[r.Name], nil
}

// MissingIn returns the regions of the zones that do not have a version whose
// places are given.
func (c *Catalogue) MissingIn(places map[string]store.Place, zones []string) []string {
	missing := map[string]bool{}
	for _, z := range zones {
		if r, ok := c.Places.Of(z); ok {
			if _, there := places[r.Name]; !there {
				missing[r.Name] = true
			}
		}
	}
	var all []string
	for _, r := range c.Places {
		if missing[r.Name] {
			all = append(all, r.Name)
		}
	}
	return all
}

// Upload is an image that comes in.
type Upload struct {
	Name, Region, Source, Actor string
	// SHA256 is what the bytes that arrive must have, or nil.
	SHA256 []byte
	Labels map[string]string
}

// Import takes in an archive or an OCI layout.
func (c *Catalogue) Import(ctx context.Context, u Upload, r io.Reader) (store.Image, error) {
	return c.takeIn(ctx, u, func(in *image.Intake) (image.Artifact, error) {
		arrived := sha256.New()
		if u.SHA256 != nil {
			r = io.TeeReader(r, arrived)
		}
		a, err := in.Import(ctx, r)
		if err != nil || u.SHA256 == nil {
			return a, err
		}
		if _, err := io.Copy(io.Discard, r); err != nil { // a layout may end before its file
			return a, err
		}
		if !bytes.Equal(arrived.Sum(nil), u.SHA256) {
			return a, &image.Refused{Why: "what arrived is not what was sent: its digest is another than the Content-Digest says"}
		}
		return a, nil
	})
}

// Fetch takes in an image from a registry.
func (c *Catalogue) Fetch(ctx context.Context, u Upload, reference string, creds image.Credentials) (store.Image, error) {
	u.Source = reference
	return c.takeIn(ctx, u, func(in *image.Intake) (image.Artifact, error) { return in.Fetch(ctx, reference, creds, c.Registries) })
}

func (c *Catalogue) takeIn(ctx context.Context, u Upload, take func(*image.Intake) (image.Artifact, error)) (store.Image, error) {
	region, s, err := c.region(u.Region)
	if err != nil {
		return store.Image{}, err
	}
	leave, err := enter(c.lanes.coming, "images come in")
	if err != nil {
		return store.Image{}, err
	}
	defer leave()
	in := s.Begin()
	defer in.Close()
	a, err := take(in)
	if err == nil {
		err = decent(a)
	}
	if err != nil {
		return store.Image{}, err
	}
	record := fill(store.Image{Name: u.Name, State: store.Ready, Origin: store.Imported, Source: u.Source,
		Places: map[string]store.Place{region: {Since: now()}}}, a)
	if len(u.Labels) > 0 {
		record.Labels = maps.Clone(u.Labels)
		for k, v := range a.Labels {
			if _, given := u.Labels[k]; !given {
				record.Labels[k] = v
			}
		}
	}
	i, err := c.Store.AddImage(ctx, now(), u.Actor, record)
	if err == nil {
		in.Keep(a)
		c.Sweep()
	}
	return i, err
}

// Export writes a version as the tar of an OCI layout.
func (c *Catalogue) Export(ctx context.Context, i store.Image, w io.Writer) error {
	for _, r := range c.Places {
		if _, there := i.Places[r.Name]; there {
			return c.stores[r.Name].Export(ctx, w, i.Digest, i.Ref().String())
		}
	}
	return fmt.Errorf("the image %s is in no region of this service", i.Ref())
}

// Delete removes a version that nothing uses, and its log.
func (c *Catalogue) Delete(ctx context.Context, actor string, v fleet.Version, revision int64) error {
	if _, err := c.Store.DeleteImage(ctx, now(), actor, v, revision); err != nil {
		return err
	}
	c.Sweep()
	err := os.Remove(c.logFile(v))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
