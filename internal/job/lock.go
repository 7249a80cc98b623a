package job

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"janustat/internal/disk"
	"janustat/internal/store"
)

// ErrLocked is wrapped when another program works on the job.
var ErrLocked = errors.New("the job is locked")

const (
	lockFile   = "job.lock"
	holderFile = "job.holder"
)

// Lock keeps other programs from writing to the job.
type Lock struct {
	file   *flock.Flock
	holder string
}

// Lock takes the job's lock for a command. The system frees it when this
// process ends, however it ends.
func (j *Job) Lock(command string) (*Lock, error) {
	if j.Register.Copied() {
		return nil, fmt.Errorf("%s: %w", j.Dir, store.ErrReadOnly)
	}
	path, holder := j.Path(lockFile), j.Path(holderFile)
	if _, err := disk.NoLink(path); err != nil {
		return nil, fmt.Errorf("lock %w", err)
	}
	f := flock.New(path)
	ok, err := f.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock %s: %w", path, err)
	}
	if !ok {
		who, err := os.ReadFile(holder)
		if err != nil {
			who = []byte("another program")
		}
		return nil, fmt.Errorf("%w by %s: wait for it to end, then run the command again", ErrLocked, strings.TrimSpace(string(who)))
	}
	host, _ := os.Hostname() // unnamed hosts are told by their process alone
	text := fmt.Sprintf("`janustat %s` (process %d on %s, since %s)\n", command, os.Getpid(), host, time.Now().Format("15:04:05"))
	// On a full disk the lock still holds, and only who holds it is unnamed: what may
	// free room again, such as opening the register, must not be kept from it.
	if err := disk.WriteFile(holder, []byte(text), 0o644); err != nil && !errors.Is(err, syscall.ENOSPC) {
		_ = f.Unlock()
		return nil, err
	}
	return &Lock{f, holder}, nil
}

// Unlock gives the lock back.
func (l *Lock) Unlock() {
	_ = os.Remove(l.holder) // told by the lock itself; the text only explains it
	_ = l.file.Unlock()
}
