package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"janustat/internal/disk"
)

// readOnly reports whether a register can be read and not be written: on a medium or a share that
// is mounted like that, or as another's.
func readOnly(path string) bool {
	if there, err := disk.NoLink(path); err != nil || !there {
		return false // which is told, or made, where it is opened
	}
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		there, rerr := os.Open(path)
		if rerr != nil {
			return false // it cannot be read either
		}
		there.Close()
		return true
	}
	f.Close()
	return !writableDir(filepath.Dir(path))
}

// openCopy opens a copy of a register that cannot be written, with what its write-ahead log
// holds, so that it is read as it is by now and as this version has it.
func openCopy(ctx context.Context, path, author string) (*Register, error) {
	dir, err := os.MkdirTemp("", "janustat-")
	if err != nil {
		return nil, fmt.Errorf("register %s: %w", path, err)
	}
	r, err := func() (*Register, error) {
		for _, beside := range []string{"", "-wal"} {
			if err := copyFile(filepath.Join(dir, filepath.Base(path)+beside), path+beside); err != nil && (beside == "" || !errors.Is(err, fs.ErrNotExist)) {
				return nil, err
			}
		}
		db, err := openDB(ctx, filepath.Join(dir, filepath.Base(path)), migrations, "migrations")
		if err != nil {
			return nil, err
		}
		r := &Register{db: db, scribe: &scribe{db: db}, author: author, copied: dir}
		if err := r.adopt(ctx); err != nil {
			return nil, errors.Join(err, db.Close())
		}
		return r, nil
	}()
	if err != nil {
		os.RemoveAll(dir)
		return nil, fmt.Errorf("register %s, read as a copy: %w", path, err)
	}
	return r, nil
}

func copyFile(to, from string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
