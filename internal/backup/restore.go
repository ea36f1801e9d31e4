package backup

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"

	"unitas/internal/datadir"
	"unitas/internal/pgserver"
	"unitas/internal/places"
	"unitas/internal/store"
)

// Read says what is in an archive.
func Read(file string) (Contents, error) {
	f, err := os.Open(file)
	if err != nil {
		return Contents{}, err
	}
	defer f.Close()
	return readContents(tar.NewReader(f), file)
}

// mostContents is how long what an archive says of itself may be, in bytes.
const mostContents = 1 << 20

func readContents(r *tar.Reader, file string) (c Contents, err error) {
	h, err := r.Next()
	if err != nil || h.Name != contentsFile {
		return c, fmt.Errorf("%s is no backup: it does not begin with %s", file, contentsFile)
	}
	if err := json.NewDecoder(io.LimitReader(r, mostContents)).Decode(&c); err != nil {
		return c, fmt.Errorf("%s cannot be read: what it says of itself is damaged: %w", file, err)
	}
	if c.Format != format {
		return c, fmt.Errorf("%s is of format %d, which %s wrote; this release reads format %d", file, c.Format, c.Release, format)
	}
	return c, nil
}

// Restore fills a data directory and an empty database from an archive. All of the archive is read and
// held against its digests first; what the directory has already, such as machines, stays. The service
// that is started on it next only shows what it finds, until a person has it act.
func Restore(ctx context.Context, c Config, file string) (Contents, error) {
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return Contents{}, fmt.Errorf("make the data directory: %w", err)
	}
	lock, err := datadir.TryLock(filepath.Join(c.Data, "lock"), syscall.LOCK_EX)
	if errors.Is(err, datadir.ErrHeld) {
		return Contents{}, fmt.Errorf("a service uses the data directory %s; stop it first", c.Data)
	}
	if err != nil {
		return Contents{}, err
	}
	defer lock.Close()
	if c.Database == "" && isThere(filepath.Join(c.Data, "postgresql", "cluster")) {
		dir := filepath.Join(c.Data, "postgresql")
		return Contents{}, fmt.Errorf("%s is a database already; move it away first (mv %s %s.before), or give another --data", dir, dir, dir)
	}
	if left, _ := filepath.Glob(filepath.Join(c.Data, ".restoring-*")); len(left) > 0 { // of one that was killed
		for _, dir := range left {
			os.RemoveAll(dir)
		}
	}
	scratch, err := os.MkdirTemp(c.Data, ".restoring-")
	if err != nil {
		return Contents{}, err
	}
	defer os.RemoveAll(scratch)
	c.Progress("reading the archive")
	from, err := lay(ctx, file, scratch)
	if err != nil {
		return from, err
	}
	if from.Migration > store.NewestMigration() {
		return from, fmt.Errorf("%s is of a later release (%s), whose tables this one does not know; restore it with that release or a later one", file, from.Release)
	}
	if c.PlacesFile == "" && isThere(filepath.Join(scratch, placesFile)) {
		raw, err := os.ReadFile(filepath.Join(scratch, placesFile))
		if err != nil {
			return from, err
		}
		if c.Places, err = places.Parse(raw, c.Data); err != nil {
			return from, fmt.Errorf("the places of the archive: %w", err)
		}
	}
	for name := range from.Regions {
		if !slices.ContainsFunc(c.Places, func(r places.Region) bool { return r.Name == name }) {
			return from, fmt.Errorf("the archive has images of the region %s, which the places do not have; give --places with it", name)
		}
	}
	c.Progress("the images")
	if err := c.placeImages(scratch); err != nil {
		return from, fmt.Errorf("restore the images: %w", err)
	}
	c.Progress("the records")
	if err := c.load(ctx, from, filepath.Join(scratch, dumpFile)); err != nil {
		if c.Database == "" { // it was made just now, and is no database that the next try has to spare
			err = errors.Join(err, os.RemoveAll(filepath.Join(c.Data, "postgresql")))
		}
		return from, fmt.Errorf("restore the records: %w", err)
	}
	return from, c.placeFiles(scratch, from)
}

