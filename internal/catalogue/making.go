package catalogue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"unitas/internal/caught"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/image/bake"
	"unitas/internal/machine"
	"unitas/internal/store"
	"unitas/internal/wary"
)

// recipeName is the recipe in what is sent to be baked.
const recipeName = "recipe.yaml"

func (c *Catalogue) logFile(v fleet.Version) string {
	return filepath.Join(c.Logs, v.String()+".log")
}

// BakeLog opens the log of a version that was or is being made.
func (c *Catalogue) BakeLog(v fleet.Version) (*os.File, error) { return os.Open(c.logFile(v)) }

// Bake begins to make the next version of an image from a recipe, which comes
// with the files it names as a compressed tar archive. It returns as soon as
// the recipe is known to be good; the version is baking then. resolve finds
// the parent.
func (c *Catalogue) Bake(ctx context.Context, u Upload, bundle io.Reader, resolve func(ref string) (store.Image, error)) (store.Image, error) {
	region, s, err := c.region(u.Region)
	if err != nil {
		return store.Image{}, err
	}
	if err := s.Space.Room(); err != nil {
		return store.Image{}, err
	}
	leave, err := enter(c.lanes.coming, "images come in")
	if err != nil {
		return store.Image{}, err
	}
	defer leave()
	beside, err := os.MkdirTemp(c.scratch(), "beside-")
	if err != nil {
		return store.Image{}, err
	}
	i, start, err := func() (i store.Image, start func(), err error) {
		if err := image.UnpackArchive(bundle, beside, image.DefaultLimits); err != nil {
			return i, nil, err
		}
		sent, err := os.OpenRoot(beside)
		if err != nil {
			return i, nil, err
		}
		defer sent.Close()
		raw, err := wary.ReadIn(sent, recipeName, bake.MaxRecipe+1)
		switch {
		case errors.Is(err, os.ErrNotExist):
			return i, nil, &image.Refused{Why: "what was sent has no " + recipeName + " at its root"}
		case err != nil:
			return i, nil, &image.Refused{Entry: recipeName, Why: "cannot be read: " + err.Error()}
		}
		recipe, err := bake.Parse(raw)
		if err != nil {
			return i, nil, &fleet.Refusal{Field: "recipe", Text: err.Error()}
		}
		for k, name := range recipe.Beside() {
			if _, err := sent.Lstat(name); err != nil {
				return i, nil, &fleet.Refusal{Field: "recipe", Text: fmt.Sprintf("the recipe adds %q (its file %d), which is not beside it", name, k+1)}
			}
		}
		parent, err := c.parent(recipe.Parent, region, resolve)
		if err != nil {
			return i, nil, err
		}
		recipe.Parent = parent.Ref().String() // the number is what is recorded
		i, log, err := c.begin(ctx, u, store.Image{Origin: store.Baked, Source: u.Source, Recipe: string(raw), Parent: parent.Name, ParentVersion: parent.Version})
		if err != nil {
			return i, nil, err
		}
		return i, func() {
			c.make(i, region, log, func(ctx context.Context, in *image.Intake, step func(string)) (image.Artifact, error) {
				return bake.Job{Store: s, Parent: parent.Digest, Recipe: recipe, Beside: beside, Dir: filepath.Join(c.scratch(), i.Ref().String()),
					User: c.BakeUser, Helper: c.Helper, Log: log, Step: step}.Run(ctx, in)
			})
			_ = os.RemoveAll(beside)
		}, nil
	}()
	if err != nil {
		return i, errors.Join(err, os.RemoveAll(beside))
	}
	c.jobs.Go(caught.Func("a bake", start))
	return i, nil
}

// parent finds the version that a recipe starts from, which must be there.
func (c *Catalogue) parent(ref, region string, resolve func(string) (store.Image, error)) (store.Image, error) {
	p, err := resolve(ref)
	if errors.Is(err, store.ErrNotFound) {
		return p, &fleet.Refusal{Field: "recipe", Text: fmt.Sprintf("parent: there is no image %s", ref)}
	}
	if err != nil {
		return p, err
	}
	if err := p.Usable(); err != nil {
		return p, &fleet.Refusal{Field: "recipe", Text: "parent: " + err.Error()}
	}
	if _, there := p.Places[region]; !there {
		return p, &fleet.Refusal{Field: "recipe", Text: fmt.Sprintf("parent: the image %s is not in %s; copy it first with: unitas image copy %s --to %s", p.Ref(), region, p.Ref(), region)}
	}
	return p, nil
}

