// Package images reads which firmware is agreed on for a job from its firmware.yaml, and adds to it. Its form
// is specified in docs/firmware.md.
package images

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/goccy/go-yaml"

	"janustat/core/commission"
	"janustat/core/firmware"
	"janustat/internal/disk"
	"janustat/internal/intake"
)

// File is what the list is called in a job's folder, and Dir is where images are beside it.
const (
	File = "firmware.yaml"
	Dir  = "firmware"
)

// Bounds of what is read.
const (
	maxList  = 1 << 20
	MaxImage = 2 << 30 // bytes
)

// ErrList is wrapped where the list cannot be gone by.
var ErrList = errors.New(File)

// ErrNone means that a job has no list.
var ErrNone = fmt.Errorf("the job has no %s: which versions are agreed on is not known", File)

// entry is an image in the list.
type entry struct {
	Make     string   `yaml:"make,omitempty"`
	Model    string   `yaml:"model"`
	Hardware []string `yaml:"hardware,omitempty"`
	From     []string `yaml:"from,omitempty"`
	Version  string   `yaml:"version"`
	File     string   `yaml:"file"`
	SHA256   string   `yaml:"sha256"`
	Notes    string   `yaml:"notes,omitempty"`
}

// Read reads the list of a job's folder. ErrNone where there is none.
func Read(dir string) (firmware.List, error) {
	data, err := intake.Read(filepath.Join(dir, File), maxList)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrList, err)
	}
	return Parse(data)
}

// Parse reads the text of a list. Keys that are not known are refused.
func Parse(data []byte) (firmware.List, error) {
	var all []entry
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.DisallowUnknownField()).Decode(&all); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%w: %w", ErrList, err)
	}
	var out firmware.List
	for i, e := range all {
		if e.File != "" && !filepath.IsLocal(filepath.FromSlash(e.File)) {
			return nil, fmt.Errorf("%w: image %d: its file must be in the job's folder", ErrList, i+1)
		}
		out = append(out, firmware.Image(e))
	}
	if err := out.Check(); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrList, err)
	}
	return out, nil
}

// Add copies an image into a job's folder, and writes it down at the end of the list, with its SHA-256. What is
// there of the list stays as it is.
func Add(dir, from string, x firmware.Image) (firmware.Image, error) {
	path := filepath.Join(dir, File)
	was, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return x, err
	}
	x.File = Dir + "/" + filepath.Base(from)
	to := filepath.Join(dir, filepath.FromSlash(x.File))
	sum, size, err := sumOf(from)
	if err != nil {
		return x, err
	}
	if size == 0 {
		return x, fmt.Errorf("%s is empty", from)
	}
	x.SHA256 = sum
	text, err := yaml.Marshal([]entry{entry(x)})
	if err != nil {
		return x, err
	}
	if len(was) > 0 && was[len(was)-1] != '\n' {
		was = append(was, '\n')
	}
	data := append(was, text...)
	if _, err := Parse(data); err != nil {
		return x, err
	}
	if same, _, err := sumOf(to); err == nil && same != sum {
		return x, fmt.Errorf("%s is there already, and is another file: give this one another name", x.File)
	} else if err != nil {
		if err := disk.OwnDir(filepath.Dir(to)); err != nil {
			return x, err
		}
		if err := copied(from, to); err != nil {
			return x, err
		}
	}
	return x, disk.WriteFile(path, data, 0o644)
}

// copied copies a file whole, or not at all.
func copied(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.CreateTemp(filepath.Dir(to), ".image-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name()) // gone where it was renamed
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	if err := errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("%s: %w", to, err)
	}
	return os.Rename(out.Name(), to)
}

func sumOf(path string) (sum string, size int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return "", 0, errors.Join(err, fmt.Errorf("%s is not a regular file", path))
	}
	h := sha256.New()
	size, err = io.Copy(h, io.LimitReader(f, MaxImage+1))
	if err == nil && size > MaxImage {
		err = fmt.Errorf("%s is larger than %d bytes", path, MaxImage)
	}
	return hex.EncodeToString(h.Sum(nil)), size, err
}

// Open makes an image of the list ready to be sent. It is an error if the file is not what the list says.
func Open(dir string, x *firmware.Image) (commission.Image, error) {
	path := filepath.Join(dir, filepath.FromSlash(x.File))
	sum, size, err := sumOf(path)
	switch {
	case err != nil:
		return commission.Image{}, fmt.Errorf("%w: %w", ErrList, err)
	case sum != x.SHA256:
		return commission.Image{}, fmt.Errorf("%w: %s has changed: its SHA-256 is %s, and not %s. Nothing was sent: put the file back, or correct its entry", ErrList, x.File, sum, x.SHA256)
	}
	return commission.Image{Name: filepath.Base(path), Size: size, Open: func() (io.ReadCloser, error) {
		f, err := os.Open(path)
		if err != nil {
			return nil, &commission.ImageError{Err: err}
		}
		return &checked{f: f, h: sha256.New(), left: size, want: x.SHA256, name: x.File}, nil
	}}, nil
}

// checked is a file that is read, and whose last part is given away only if all of it is what it should be: so
// nobody ever has all of another one.
type checked struct {
	f    *os.File
	h    hash.Hash
	left int64
	want string
	name string
}

// Read implements io.Reader.
func (c *checked) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	n, err := c.f.Read(p[:min(int64(len(p)), c.left)])
	c.h.Write(p[:n])
	c.left -= int64(n)
	changed := &commission.ImageError{Err: fmt.Errorf("%s changed while it was sent", c.name)}
	switch {
	case errors.Is(err, io.EOF) && c.left > 0:
		return 0, changed
	case err != nil && !errors.Is(err, io.EOF):
		return 0, &commission.ImageError{Err: err}
	case c.left == 0 && hex.EncodeToString(c.h.Sum(nil)) != c.want:
		return 0, changed
	}
	return n, nil
}

// Close implements io.Closer.
func (c *checked) Close() error { return c.f.Close() }
