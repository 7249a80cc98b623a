package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
)

// Decide carries out a change that touches no device, so that it can be taken back. what
// says in words what it is; ids are the devices that it is about.
func (d *Desk) Decide(ctx context.Context, what string, ids []int64, change func() error) error {
	before, err := d.Job.Register.Before(ctx, what, ids)
	if err != nil {
		return err
	}
	path := d.Job.Path(job.SheetFile)
	was, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("%w: %w", sheet.ErrSheet, err)
	}
	// Kept before the change: cut short in the middle, it can be taken back all the same, and
	// an older one is never taken for it.
	last, lerr := d.Job.Register.LastChange(ctx)
	before.Sheet, before.SheetAfter = was, hashOf(was)
	if err := d.Job.Register.KeepBefore(ctx, before); err != nil {
		return err
	}
	cerr := change()
	after, err := os.ReadFile(path)
	if err != nil {
		return errors.Join(cerr, fmt.Errorf("%w: %w", sheet.ErrSheet, err))
	}
	if cerr != nil && lerr == nil && string(after) == string(was) {
		return errors.Join(cerr, d.Job.Register.KeepBefore(ctx, last)) // nothing was changed
	}
	before.Sheet, before.SheetAfter = nil, ""
	if string(after) != string(was) {
		before.Sheet, before.SheetAfter = was, hashOf(after)
		if d.Job.Sheet, err = sheetfile.Read(path); err != nil {
			return errors.Join(cerr, err)
		}
	}
	return errors.Join(cerr, d.Job.Register.KeepBefore(ctx, before))
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Undo takes back the last change that touched no device. agree is asked first.
func (d *Desk) Undo(ctx context.Context, agree func(store.Before) error) error {
	b, err := d.Job.Register.LastChange(ctx)
	if err != nil {
		return &Misuse{err}
	}
	written, err := d.Job.Register.WrittenSince(ctx, b.At)
	if err != nil {
		return err
	}
	var since []string
	for i := range b.Devices {
		if written[b.Devices[i].ID] {
			since = append(since, labelNow(d.Devices, &b.Devices[i]))
		}
	}
	if len(since) > 0 {
		return misuse("the last change was the %s, and something was sent to %s since then: nothing is taken back", b.What, text.List(since))
	}
	path := d.Job.Path(job.SheetFile)
	if b.Sheet != nil {
		now, err := os.ReadFile(path)
		if err != nil {
			return fmt.Errorf("%w: %w", sheet.ErrSheet, err)
		}
		if hashOf(now) != b.SheetAfter {
			return misuse("the last change was the %s, and %s was edited since then: nothing is taken back", b.What, job.SheetFile)
		}
	}
	if err := agree(b); err != nil {
		return err
	}
	if b.Sheet != nil {
		if err := disk.WriteFile(path, b.Sheet, 0o644); err != nil {
			return err
		}
	}
	return d.Job.Register.TakeBack(ctx, b)
}

func labelNow(devices []device.Device, was *device.Device) string {
	for i := range devices {
		if devices[i].ID == was.ID {
			return devices[i].Label()
		}
	}
	return was.Label()
}

// Name gives a device its name in the job sheet.
func (d *Desk) Name(ctx context.Context, x *device.Device, name string) error {
	return d.Decide(ctx, "name of "+x.Label(), []int64{x.ID}, func() error {
		path := d.Job.Path(job.SheetFile)
		if ref := d.Job.Sheet.Among(d.Devices).NamedBy(x); ref != "" {
			return sheetfile.Rename(path, ref, name)
		}
		return sheetfile.AddNames(path, map[string]string{x.MAC.String(): name})
	})
}

// Move is what another tag changes for a device, in words.
type Move struct {
	Device   device.Device // as it was
	Tag      string        // that it gets
	Name     string        // that it is called then
	NameWas  string
	Address  string // allotted then, "" where that stays
	Channels []string
}

// Swap gives two devices each other's tags. Before they are set up they change their
// allotted addresses too; after that each stays where it is. agree is shown what moves.
func (d *Desk) Swap(ctx context.Context, one, other string, agree func([]Move) error) error {
	a, b, err := d.tagged(one, other)
	if err != nil {
		return err
	}
	return d.retag(ctx, fmt.Sprintf("swap of %s and %s", a.Tag, b.Tag), map[int64]string{a.ID: b.Tag, b.ID: a.Tag}, "", agree)
}

