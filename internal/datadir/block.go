package datadir

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"unitas/internal/wary"
)

// Blocks is how many blocks of loopback addresses and user ids there are on a host, and
// BlockSize how many machines each is good for.
const (
	Blocks    = 32
	BlockSize = 8 * 254
)

// formerBlocks is where all services of a host see which blocks are taken, by file: those that are not
// root, and those of releases before v0.2, which are honoured there for one release. Anybody may write
// and lock there, so whoever is root waits for nothing in it.
var formerBlocks = "/var/tmp/unitas-blocks"

// blocksDir is where those that are root see it.
var blocksDir = func() string {
	if os.Geteuid() == 0 {
		return "/var/lib/unitas-blocks"
	}
	return formerBlocks
}()

// blocksWait is how long one that notes its own waits for others that do.
const blocksWait = 30 * time.Second

// Block is the part of the host's loopback addresses and user ids that a data directory
// owns: machines of two services on one host have neither in common.
type Block int

// FirstUser is the first of the users that machines have.
const FirstUser = 200_000

const (
	usersEach = 4096
	firstBake = 199_900 // who runs the commands of recipes
)

// Address is the address of the number (modulo BlockSize) in the network 127.net.0.0/16.
func (b Block) Address(net int, number int64) string {
	n := number % BlockSize
	return fmt.Sprintf("127.%d.%d.%d", net, int64(b)*8+n/254, n%254+1)
}

// User is the user id of a machine, by the number of its address.
func (b Block) User(number int64) int { return FirstUser + int(b)*usersEach + int(number%BlockSize) }

// HasUser reports whether a user id is one of the block's machines.
func (b Block) HasUser(user int) bool {
	first := FirstUser + int(b)*usersEach
	return user >= first && user < first+usersEach
}

// BakeUser is the user id of whoever runs the commands of recipes.
func (b Block) BakeUser() int { return firstBake + int(b) }

// OwnBlock returns the block that the data directory owns, and has it own one when it
// has none yet: one that no other directory owns and nothing on the host uses. A
// directory that is gone owns nothing.
func OwnBlock(dir string) (Block, error) {
	if n, ok := blockOf(dir); ok && ownerIn(blocksDir, n) == dir {
		return n, nil // nobody is waited for
	}
	if err := os.MkdirAll(blocksDir, 0o755); err != nil {
		return 0, fmt.Errorf("make the place where services note their addresses: %w", err)
	}
	if blocksDir == formerBlocks {
		_ = os.Chmod(blocksDir, 0o777|fs.ModeSticky) // its owner did; others may not
	}
	ctx, cancel := context.WithTimeout(context.Background(), blocksWait)
	defer cancel()
	lock, err := Lock(ctx, filepath.Join(blocksDir, "lock"), syscall.LOCK_EX)
	if err != nil {
		return 0, fmt.Errorf("lock the place where services note their addresses: %w", err)
	}
	defer lock.Close()
	if blocksDir == formerBlocks {
		_ = os.Chmod(lock.Name(), 0o666)
	}
	if n, ok := blockOf(dir); ok && ownerOf(n) == dir {
		return n, note(n, dir) // it was noted where releases before this one do
	}
	used := inUse()
	var owners []string
	for n := range Blocks {
		if owner := ownerOf(Block(n)); owner != "" && owner != dir {
			owners = append(owners, owner)
			continue
		}
		if used[n] != "" {
			owners = append(owners, used[n])
			continue
		}
		name := filepath.Join(blocksDir, strconv.Itoa(n))
		if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
			owners = append(owners, name+", which cannot be removed")
			continue
		}
		if err := note(Block(n), dir); err != nil {
			return 0, err
		}
		if owner := overtaken(Block(n), dir); owner != "" {
			os.Remove(name)
			owners = append(owners, owner)
			continue
		}
		return Block(n), WriteFile(filepath.Join(dir, "block"), fmt.Appendf(nil, "%d\n", n), 0o644)
	}
	return 0, fmt.Errorf("all %d blocks of addresses for machines on this host are taken, by %s; remove data directories that are not needed any more", Blocks, strings.Join(owners, ", "))
}