// begin records a version in the making and opens its log.
func (c *Catalogue) begin(ctx context.Context, u Upload, i store.Image) (store.Image, *os.File, error) {
	i.Name, i.State, i.Replica, i.Step = u.Name, store.Baking, c.Replica, "waiting"
	if len(c.lanes.waiting) == cap(c.lanes.waiting) {
		return i, nil, &Busy{"images wait to be made", cap(c.lanes.waiting)}
	}
	i, err := c.Store.AddImage(ctx, now(), u.Actor, i)
	if err != nil {
		return i, nil, err
	}
	log, err := os.OpenFile(c.logFile(i.Ref()), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return i, nil, errors.Join(err, c.broken(ctx, i.Ref(), i.Step, err.Error()))
	}
	return i, log, nil
}

// make does the work behind a version that is baking, and records its end.
func (c *Catalogue) make(i store.Image, region string, log *os.File, do func(context.Context, *image.Intake, func(string)) (image.Artifact, error)) {
	defer log.Close()
	c.lanes.waiting <- struct{}{}
	leave, err := await(c.ending, c.lanes.making)
	<-c.lanes.waiting
	if err == nil {
		defer leave()
	}
	in := c.stores[region].Begin()
	defer in.Close()
	last := i.Step
	var a image.Artifact
	if fault := caught.Do("making an image", func() {
		a, err = do(c.ending, in, func(step string) {
			last = step
			_, _ = c.Store.ChangeImage(c.ending, now(), store.Service, i.Ref(), store.AnyRevision, func(i *store.Image) error { i.Step = step; return nil })
		})
	}); fault != nil {
		err = fault
	}
	if err != nil {
		why := err.Error()
		var f *bake.Failed
		if errors.As(err, &f) {
			last, why = f.Step, f.Why
		}
		if err := c.persist(func(ctx context.Context) error { return c.broken(ctx, i.Ref(), last, why) }); err != nil {
			c.Log.Warn("that a bake failed was not recorded", "image", i.Ref(), "error", err)
		}
		return
	}
	err = c.persist(func(ctx context.Context) error {
		_, err := c.Store.ChangeImage(ctx, now(), store.Service, i.Ref(), store.AnyRevision, func(i *store.Image) error {
			*i = fill(*i, a)
			i.State, i.Step = store.Ready, ""
			i.Places = map[string]store.Place{region: {Since: now()}}
			return nil
		})
		return err
	})
	if err != nil {
		c.Log.Warn("that a bake is ready was not recorded", "image", i.Ref(), "error", err)
		return
	}
	in.Keep(a)
	c.Sweep()
}

func (c *Catalogue) broken(ctx context.Context, v fleet.Version, step, why string) error {
	_, err := c.Store.ChangeImage(ctx, now(), store.Service, v, store.AnyRevision, func(i *store.Image) error {
		i.State, i.Step, i.Why = store.Broken, step, why
		return nil
	})
	return err
}

// FromInstance begins to make the next version of an image from the files of
// an instance. around is given what takes the files, and runs it when they may
// be read: at once, or when the instance is at rest.
func (c *Catalogue) FromInstance(ctx context.Context, u Upload, in store.Instance, parent store.Image, around func(ctx context.Context, take func() error) error) (store.Image, error) {
	r, ok := c.Places.Of(in.Zone)
	if !ok {
		return store.Image{}, fmt.Errorf("there is no zone %q", in.Zone)
	}
	if !c.stores[r.Name].Has(parent.Digest) {
		return store.Image{}, &fleet.Refusal{Text: fmt.Sprintf("the image %s that %s was launched from is not in %s any more", parent.Ref(), in.ID, r.Name)}
	}
	machines, can := c.Machines.(machine.Filer)
	if !can {
		return store.Image{}, &fleet.Refusal{Text: "the machines of this service give no files to make an image of"}
	}
	u.Source = in.ID
	i, log, err := c.begin(ctx, u, store.Image{Origin: store.FromInstance, Source: in.ID, Parent: parent.Name, ParentVersion: parent.Version})
	if err != nil {
		return i, err
	}
	c.jobs.Go(func() {
		defer caught.Told("an image of an instance", nil)
		c.make(i, r.Name, log, func(ctx context.Context, intake *image.Intake, step func(string)) (a image.Artifact, err error) {
			step("reading the files of " + in.ID)
			fmt.Fprintf(log, "── reading the files of %s (%s, %s)\n", in.ID, in.Version, in.Zone)
			err = around(ctx, func() error {
				return machines.Files(in.ID, func(dir string) error {
					from, err := c.stores[r.Name].Read(parent.Digest)
					if err == nil {
						a, err = intake.Derive(ctx, from, dir, image.OwnOfInstance, nil, nil)
					}
					return err
				})
			})
			if err != nil {
				fmt.Fprintf(log, "── failed: %v\n", err)
				return a, err
			}
			fmt.Fprintf(log, "── ready: %s\n", a.Digest)
			return a, nil
		})
	})
	return i, nil
}
