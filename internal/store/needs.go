package store

import (
	"context"
	"fmt"
	"io/fs"
	"regexp"
	"strconv"
	"time"

	"github.com/pressly/goose/v3"
)

// needed is how a change of the tables names the oldest release that can use them.
var needed = regexp.MustCompile(`insert into needs \(migration, oldest, release\) values \((\d+), (\d+), '([^']+)'\)`)

// mayUse refuses in words what cannot work together: a program that is too old for the tables as they
// are, and tables that would be taken away from a service of an older release that is up. Nothing is
// touched by it. known are the changes that this program brings, of which those after now are still
// to be made.
func (s *Store) mayUse(ctx context.Context, files fs.FS, known []*goose.Source, now int64) error {
	newest := known[len(known)-1].Version
	var told bool
	if err := s.pool.QueryRow(ctx, `select to_regclass('needs') is not null`).Scan(&told); err != nil || !told {
		return err
	}
	var release string
	if err := s.pool.QueryRow(ctx, `select coalesce((select release from needs where oldest > $1 order by oldest desc, migration limit 1), '')`, newest).Scan(&release); err != nil {
		return err
	}
	if release != "" {
		return fmt.Errorf("the tables of this database are of a later release, which only %s and later can use; start one of these instead (nothing was touched)", release)
	}
	for _, m := range known {
		if m.Version <= now {
			continue
		}
		raw, err := fs.ReadFile(files, m.Path)
		if err != nil {
			return err
		}
		need := needed.FindSubmatch(raw)
		if need == nil {
			continue
		}
		oldest, _ := strconv.ParseInt(string(need[2]), 10, 64)
		if older, err := s.olderThan(ctx, oldest); err != nil {
			return err
		} else if older != "" {
			return fmt.Errorf("the service %s is up, and the tables of this release can only be used by %s and later; upgrade it to one of these first, or stop it (nothing was touched)", older, need[3])
		}
	}
	return nil
}

// olderWait is for how long one that may have been killed is waited for: its lease ends within it.
var olderWait = 10 * time.Second

// olderThan names a service that is up and does not know a change of the tables, "" for none.
func (s *Store) olderThan(ctx context.Context, change int64) (older string, err error) {
	for late := time.Now().Add(olderWait); ; {
		err := s.pool.QueryRow(ctx, `select coalesce((select name || ' (' || version || ')' from replicas where until > now() and knows < $1 order by name limit 1), '')`, change).Scan(&older)
		if err != nil || older == "" || time.Now().After(late) {
			return older, err
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return "", context.Cause(ctx)
		}
	}
}
