// Package job is the job folder: it opens the job sheet and the register, and locks both.
package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"

	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
	"janustat/internal/store/sqlite"
)

// The files of a job folder.
const (
	SheetFile    = "jobsheet.yaml"
	RegisterFile = "register.db"
	KeyringFile  = "keyring.age"
	HandoverDir  = "handover"
	ViewsDir     = "views"
	BackupsDir   = "backups"
)

// ErrNoJob is wrapped when a folder holds no job.
var ErrNoJob = errors.New("no job here")

// errNoRegister is a job folder that has lost its register.
var errNoRegister = fmt.Errorf("%w that can be worked on", ErrNoJob)

// ErrSheetKept is returned by Begin where a job sheet was there without a register: the
// register is made, and the sheet stays as it is.
var ErrSheetKept = errors.New("the job sheet that was there is kept")

// ErrJobThere is wrapped by Begin where there is a job already.
var ErrJobThere = errors.New("there is a job")

// Job is an opened job folder.
type Job struct {
	Dir      string
	Sheet    *sheet.Sheet
	Register store.Store
}

// ignored is for those who keep job folders under version control: all but the
// database, which no such program can compare, and what locks the job.
const ignored = RegisterFile + "*\n" + lockFile + "\n" + holderFile + "\n"

// Begin makes a new job folder with the text of a job sheet and an empty
// register. An existing job is left as it is and is an error.
func Begin(ctx context.Context, dir string, sheet []byte) error {
	if _, err := sheetfile.Parse(sheet); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	path := filepath.Join(dir, SheetFile)
	register := filepath.Join(dir, RegisterFile)
	_, err := os.Lstat(register)
	lost := errors.Is(err, fs.ErrNotExist)
	if _, err := os.Lstat(path); err == nil && !lost {
		return fmt.Errorf("%w in %s already: choose another folder, or go on with `janustat --job %s`", ErrJobThere, dir, dir)
	} else if err == nil {
		// A job without its register: it gets an empty one, and keeps its sheet.
		r, err := sqlite.OpenRegister(ctx, register, author())
		if err != nil {
			return err
		}
		return errors.Join(r.Close(), ErrSheetKept)
	}
	r, err := sqlite.OpenRegister(ctx, register, author())
	if err != nil {
		return err
	}
	if err := r.Close(); err != nil {
		return err
	}
	if err := disk.WriteFile(filepath.Join(dir, ".gitignore"), []byte(ignored), 0o644); err != nil {
		return err
	}
	// The sheet comes last: a folder with a sheet is a whole job.
	return disk.WriteFile(path, sheet, 0o644)
}

// Open opens a job folder.
func Open(ctx context.Context, dir string) (*Job, error) {
	sheet, err := sheetfile.Read(filepath.Join(dir, SheetFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s has no %s: begin one with `janustat begin DIR`, or name its folder with --job", ErrNoJob, dir, SheetFile)
	}
	if err != nil {
		return nil, err
	}
	register := filepath.Join(dir, RegisterFile)
	if _, err := os.Lstat(register); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: %s has a job sheet and no %s. Put the register back where it was, or begin an empty one with `janustat begin %s`, which keeps the sheet", errNoRegister, dir, RegisterFile, dir)
	}
	r, err := sqlite.OpenRegister(ctx, register, author())
	if err != nil {
		return nil, err
	}
	return &Job{Dir: dir, Sheet: sheet, Register: r}, nil
}

// author is on whose account, and on which machine, a job is worked on: what happens to its devices is
// kept with that.
func author() string {
	who, machine := "", ""
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	machine, _ = os.Hostname() // unnamed machines are told by the account alone
	return text.Harmless(who+"@"+machine, text.Long, nil)
}

// Close closes the register.
func (j *Job) Close() error { return j.Register.Close() }

// Path gives the path of a file of the job.
func (j *Job) Path(elem ...string) string {
	return filepath.Join(append([]string{j.Dir}, elem...)...)
}
