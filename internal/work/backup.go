package work

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/intake"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
)

// backupsAtOnce is how many devices are asked for their backups at the same time.
const backupsAtOnce = 8

// BackedUp is what became of one device's backup.
type BackedUp struct {
	Device *device.Device
	Kept   *device.Backup // nil where there is none
	None   bool           // it gives none
	Why    string         // there is none
}

// contents says what is in a backup, as JSON beside its files.
type contents struct {
	Site   string       `json:"site"`
	Tag    string       `json:"tag"`
	MAC    device.MAC   `json:"mac"`
	Make   string       `json:"make,omitempty"`
	Model  string       `json:"model,omitempty"`
	Serial string       `json:"serial,omitempty"`
	At     time.Time    `json:"at"`
	Files  []backupFile `json:"files"`
}

type backupFile struct {
	Name   string `json:"name"`
	Said   string `json:"said,omitempty"` // what the device calls it, where that is no name for a file
	Bytes  int    `json:"bytes"`
	SHA256 string `json:"sha256"`
}

// contentsFile is what that is called there.
const contentsFile = "backup.json"

// Backup fetches the own backups of devices of the job, and keeps each encrypted in the job's folder: one
// may hold passwords. They open by a key on the keyring, and by the recovery keys of the job sheet.
func (d *Desk) Backup(ctx context.Context, n *reach.Net, keys *keyring.Keyring, only Selection) ([]BackedUp, error) {
	to, err := backupKeys(keys)
	if err != nil {
		return nil, err
	}
	planner, err := d.Planner(ctx, keys)
	if err != nil {
		return nil, err
	}
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return nil, err
	}
	defer done()
	var out []BackedUp
	for i := range d.Devices {
		if x := &d.Devices[i]; x.InJob == device.Taken && only.Has(x.ID) {
			out = append(out, BackedUp{Device: x})
		}
	}
	places := make(chan struct{}, backupsAtOnce)
	var all sync.WaitGroup
	for i := range out {
		b := &out[i]
		plan := planner.KeyPlan(b.Device)
		switch {
		case b.Device.Alarm != "":
			b.Why = "its identity changed since it was set up"
			continue
		case plan.Stop != nil || plan.Password.IsZero():
			b.Why = "it is not commissioned"
			continue
		}
		all.Go(func() {
			select {
			case places <- struct{}{}:
			case <-ctx.Done():
				return
			}
			defer func() { <-places }()
			d.Say("  %s: fetching its backup …", plan.Tag)
			files, err := prover.Backup(ctx, plan)
			if err == nil {
				b.Kept, err = d.keepBackup(ctx, b.Device, files, to)
			}
			b.None = errors.Is(err, commission.ErrNoBackup)
			if err != nil {
				b.Why = text.Harmless(err.Error(), text.Long, d.Veil.Text)
			}
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return nil, ErrInterrupted
	}
	return out, nil
}

// backupKeys are whom backups are encrypted to. The first backup makes the job's own key, which is on the
// disk before anything is encrypted to it.
func backupKeys(keys *keyring.Keyring) ([]age.Recipient, error) {
	if keys.Backups() == "" {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		keys.SetBackups(id.String())
		if err := keys.Save(); err != nil {
			return nil, err
		}
	}
	own, err := age.ParseX25519Identity(keys.Backups())
	if err != nil {
		return nil, errors.New("the keyring's key for backups cannot be read")
	}
	to := []age.Recipient{own.Recipient()}
	for _, r := range keys.Recovery() {
		other, err := age.ParseX25519Recipient(r)
		if err != nil {
			return nil, err
		}
		to = append(to, other)
	}
	return to, nil
}

// keepBackup writes one backup, and takes down that it is kept.
func (d *Desk) keepBackup(ctx context.Context, x *device.Device, files []commission.File, to []age.Recipient) (*device.Backup, error) {
	at := time.Now().UTC().Truncate(time.Second)
	packed, err := pack(contents{Site: d.Job.Sheet.Name, Tag: x.Tag, MAC: x.MAC, Make: x.Make, Model: x.Model, Serial: x.Serial, At: at}, files)
	if err != nil {
		return nil, err
	}
	sealed, err := keyring.Seal(packed, to...)
	if err != nil {
		return nil, err
	}
	folder := x.Tag + "-" + x.MAC.Hex()
	if err := disk.OwnDir(d.Job.Path(job.BackupsDir)); err != nil {
		return nil, err
	}
	if err := disk.OwnDir(d.Job.Path(job.BackupsDir, folder)); err != nil {
		return nil, err
	}
	name := path.Join(job.BackupsDir, folder, at.Format("20060102T150405Z")+".tar.age")
	if err := disk.WriteFile(filepath.Join(d.Job.Dir, filepath.FromSlash(name)), sealed, 0o600); err != nil {
		return nil, err
	}
	sum := sha256.Sum256(sealed)
	kept := device.Backup{At: at, File: name, SHA256: hex.EncodeToString(sum[:]), Bytes: len(sealed)}
	return &kept, d.Job.Register.Happened(ctx, "backup", x.ID, device.BackedUp{Backup: kept})
}

// pack puts the files of a backup into one, as tar (POSIX.1-2001), with what they are.
func pack(c contents, files []commission.File) ([]byte, error) {
	taken := map[string]bool{contentsFile: true}
	for i, f := range files {
		sum := sha256.Sum256(f.Data)
		b := backupFile{Name: fileName(f.Name, i), Bytes: len(f.Data), SHA256: hex.EncodeToString(sum[:])}
		for taken[b.Name] {
			b.Name = fmt.Sprintf("%d-%s", i+1, b.Name)
		}
		if taken[b.Name] = true; b.Name != f.Name {
			b.Said = f.Name
		}
		c.Files = append(c.Files, b)
	}
	head, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	t := tar.NewWriter(&out)
	add := func(name string, data []byte) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: c.At, Format: tar.FormatPAX}); err != nil {
			return err
		}
		_, err := t.Write(data)
		return err
	}
	if err := add(contentsFile, head); err != nil {
		return nil, err
	}
	for i, f := range files {
		if err := add(c.Files[i].Name, f.Data); err != nil {
			return nil, err
		}
	}
	err = t.Close()
	return out.Bytes(), err
}

// fileName makes a name for a file of what a device calls it: a device must not say where it goes.
func fileName(said string, n int) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '.', r == '-', r == '_':
			return r
		}
		return '_'
	}, path.Base(strings.ReplaceAll(said, "\\", "/")))
	if name = strings.TrimLeft(name, "."); name == "" || len(name) > 100 {
		return fmt.Sprintf("file-%d", n+1)
	}
	return name
}

// maxBackup bounds a backup file, in bytes.
const maxBackup = 256 << 20

// OpenBackup gives what is in a backup that was kept, as tar.
func OpenBackup(file string, keys *keyring.Keyring) ([]byte, error) {
	data, err := intake.Read(file, maxBackup)
	if err != nil {
		return nil, &Misuse{err}
	}
	if keys.Backups() == "" {
		return nil, &Misuse{errors.New("the keyring has no key for backups: none was made in this job")}
	}
	own, err := age.ParseX25519Identity(keys.Backups())
	if err != nil {
		return nil, errors.New("the keyring's key for backups cannot be read")
	}
	plain, err := age.Decrypt(bytes.NewReader(data), own)
	if err != nil {
		return nil, &Misuse{fmt.Errorf("%s is not opened by this job's keyring: %w", file, err)}
	}
	out, err := io.ReadAll(io.LimitReader(plain, maxBackup))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return out, nil
}
