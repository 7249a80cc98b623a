// Package disk writes files that are whole or not there, for their owner alone, and follows no link.
package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrLink is wrapped when a file of a job is a link: what it leads to may be anybody's.
var ErrLink = errors.New("is a link, and files of a job are not followed through links: put the file itself there")

// NoLink refuses a path that is a symbolic link, or something else than a file.
func NoLink(path string) (there bool, err error) {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, nil
	case err != nil:
		return false, err
	case info.Mode()&fs.ModeSymlink != 0:
		return true, fmt.Errorf("%s %w", path, ErrLink)
	case !info.Mode().IsRegular():
		return true, fmt.Errorf("%s is not a file", path)
	}
	return true, nil
}

// OwnFile makes sure that a file which others will write is there, is no link, and is
// for its owner alone.
func OwnFile(path string) error {
	there, err := NoLink(path)
	if err != nil {
		return err
	}
	if !there {
		// Made here, and not through a link that somebody puts there meanwhile.
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		return f.Close()
	}
	if info, err := os.Lstat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return os.Chmod(path, 0o600)
	}
	return nil
}

// OwnDir makes a folder of a job, and refuses one that is a link.
func OwnDir(path string) error {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return os.MkdirAll(path, 0o755)
	case err != nil:
		return err
	case info.Mode()&fs.ModeSymlink != 0:
		return fmt.Errorf("%s %w", path, ErrLink)
	case !info.IsDir():
		return fmt.Errorf("%s is not a folder", path)
	}
	return nil
}

// WriteFile replaces a file as a whole: written beside it, synced, then
// renamed, so that a crash or a full disk leaves the old file or the new one.
func WriteFile(path string, data []byte, mode os.FileMode) (err error) {
	if _, err := NoLink(path); err != nil {
		return fmt.Errorf("write %w", err)
	}
	dir := filepath.Dir(path)
	f, err := os.CreateTemp(dir, "."+filepath.Base(path)+".*")
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
			err = fmt.Errorf("write %s: %w", path, err)
		}
	}()
	if err := f.Chmod(mode); err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	return syncDir(dir)
}

// syncDir makes a rename in the folder durable. Some systems cannot sync a folder.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	_ = d.Sync()
	return nil
}
