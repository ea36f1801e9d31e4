package bake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"unitas/internal/fleet/words"
	"unitas/internal/image"
	"unitas/internal/wary"
)

// Job is one bake.
type Job struct {
	Store  *image.Store
	Parent string // digest of the parent's manifest
	Recipe Recipe
	Beside string // directory with the files that the recipe names
	Dir    string // for the scratch tree; it must not be there, and is gone at the end
	// User is the unprivileged user that commands run as, or negative to stay
	// who we are.
	User int
	// Helper runs [Confined]: the program and its first arguments.
	Helper []string
	Log    io.Writer
	// Step is told what begins now.
	Step func(step string)
}

// Failed is a bake that did not come to its end, with the step at fault.
type Failed struct {
	Step string
	Why  string
}

func (f *Failed) Error() string { return f.Step + ": " + f.Why }

// Run bakes, and takes the artifact in. A *Failed error names the step; the
// log has said the same.
func (j Job) Run(ctx context.Context, in *image.Intake) (a image.Artifact, err error) {
	limit, err := j.Recipe.Limit()
	if err != nil {
		return a, err
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, fmt.Errorf("the time limit of %s is over", words.Span(limit)))
	defer cancel()
	begun := time.Now()
	defer func() {
		err = errors.Join(err, RemoveAll(j.Dir))
		var f *Failed
		switch {
		case err == nil:
			fmt.Fprintf(j.Log, "── ready: %s after %s\n", a.Digest, words.Span(time.Since(begun)))
		case errors.As(err, &f):
			fmt.Fprintf(j.Log, "── failed at %s: %s\n", f.Step, f.Why)
		default:
			fmt.Fprintf(j.Log, "── failed: %v\n", err)
		}
	}()
	s := steps{Job: j, ctx: ctx, tree: filepath.Join(j.Dir, "tree"), tmp: filepath.Join(j.Dir, "tmp")}
	if err := s.run(); err != nil {
		return a, err
	}
	if err := s.step("packing", func() error {
		parent, err := j.Store.Read(j.Parent)
		if err == nil {
			a, err = in.Derive(ctx, parent, s.tree, image.SkipNothing, j.Recipe.Start, j.Recipe.Labels)
		}
		return err
	}); err != nil {
		return image.Artifact{}, err
	}
	return a, nil
}

// RemoveAll removes a tree whose directories may not be written.
func RemoveAll(dir string) error {
	_ = filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			_ = os.Chmod(p, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}

type steps struct {
	Job
	ctx       context.Context
	tree, tmp string
}

// step does one part, logs it, and names it when it fails.
func (s *steps) step(name string, do func() error) error {
	s.Step(name)
	fmt.Fprintf(s.Log, "── %s\n", name)
	begun := time.Now()
	err := do()
	if err == nil && s.ctx.Err() == nil {
		fmt.Fprintf(s.Log, "   done in %s\n", words.Span(time.Since(begun)))
		return nil
	}
	why := ""
	switch {
	case s.ctx.Err() != nil:
		why = context.Cause(s.ctx).Error()
	default:
		why = err.Error()
	}
	return &Failed{Step: name, Why: why}
}

func (s *steps) run() error {
	if err := s.step("laying out "+s.Recipe.Parent, s.layOut); err != nil {
		return err
	}
	for i, f := range s.Recipe.Files {
		if err := s.step(fmt.Sprintf("file %d of %d: %s", i+1, len(s.Recipe.Files), f.To), func() error { return s.add(f) }); err != nil {
			return err
		}
	}
	if err := s.own(); err != nil {
		return err
	}
	for i, c := range s.Recipe.Commands {
		if err := s.step(fmt.Sprintf("command %d of %d: %s", i+1, len(s.Recipe.Commands), c), func() error { return s.command(c) }); err != nil {
			return err
		}
	}
	return nil
}

func (s *steps) layOut() error {
	if err := os.Mkdir(s.Dir, 0o700); err != nil { // what is being made is nobody else's to read
		return err
	}
	for _, d := range []string{s.tree, s.tmp} {
		if err := os.Mkdir(d, 0o755); err != nil {
			return err
		}
	}
	return s.Store.Unpack(s.Parent, s.tree, -1, 0)
}

// add puts one file or directory into the tree, which links cannot lead out of.
func (s *steps) add(f File) error {
	tree, err := os.OpenRoot(s.tree)
	if err != nil {
		return err
	}
	defer tree.Close()
	to, _ := inside(f.To)
	if f.Text != nil {
		mode, err := modeOf(f.Mode, 0o644)
		if err != nil {
			return err
		}
		return put(tree, to, []byte(*f.Text), mode)
	}
	beside, err := os.OpenRoot(s.Beside)
	if err != nil {
		return err
	}
	defer beside.Close()
	from, _ := inside(f.From)
	return fs.WalkDir(beside.FS(), from, func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := path.Join(to, name[len(from):])
		switch {
		case e.IsDir():
			return tree.MkdirAll(target, 0o755)
		case !e.Type().IsRegular():
			return fmt.Errorf("%s is no file; only files and directories are added", name)
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		mode, err := modeOf(f.Mode, info.Mode().Perm())
		if err != nil {
			return err
		}
		return copyFile(beside, name, tree, target, mode)
	})
}

func modeOf(text string, otherwise fs.FileMode) (fs.FileMode, error) {
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseUint(text, 8, 9)
	return fs.FileMode(n), err
}

func put(root *os.Root, name string, content []byte, mode fs.FileMode) error {
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	if err := root.RemoveAll(name); err != nil {
		return err
	}
	if err := root.WriteFile(name, content, mode|0o600); err != nil {
		return err
	}
	return root.Chmod(name, mode|0o600)
}

func copyFile(from *os.Root, name string, to *os.Root, target string, mode fs.FileMode) error {
	if err := put(to, target, nil, mode); err != nil {
		return err
	}
	in, err := wary.OpenIn(from, name)
	if err != nil {
		return err
	}
	defer in.Close()
	// A fork that holds the file open for writing would keep it from being run.
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	out, err := to.OpenFile(target, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// own gives the tree to the user that the commands run as.
func (s *steps) own() error {
	if s.User < 0 || len(s.Recipe.Commands) == 0 {
		return nil
	}
	if err := errors.Join(os.Chown(s.Dir, s.User, s.User), os.Chown(s.tmp, s.User, s.User)); err != nil {
		return err
	}
	return filepath.WalkDir(s.tree, func(name string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(name, s.User, s.User)
	})
}
