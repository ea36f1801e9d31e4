package datadir

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/google/uuid"
)

// identity is what a data directory says of itself, with what a copy of it lacks.
type identity struct {
	ID string `json:"id"`
	// Inode is that of the directory, on the device Device, whose number is good for one boot.
	Inode  uint64 `json:"inode"`
	Device uint64 `json:"device"`
	Boot   string `json:"boot"`
	// Host is the machine-id of the host, "" where it has none.
	Host string `json:"host"`
}

// ErrCopied is that a data directory is another than the one that its files were written in.
var ErrCopied = errors.New("it is a copy")

// Identify returns the identity of a data directory, and has it take one when it has none. A copy is
// refused with [ErrCopied] in words, unless it was moved, and takes the place of the one before: it
// has another identity from then on.
func Identify(dir string, moved bool) (id string, err error) {
	file := filepath.Join(dir, "identity")
	here, err := identityOf(dir)
	if err != nil {
		return "", fmt.Errorf("look at the data directory: %w", err)
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return take(file, here)
	}
	if err != nil {
		return "", fmt.Errorf("read the identity of the data directory: %w", err)
	}
	var was identity
	if err := json.Unmarshal(raw, &was); err != nil || was.ID == "" {
		return "", fmt.Errorf("the identity of the data directory, %s, is damaged; put it back, or remove it and start with --moved", file)
	}
	switch other := was.other(here); {
	case other == "":
		here.ID = was.ID
	case !moved:
		return "", fmt.Errorf("the data directory %s is another than the one that was used before (%s): %w. The machines of the one before are not this one's. If that one is gone and this one takes its place, start with --moved; else give --data another directory", dir, other, ErrCopied)
	default:
		here.ID = uuid.NewString()
	}
	if here == was {
		return here.ID, nil
	}
	raw, err = json.Marshal(here)
	if err != nil {
		return "", err
	}
	return here.ID, WriteFile(file, append(raw, '\n'), 0o600)
}

// take gives a directory that has none an identity; of several services that do at once one is first.
func take(file string, here identity) (string, error) {
	here.ID = uuid.NewString()
	raw, err := json.Marshal(here)
	if err != nil {
		return "", err
	}
	own := file + "." + here.ID
	defer os.Remove(own)
	if err := WriteFile(own, append(raw, '\n'), 0o600); err != nil {
		return "", fmt.Errorf("note the identity of the data directory: %w", err)
	}
	if err := os.Link(own, file); errors.Is(err, fs.ErrExist) {
		return Identify(filepath.Dir(file), false)
	} else if err != nil {
		return "", fmt.Errorf("note the identity of the data directory: %w", err)
	}
	return here.ID, nil
}

// other says what of a directory is other than it was, "" for nothing.
func (was identity) other(here identity) string {
	switch {
	case was.Host != "" && here.Host != "" && was.Host != here.Host:
		return "it is on another host"
	case was.Inode != here.Inode, was.Boot == here.Boot && was.Device != here.Device:
		return "it was copied"
	}
	return ""
}

func identityOf(dir string) (i identity, err error) {
	var stat syscall.Stat_t
	if err := syscall.Stat(dir, &stat); err != nil {
		return i, err
	}
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return i, err
	}
	host, err := os.ReadFile("/etc/machine-id")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return i, err
	}
	return identity{Inode: stat.Ino, Device: stat.Dev, Boot: strings.TrimSpace(string(boot)), Host: strings.TrimSpace(string(host))}, nil
}