// blockOf is the block that a directory says is its own.
func blockOf(dir string) (Block, bool) {
	raw, err := wary.Read(filepath.Join(dir, "block"), 16)
	if err != nil {
		return 0, false
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(raw)))
	return Block(n), err == nil && n >= 0 && n < Blocks
}

// note writes down that a directory owns a block; for releases before v0.2 also where these look.
func note(n Block, dir string) error {
	name, text := strconv.Itoa(int(n)), []byte(dir+"\n")
	if err := WriteFile(filepath.Join(blocksDir, name), text, 0o644); err != nil || blocksDir == formerBlocks {
		return err
	}
	if os.Mkdir(formerBlocks, 0o777) == nil {
		_ = os.Chmod(formerBlocks, 0o777|fs.ModeSticky)
	}
	if info, err := os.Lstat(formerBlocks); err != nil || !info.IsDir() {
		return nil // somebody plays with it; what counts is noted
	}
	former := filepath.Join(formerBlocks, name)
	_ = os.Remove(former)
	f, err := os.OpenFile(former, os.O_CREATE|os.O_EXCL|os.O_WRONLY|syscall.O_NOFOLLOW, 0o644)
	if err != nil {
		return nil // somebody plays with it; what counts is noted
	}
	_, _ = f.Write(text)
	f.Close()
	return nil
}

// freshNote is how young a note of a release before v0.2 may be to count though its directory does not
// say so yet, and settled is how long one that looked before ours was there may take to write its own.
const (
	freshNote = 10 * time.Second
	settled   = 200 * time.Millisecond
)

// overtaken is the directory of a release before v0.2 that took a block at the same moment, "" for
// none: these hold another lock, and write over what is noted.
func overtaken(n Block, dir string) string {
	if blocksDir == formerBlocks {
		return ""
	}
	time.Sleep(settled)
	raw, err := wary.Read(filepath.Join(formerBlocks, strconv.Itoa(int(n))), 4096)
	if owner := strings.TrimSpace(string(raw)); err == nil && owner != dir {
		return owner
	}
	return ""
}

// ownerOf is the directory that owns a block, "" when none does.
func ownerOf(n Block) string {
	if owner := ownerIn(blocksDir, n); owner != "" || blocksDir == formerBlocks {
		return owner
	}
	return ownerIn(formerBlocks, n)
}

// ownerIn is the directory that owns a block by what is noted in a place, "" when none does: it has to
// say so itself, and what a machine's user notes does not count.
func ownerIn(place string, n Block) string {
	name := filepath.Join(place, strconv.Itoa(int(n)))
	info, err := os.Lstat(name)
	if err != nil {
		return ""
	}
	if stat, ok := info.Sys().(*syscall.Stat_t); !ok || stat.Uid >= firstBake || !info.Mode().IsRegular() {
		return ""
	}
	raw, err := wary.Read(name, 4096)
	if err != nil {
		return ""
	}
	dir := strings.TrimSpace(string(raw))
	if own, ok := blockOf(dir); (!ok || own != n) && (place == blocksDir || time.Since(info.ModTime()) > freshNote) {
		return ""
	}
	return dir
}

// inUse tells of every block that something on the host uses what it is: processes of
// its users, or sockets that listen on its addresses.
func inUse() map[int]string {
	used := map[int]string{}
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		info, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
		if err != nil {
			continue
		}
		stat, ok := info.Sys().(*syscall.Stat_t)
		if !ok || stat.Uid < FirstUser || stat.Uid >= FirstUser+Blocks*usersEach {
			continue
		}
		used[int(stat.Uid-FirstUser)/usersEach] = fmt.Sprintf("process %d of user %d", pid, stat.Uid)
	}
	f, err := os.Open("/proc/net/tcp")
	if err != nil {
		return used
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || fields[3] != "0A" { // only those that listen
			continue
		}
		hex, _, _ := strings.Cut(fields[1], ":")
		ip, err := strconv.ParseUint(hex, 16, 32)
		if err != nil || ip&0xff != 127 || ip>>8&0xff < 64 {
			continue
		}
		address := fmt.Sprintf("%d.%d.%d.%d", ip&0xff, ip>>8&0xff, ip>>16&0xff, ip>>24)
		used[int(ip>>16&0xff)/8] = "whoever listens on " + address
	}
	return used
}
