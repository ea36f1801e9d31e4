// Package backup writes what a service cannot make again into one archive, while it runs or not, and
// makes a data directory from one: the records, the images, and the settings that are files. Machines
// are not in it; neither are logs.
//
// The archive is a tar file:
//
//	backup.json              what it is: of when, by which release, what is in it, and which secrets
//	database.dump            all records, in the format of PostgreSQL's own programs
//	token, certificates/*    files of the data directory
//	places.yaml              the regions and zones, where a file said which there are
//	images/REGION/DIGEST     the blobs of each region
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
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"unitas/internal/pgserver"
	"unitas/internal/places"
)

// Config says what is backed up, or made.
type Config struct {
	Data         string // the data directory
	Database     string // URL; "" for the private one in Data
	Certificates string // below Data when it is ""
	Places       places.Places
	PlacesFile   string // "" when there is none
	Release      string
	Progress     func(format string, args ...any) // what is done now
}

// Contents is what an archive says of itself.
type Contents struct {
	Format    int               `json:"format"`
	Release   string            `json:"release"`
	Migration int64             `json:"migration"` // the last change of the tables
	Taken     time.Time         `json:"taken_at"`
	Host      string            `json:"host"`
	Data      string            `json:"data"`
	Groups    int               `json:"groups"`
	Instances int               `json:"instances"` // that are not gone
	Images    int               `json:"image_versions"`
	Dump      string            `json:"database_sha256"`
	Regions   map[string]Blobs  `json:"regions"`
	Files     []string          `json:"files"`
	Secrets   map[string]string `json:"secrets"` // which there are, and in which of its parts
}

// Blobs are those of a region's images.
type Blobs struct {
	Count int   `json:"blobs"`
	Bytes int64 `json:"bytes"`
}

// format is that of archives now.
const format = 1

// The parts of an archive.
const (
	contentsFile = "backup.json"
	dumpFile     = "database.dump"
	tokenFile    = "token"
	placesFile   = "places.yaml"
)

// Take writes an archive, readable by its owner only, whole or not at all. A file that is there already
// stays as it is.
func Take(ctx context.Context, c Config, file string) (Contents, error) {
	if _, err := os.Lstat(file); err == nil {
		return Contents{}, fmt.Errorf("%s is there already; give another name, or remove it first", file)
	}
	url, leave, err := c.database(ctx)
	if err != nil {
		return Contents{}, err
	}
	defer leave()
	// In a directory of its own, which nobody else enters: the place may be one where others write.
	scratch, err := os.MkdirTemp(filepath.Dir(file), ".unitas-backup-")
	if err != nil {
		return Contents{}, fmt.Errorf("write the backup: %w", err)
	}
	defer os.RemoveAll(scratch)
	half, dump := filepath.Join(scratch, "archive"), filepath.Join(scratch, dumpFile)
	out, err := os.OpenFile(half, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return Contents{}, fmt.Errorf("write the backup: %w", err)
	}
	defer out.Close()
	c.Progress("the records")
	made, err := c.records(ctx, url, dump)
	if err != nil {
		return made, fmt.Errorf("back up the records: %w", err)
	}
	if err := c.write(ctx, out, dump, &made); err != nil {
		return made, fmt.Errorf("write the backup: %w", err)
	}
	if err := errors.Join(out.Sync(), out.Close()); err != nil {
		return made, fmt.Errorf("write the backup: %w", err)
	}
	return made, publish(half, file)
}

// publish gives a whole file its name, without replacing one that came meanwhile where the file system
// can do that.
func publish(half, file string) error {
	err := os.Link(half, file)
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.ENOSYS) {
		return os.Rename(half, file)
	}
	return err
}

// database is the address of the database; leave ends its use.
func (c Config) database(ctx context.Context) (url string, leave func(), err error) {
	if c.Database != "" {
		return c.Database, func() {}, nil
	}
	dir := filepath.Join(c.Data, "postgresql")
	if _, err := os.Stat(filepath.Join(dir, "cluster", "PG_VERSION")); err != nil {
		return "", nil, fmt.Errorf("%s has no database of its own; give --database, or another --data", c.Data)
	}
	pg, err := pgserver.Start(ctx, dir, true)
	if err != nil {
		return "", nil, err
	}
	return pg.URL("unitas"), func() {
		stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		_ = pg.Leave(stop)
	}, nil
}

