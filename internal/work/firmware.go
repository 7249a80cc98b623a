package work

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/firmware"
	"janustat/internal/images"
	"janustat/internal/reach"
	"janustat/internal/store"
)

// Firmware is how a device stands to what is agreed on, and what became of that.
type Firmware struct {
	Device   *device.Device
	Standing firmware.Standing
	Was      string         // the version that it was found with, where it was sent firmware
	Outcome  FirmwareResult // "" where nothing was done
	Why      string
	Next     string
	Notes    []string
	astray   bool // it is not where it was, or not as it was
}

// FirmwareResult is what became of the firmware of a device.
type FirmwareResult string

// The outcomes.
const (
	Flashed         FirmwareResult = "done"
	FlashedRestored FirmwareResult = "done, settings restored"
	FlashedBadly    FirmwareResult = "needs you"
	FlashNotBegun   FirmwareResult = "not begun"
)

// Firmware tells how the devices that are meant stand to what is agreed on. ErrNone of package images goes
// along with the list where nothing is.
func (d *Desk) Firmware(only Selection) ([]Firmware, error) {
	list, err := images.Read(d.Job.Dir)
	if err != nil && !errors.Is(err, images.ErrNone) {
		return nil, &Misuse{err}
	}
	var out []Firmware
	for _, x := range device.OfJob(d.Devices) {
		if !only.Has(x.ID) {
			continue
		}
		f := Firmware{Device: &x} // as it is now
		f.Standing = standing(list, f.Device)
		out = append(out, f)
	}
	return out, err
}

func standing(list firmware.List, x *device.Device) firmware.Standing {
	return list.Of(firmware.Unit{Make: x.Make, Model: x.Model, Hardware: x.Hardware, Version: x.Firmware})
}

// flashWidth is how many devices take firmware at the same time.
const flashWidth = 8

// flasher brings devices to their versions. Devices are sent firmware side by side; what is known of them is read
// and changed in between only.
type flasher struct {
	d       *Desk
	n       *reach.Net
	planner *Planner
	worker  commission.Worker
	to      []age.Recipient
	tell    View
	open    map[*firmware.Image]commission.Image
	done    func(commission.Result)
	before  map[int64]map[string]bool // checks that did not hold before
}

// Flash brings devices that are due to the versions that are agreed on: of each model one first, which has to
// prove right, then the others side by side; recorders last, one after another. A device that loses its
// settings by it is set up again.
func (d *Desk) Flash(ctx context.Context, n *reach.Net, planner *Planner, list []*Firmware, tell View) error {
	f := &flasher{d: d, n: n, planner: planner, tell: tell, open: map[*firmware.Image]commission.Image{}, before: map[int64]map[string]bool{}}
	for _, x := range list {
		for _, img := range x.Standing.Path {
			if _, had := f.open[img]; had {
				continue
			}
			ready, err := images.Open(d.Job.Dir, img)
			if err != nil {
				return &Misuse{err}
			}
			f.open[img] = ready
		}
	}
	var err error
	if f.to, err = backupKeys(planner.Keyring); err != nil {
		return err
	}
	prover, end, err := d.Prover(ctx, n)
	if err != nil {
		return err
	}
	defer end()
	prover.Place = commission.NewPlaces(flashWidth)
	f.worker = d.worker(prover, tell.Step, planner.Keyring)
	if err := f.judge(ctx, list, f.remember); err != nil {
		return err
	}
	_, err = d.watchOver(ctx, planner.Keyring, tell, func(done func(commission.Result)) []commission.Result {
		var all []commission.Result
		var mu sync.Mutex
		f.done = func(r commission.Result) {
			mu.Lock()
			all = append(all, r)
			mu.Unlock()
			done(r)
		}
		f.roll(ctx, list)
		return all
	})
	for _, x := range list {
		now := *device.ByID(d.Devices, x.Device.ID)
		x.Device = &now
	}
	if ctx.Err() != nil {
		return errors.Join(ErrInterrupted, err)
	}
	return err
}

// roll goes over all of them in order. One whose model has one that is not right with it is left alone.
func (f *flasher) roll(ctx context.Context, list []*Firmware) {
	failed := map[string]string{} // by model, who
	phase := func(some []*Firmware) {
		some = slices.DeleteFunc(some, func(x *Firmware) bool {
			who := failed[modelOf(x)]
			if who != "" {
				x.Outcome, x.Why = FlashNotBegun, who+", of the same model, is not right with it"
			}
			return who != ""
		})
		f.phase(ctx, some)
		for _, x := range some {
			if !x.right() && failed[modelOf(x)] == "" {
				failed[modelOf(x)] = x.Device.Tag
			}
		}
	}
	var first, rest, recorders []*Firmware
	met := map[string]bool{}
	for _, x := range list {
		switch model := modelOf(x); {
		case x.Device.Kind == device.Recorder:
			recorders = append(recorders, x)
		case met[model]:
			rest = append(rest, x)
		default:
			met[model] = true
			first = append(first, x)
		}
	}
	phase(first)
	phase(rest)
	for _, x := range recorders {
		phase([]*Firmware{x})
	}
}

