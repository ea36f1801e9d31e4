package main

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
)

// results are what came of each fault so far, kept in a file, so that a run that was broken off can
// be gone on with.
type results struct {
	file string
	By   map[string]result // by the fault's name
}

type result struct {
	Fault string // what was tried, as a hash of the broken file
	By    string // who noticed; "" for nobody
}

// openResults reads what there is; with fresh nothing.
func openResults(file string, fresh bool) *results {
	r := &results{file: file, By: map[string]result{}}
	if raw, err := os.ReadFile(file); err == nil && !fresh {
		if json.Unmarshal(raw, &r.By) != nil {
			r.By = map[string]result{}
		}
	}
	return r
}

// of is who noticed a fault when it was tried, if that was in the same file; one that nobody noticed
// is tried again.
func (r *results) of(f fault) (by string, known bool) {
	had, ok := r.By[f.name]
	return had.By, ok && had.By != "" && had.Fault == f.hash()
}

// keep writes down who noticed.
func (r *results) keep(f fault, by string) {
	r.By[f.name] = result{f.hash(), by}
	raw, err := json.MarshalIndent(r.By, "", " ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(r.file), 0o755)
	}
	if err == nil {
		err = os.WriteFile(r.file, raw, 0o600)
	}
	if err != nil {
		fail(err)
	}
}

// hash is of the file that the fault breaks, and how.
func (f fault) hash() string {
	raw, err := os.ReadFile(f.path())
	if err != nil {
		fail(err)
	}
	sum := sha256.Sum256(append(raw, "\x00"+f.was+"\x00"+f.now...))
	return hex.EncodeToString(sum[:8])
}