// lay unpacks an archive into a directory of its own, and holds it against its digests.
func lay(ctx context.Context, file, dir string) (c Contents, err error) {
	f, err := os.Open(file)
	if err != nil {
		return c, err
	}
	defer f.Close()
	r := tar.NewReader(f)
	if c, err = readContents(r, file); err != nil {
		return c, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return c, err
	}
	defer root.Close()
	dumped := false
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return c, fmt.Errorf("%s is damaged or ends too early: %w", file, err)
		}
		if ctx.Err() != nil {
			return c, ctx.Err()
		}
		if h.Typeflag != tar.TypeReg || !known(h.Name) {
			return c, fmt.Errorf("%s has %q in it, which is no part of a backup", file, h.Name)
		}
		sum, err := unpack(root, h.Name, r)
		if err != nil {
			return c, fmt.Errorf("%s: %s: %w", file, h.Name, err)
		}
		dumped = dumped || h.Name == dumpFile
		if (h.Name == dumpFile && sum != c.Dump) || (strings.HasPrefix(h.Name, "images/") && sum != filepath.Base(h.Name)) {
			return c, fmt.Errorf("%s is damaged: %s is not what was written", file, h.Name)
		}
	}
	if !dumped {
		return c, fmt.Errorf("%s has no records", file)
	}
	return c, nil
}

// known reports whether a name is that of a part of an archive.
func known(name string) bool {
	switch parts := strings.Split(name, "/"); {
	case !fs.ValidPath(name):
		return false
	case len(parts) == 1:
		return slices.Contains([]string{dumpFile, tokenFile, placesFile}, name)
	case len(parts) == 2:
		return parts[0] == "certificates"
	default:
		return len(parts) == 3 && parts[0] == "images" && isDigest(parts[2])
	}
}

func unpack(root *os.Root, name string, from io.Reader) (sum string, err error) {
	if err := root.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return "", err
	}
	f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, h), from)
	return hex.EncodeToString(h.Sum(nil)), errors.Join(err, f.Close())
}

// load fills the database, and has it be that of the data directory.
func (c Config) load(ctx context.Context, from Contents, dump string) error {
	url := c.Database
	if url == "" {
		pg, err := pgserver.Start(ctx, filepath.Join(c.Data, "postgresql"), true)
		if err != nil {
			return err
		}
		defer func() { _ = pg.Leave(context.WithoutCancel(ctx)) }()
		if err := pg.Create(ctx, "unitas"); err != nil {
			return err
		}
		url = pg.URL("unitas")
	}
	if err := empty(ctx, url); err != nil {
		return err
	}
	if err := pgserver.Load(ctx, url, dump); err != nil {
		return err
	}
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer st.Close()
	id, err := datadir.Identify(c.Data, true)
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	return st.Restore(ctx, from.Taken, store.Directory{ID: id, Path: c.Data, Host: host})
}

// empty refuses a database that has tables.
func empty(ctx context.Context, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var tables int
	if err := conn.QueryRow(ctx, `select count(*) from pg_tables where schemaname = 'public'`).Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return fmt.Errorf("the database has %d tables already; give an empty one (createdb NAME)", tables)
	}
	return nil
}

// placeFiles moves files to where they belong; another token or certificate that is there is kept beside.
func (c Config) placeFiles(scratch string, from Contents) error {
	for _, name := range from.Files {
		if !known(name) || !isThere(filepath.Join(scratch, name)) {
			continue
		}
		to := filepath.Join(c.Data, name)
		if strings.HasPrefix(name, "certificates/") {
			to = filepath.Join(c.certificates(), filepath.Base(name))
		}
		if err := put(filepath.Join(scratch, name), to); err != nil {
			return err
		}
	}
	return nil
}

// placeImages moves blobs to where they belong; what is there already under its digest is the same.
func (c Config) placeImages(scratch string) error {
	for _, r := range c.Places {
		blobs, err := os.ReadDir(filepath.Join(scratch, "images", r.Name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if err := os.MkdirAll(blobsOf(r), 0o700); err != nil {
			return err
		}
		for _, b := range blobs {
			if to := filepath.Join(blobsOf(r), b.Name()); !isThere(to) {
				if err := move(filepath.Join(scratch, "images", r.Name, b.Name()), to); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// put moves a file; another that is there under its name is kept as NAME.before.
func put(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if had, err := digestOf(to); err == nil {
		if is, err := digestOf(from); err != nil || is == had {
			return err
		}
		if err := os.Rename(to, to+".before"); err != nil {
			return err
		}
	}
	return move(from, to)
}

// move renames a file, or copies it to another file system.
func move(from, to string) error {
	err := os.Rename(from, to)
	if !errors.Is(err, syscall.EXDEV) {
		return err
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	half := to + ".half"
	out, err := os.OpenFile(half, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err := errors.Join(err, out.Sync(), out.Close()); err != nil {
		os.Remove(half)
		return err
	}
	return os.Rename(half, to)
}

func isThere(name string) bool {
	_, err := os.Lstat(name)
	return err == nil
}