func modelOf(x *Firmware) string {
	return strings.Join([]string{x.Device.Make, x.Device.Model, x.Device.Hardware}, "\x00")
}

// right reports whether a device has its version, and is as it was.
func (x *Firmware) right() bool { return x.Outcome == Flashed || x.Outcome == FlashedRestored }

func (x *Firmware) fails(why, next string) { x.Outcome, x.Why, x.Next = FlashedBadly, why, next }

// phase brings some devices to their versions side by side, sets up again those that have lost their settings
// or their addresses, and proves all.
func (f *flasher) phase(ctx context.Context, list []*Firmware) {
	if len(list) == 0 {
		return
	}
	plans := make([]commission.Plan, len(list))
	for i, x := range list {
		plans[i] = f.planner.KeyPlan(device.ByID(f.d.Devices, x.Device.ID))
	}
	var all sync.WaitGroup
	for i, x := range list {
		all.Go(func() { f.bring(ctx, x, plans[i]) })
	}
	all.Wait()
	if err := f.reload(ctx); err != nil {
		for _, x := range list {
			x.fails("what is known of it cannot be read: "+err.Error(), "")
		}
		return
	}
	var astray []*Firmware
	for _, x := range list {
		if x.astray && ctx.Err() == nil {
			astray = append(astray, x)
		}
	}
	for _, x := range f.restore(ctx, astray) {
		f.bring(ctx, x, f.planner.KeyPlan(device.ByID(f.d.Devices, x.Device.ID)))
		if x.right() {
			x.Outcome = FlashedRestored
		}
	}
	f.settle(ctx, list)
}

// bring sends a device the images of its way, one after another. One that is astray afterwards is not where it
// was, or not as it was.
func (f *flasher) bring(ctx context.Context, x *Firmware, plan commission.Plan) {
	x.astray = false
	for _, img := range x.Standing.Path {
		if ctx.Err() != nil {
			if x.Outcome, x.Why = FlashNotBegun, "interrupted"; x.Was != "" {
				x.Outcome = FlashedBadly
			}
			return
		}
		r := f.worker.Upgrade(ctx, plan, commission.Upgrade{
			Image: f.open[img], SHA256: img.SHA256, Version: img.Version, Follows: img.Follows, Pace: f.n.Pace.Of, Places: formerly(x.Device), Earlier: f.sentLately(ctx, x.Device.ID),
			Keep: func(files []commission.File) error {
				_, err := f.d.keepBackup(ctx, x.Device, files, f.to)
				return err
			},
			Passed: func(version string) bool { return passed(x.Standing.Path, img, version) },
		})
		f.done(r)
		x.Notes = append(x.Notes, r.Notes...)
		if r.Flashed != nil && x.Was == "" {
			x.Was = r.Flashed.From
		}
		if r.Status != commission.Done {
			x.astray = r.Flashed != nil && (r.Flashed.State == commission.FlashFresh || r.Flashed.State == commission.FlashAway)
			if x.fails(r.Reason, r.Next.Text(f.d.Words)); ctx.Err() != nil {
				x.Next = advice.Say("run %s: it goes on from here", advice.Firmware.On(x.Device.Tag)).Text(f.d.Words)
			}
			return
		}
	}
	x.Outcome, x.Why, x.Next = Flashed, "", ""
}

// formerly gives the addresses that a device had before it was set up.
func formerly(x *device.Device) []netip.Addr {
	if x.AsFound == nil || !x.AsFound.Address.Is4() {
		return nil
	}
	return []netip.Addr{x.AsFound.Address}
}

// passed reports whether a version is one that comes after an image on the way.
func passed(path []*firmware.Image, img *firmware.Image, version string) bool {
	at := slices.Index(path, img)
	return slices.ContainsFunc(path[at+1:], func(x *firmware.Image) bool { return x.Version == version })
}

// sentLately reports whether a device was sent firmware a moment ago: it may be away over that.
func (f *flasher) sentLately(ctx context.Context, id int64) bool {
	history, err := f.d.Job.Register.History(ctx, id)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(history, func(e store.Entry) bool {
		return e.Step == string(commission.StepFlash) && e.Outcome != string(commission.OutcomeRefused) && time.Since(e.Begun) < 2*commission.Flashing
	})
}

// reload takes over what is known of devices by now.
func (f *flasher) reload(ctx context.Context) error {
	devices, err := f.d.Job.Register.Devices(context.WithoutCancel(ctx))
	if err == nil {
		f.d.Devices, f.planner.All = devices, devices
	}
	return err
}