// records dumps the database, after what it is was read.
func (c Config) records(ctx context.Context, url, dump string) (made Contents, err error) {
	made = Contents{Format: format, Release: c.Release, Taken: time.Now().UTC().Truncate(time.Second), Data: c.Data, Regions: map[string]Blobs{}, Secrets: map[string]string{}}
	made.Host, _ = os.Hostname()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return made, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if err := conn.QueryRow(ctx, `select (select max(version_id) from goose_db_version), (select count(*) from groups), (select count(*) from instances where state <> 'gone'), (select count(*) from images)`).
		Scan(&made.Migration, &made.Groups, &made.Instances, &made.Images); err != nil {
		return made, fmt.Errorf("it is no database of a service: %w", err)
	}
	made.Secrets[dumpFile] = "the tokens' digests, the secrets of hooks and notices, and the key of cookies"
	if err := pgserver.Dump(ctx, url, dump); err != nil {
		return made, err
	}
	made.Dump, err = digestOf(dump)
	return made, err
}

// part is one file of the archive.
type part struct{ name, file string }

// parts are the files that go into the archive, and what is to be said of them.
func (c Config) parts(made *Contents) (all []part, err error) {
	if file := filepath.Join(c.Data, tokenFile); isFile(file) {
		all = append(all, part{tokenFile, file})
		made.Secrets[tokenFile] = "the first token, with which everything may be done"
	}
	if c.PlacesFile != "" {
		all = append(all, part{placesFile, c.PlacesFile})
	}
	certificates, err := os.ReadDir(c.certificates())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, e := range certificates {
		if file := filepath.Join(c.certificates(), e.Name()); isFile(file) {
			all = append(all, part{"certificates/" + e.Name(), file})
			made.Secrets["certificates/"] = "the keys of certificates"
		}
	}
	for _, p := range all {
		made.Files = append(made.Files, p.name)
	}
	for _, r := range c.Places {
		blobs, err := os.ReadDir(blobsOf(r))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		of := Blobs{}
		for _, e := range blobs {
			if info, err := e.Info(); err == nil && isDigest(e.Name()) && info.Mode().IsRegular() {
				all = append(all, part{"images/" + r.Name + "/" + e.Name(), filepath.Join(blobsOf(r), e.Name())})
				of.Count, of.Bytes = of.Count+1, of.Bytes+info.Size()
			}
		}
		made.Regions[r.Name] = of
	}
	return all, nil
}

// write writes the archive. Images come after the records, so that whatever these name is there.
func (c Config) write(ctx context.Context, out io.Writer, dump string, made *Contents) error {
	parts, err := c.parts(made)
	if err != nil {
		return err
	}
	w := tar.NewWriter(out)
	raw, err := json.MarshalIndent(made, "", "  ")
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: contentsFile, Mode: 0o600, Size: int64(len(raw)), ModTime: made.Taken}); err != nil {
		return err
	}
	if _, err := w.Write(raw); err != nil {
		return err
	}
	for k, p := range append([]part{{dumpFile, dump}}, parts...) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if k > 0 && k%50 == 0 {
			c.Progress("%d of %d files", k, len(parts)+1)
		}
		if err := add(w, p); err != nil && !errors.Is(err, fs.ErrNotExist) { // an image that was deleted meanwhile
			return err
		}
	}
	return w.Close()
}

// add copies a file into the archive.
func add(w *tar.Writer, p part) error {
	f, err := os.Open(p.file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: p.name, Mode: 0o600, Size: info.Size(), ModTime: info.ModTime()}); err != nil {
		return err
	}
	_, err = io.CopyN(w, f, info.Size())
	return err
}

func (c Config) certificates() string {
	if c.Certificates != "" {
		return c.Certificates
	}
	return filepath.Join(c.Data, "certificates")
}

func blobsOf(r places.Region) string { return filepath.Join(r.Images, "blobs", "sha256") }

func isFile(name string) bool {
	info, err := os.Lstat(name)
	return err == nil && info.Mode().IsRegular()
}

func isDigest(name string) bool {
	raw, err := hex.DecodeString(name)
	return err == nil && len(raw) == sha256.Size
}

func digestOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