func (d *Desk) tagged(refs ...string) (a, b *device.Device, err error) {
	var out []*device.Device
	for _, ref := range refs {
		x, err := device.Find(d.Devices, ref)
		if err != nil {
			return nil, nil, err
		}
		if x.Tag == "" {
			return nil, nil, &Misuse{advice.Wrap(fmt.Errorf("%s has no tag yet", x.Label()), "%s gives it one", advice.Take.On(ref))}
		}
		out = append(out, x)
	}
	a, b = out[0], out[len(out)-1]
	switch {
	case len(refs) > 1 && a.ID == b.ID:
		return nil, nil, misuse("%s and %s are one device", refs[0], refs[1])
	case a.TagLetter() != b.TagLetter():
		return nil, nil, misuse("%s and %s are not of one kind, which the letter of a tag stands for", a.Tag, b.Tag)
	}
	return a, b, nil
}

// Retag gives a device another tag that nobody has. What the job sheet says of the old one
// it says of the new one then.
func (d *Desk) Retag(ctx context.Context, ref, tag string, agree func([]Move) error) error {
	x, _, err := d.tagged(ref)
	if err != nil {
		return err
	}
	tag = strings.ToUpper(tag)
	if !sheet.IsTag(tag) || tag[:1] != x.TagLetter() {
		return misuse("%q cannot be its tag: take %s and two to four digits, as %s07", tag, x.TagLetter(), x.TagLetter())
	}
	if at := slices.IndexFunc(d.Devices, func(o device.Device) bool { return strings.EqualFold(o.Tag, tag) }); at >= 0 {
		if d.Devices[at].ID == x.ID {
			return misuse("%s has that tag already", tag)
		}
		return &Misuse{advice.Wrap(fmt.Errorf("%s is another device", tag), "%s changes the two", advice.Step{Act: advice.Swap, On: x.Tag + " " + tag})}
	}
	return d.retag(ctx, fmt.Sprintf("new tag of %s, %s", x.Tag, tag), map[int64]string{x.ID: tag}, x.Tag, agree)
}

// retag gives tags by ID. moved, if not "", is the old one of a device whose references in
// the job sheet go with it.
func (d *Desk) retag(ctx context.Context, what string, tags map[int64]string, moved string, agree func([]Move) error) error {
	at := time.Now()
	renamed := map[string]string{}
	before := slices.Clone(d.Devices)
	among := d.Job.Sheet.Among(before)
	after := slices.Clone(d.Devices)
	for i := range after {
		if to, ok := tags[after[i].ID]; ok {
			renamed[after[i].Tag] = to
			after[i].Apply(device.Tagged{At: at, Tag: to})
		}
	}
	swapAllotments(after, tags, before, at)
	then := d.Job.Sheet.Among(after)
	var moves []Move
	for i := range before {
		if to, ok := tags[before[i].ID]; ok {
			m := Move{Device: before[i], Tag: to, NameWas: among.NameFor(&before[i]), Name: then.NameFor(&after[i])}
			if moved != "" {
				m.Name = m.NameWas
			}
			if is := after[i].Allotted; is != nil && is != before[i].Allotted {
				m.Address = is.Address.String()
			}
			moves = append(moves, m)
		}
	}
	if err := agree(moves); err != nil {
		return err
	}
	var ids []int64
	for i := range after {
		after[i].Apply(device.Renamed{At: at, Tags: renamed})
		if _, ok := tags[after[i].ID]; ok || !slices.Equal(after[i].Links, before[i].Links) {
			ids = append(ids, after[i].ID)
		}
	}
	return d.Decide(ctx, what, ids, func() error {
		if moved != "" {
			if _, err := sheetfile.Retag(d.Job.Path(job.SheetFile), moved, renamed[moved]); err != nil {
				return err
			}
		}
		if err := d.Job.Register.Retag(ctx, slices.DeleteFunc(slices.Clone(after), func(x device.Device) bool { return !slices.Contains(ids, x.ID) })); err != nil {
			return err
		}
		d.Devices = after
		return nil
	})
}

// swapAllotments has the addresses of two devices go with their tags, where neither is set
// up yet.
func swapAllotments(after []device.Device, tags map[int64]string, before []device.Device, at time.Time) {
	for i := range before {
		for j := range before {
			a, b := &before[i], &before[j]
			if tags[a.ID] != b.Tag || tags[b.ID] != a.Tag || a.ID == b.ID || a.Commissioned() || b.Commissioned() || a.Allotted == nil || b.Allotted == nil {
				continue
			}
			after[i].Apply(device.Allotment{At: at, Settings: *b.Allotted, Why: b.Why})
		}
	}
}

// Forget takes devices out of the register that are gone for good.
func (d *Desk) Forget(ctx context.Context, list []device.Device) error {
	var ids []int64
	var labels []string
	for i := range list {
		ids, labels = append(ids, list[i].ID), append(labels, list[i].Label())
	}
	return d.Decide(ctx, "forgetting of "+text.List(labels), ids, func() error { return d.Job.Register.Forget(ctx, ids) })
}
