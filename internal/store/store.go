package store

import (
	"context"
	"net/netip"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/core/policy"
	"janustat/core/secret"
)

// Store is what a job is kept in, by what is asked of it. Intents and decisions are on the disk
// before their writing returns; results and readings are with the system by then.
type Store interface {
	Devices
	Journal
	Proofs
	Notebook
	Surveys
	Wire
	Undo
	Budget
	// Copied reports whether a copy is read, since the store itself can only be read.
	Copied() bool
	Close() error
}

// Devices are all that are known.
type Devices interface {
	// Devices reads them, in the order of device.Sort.
	Devices(ctx context.Context) ([]device.Device, error)
	// Called reads them by what they are called alone, in the same order: ID, tag, choice, MAC, kind,
	// serial and name. It is quick where there are thousands.
	Called(ctx context.Context) ([]device.Device, error)
	// Record writes what is new in devices since they were read, all or none, each as one event: what
	// others have changed meanwhile stays. Those with ID 0 are new, and get theirs; cause is the work
	// that it comes of.
	Record(ctx context.Context, cause string, devices []device.Device) error
	// Happened carries events into what is known of one device; ErrGone where it is no more.
	Happened(ctx context.Context, cause string, id int64, events ...device.Event) error
	// Change changes what is known of one device as it is now.
	Change(ctx context.Context, cause string, id int64, change func(*device.Device)) error
	// Events gives what has happened to one device, in the order of its versions: Fold makes of them
	// what is kept of it.
	Events(ctx context.Context, id int64) ([]Event, error)
	// Replace has a device be another unit: what is kept of that by its MAC goes over to it.
	Replace(ctx context.Context, d device.Device, unit device.MAC) error
	// Retag writes devices whose tags change among each other.
	Retag(ctx context.Context, devices []device.Device) error
	// Forget removes devices, and what belongs to them.
	Forget(ctx context.Context, ids []int64) error
}

// Journal is what was written to devices.
type Journal interface {
	commission.Journal
	// History reads one device's steps, oldest first.
	History(ctx context.Context, id int64) ([]Entry, error)
	// Progress tells how far every device is; MaybeKeyed which may have a password of this job.
	Progress(ctx context.Context) (map[int64]policy.Progress, error)
	MaybeKeyed(ctx context.Context) (map[int64]bool, error)
	// WrittenSince tells which devices were written to since a moment.
	WrittenSince(ctx context.Context, at time.Time) (map[int64]bool, error)
	// Usual is how long a device of this job takes; zero where that is not known.
	Usual(ctx context.Context) (time.Duration, error)
}

// Proofs are the provings of devices.
type Proofs interface {
	AddProofs(ctx context.Context, proofs map[int64]Proof, change func(*device.Device)) error
	// LastProofs gives the last of each device that has one.
	LastProofs(ctx context.Context) (map[int64]Proof, error)
	// Proofs gives those of one device, oldest first.
	Proofs(ctx context.Context, id int64) ([]Proof, error)
}

// Notebook is what a person notes of devices.
type Notebook interface {
	Notes(ctx context.Context) (map[int64]Notes, error)
	// SetNotes sets fields of devices; an empty one is removed.
	SetNotes(ctx context.Context, notes map[int64]Notes) error
}

// Surveys are what surveys saw beside devices, and the leases that were given.
type Surveys interface {
	AddSurvey(ctx context.Context, s SurveyRecord) error
	LastSurvey(ctx context.Context) (SurveyRecord, error)
	SurveySpan(ctx context.Context) (first, last time.Time, err error)
	Offers(ctx context.Context) ([]lan.Offer, error)
	AddLease(ctx context.Context, l lan.Lease) error
	Leases(ctx context.Context) ([]lan.Lease, error)
}

// Wire is what is kept of the site network, and of what it bears.
type Wire interface {
	KeepGround(ctx context.Context, g ground.Ground) error
	KeptGround(ctx context.Context) (ground.Kept, error)
	KeepVisitors(ctx context.Context, taken map[netip.Prefix]netip.Addr) error
	Visitors(ctx context.Context) (map[netip.Prefix]netip.Addr, error)
	KeepBroadcasts(ctx context.Context, wire string, rate float64) error
	Broadcasts(ctx context.Context, wire string) (rate float64, err error)
}

// Undo takes the last change back that a person made and that touched no device.
type Undo interface {
	// Before gives what is there now of some devices, and KeepBefore keeps it as what the last
	// change can be taken back to.
	Before(ctx context.Context, what string, ids []int64) (Before, error)
	KeepBefore(ctx context.Context, b Before) error
	// LastChange gives it; ErrNothingToUndo without one.
	LastChange(ctx context.Context) (Before, error)
	TakeBack(ctx context.Context, b Before) error
}

// Budget is that of password tries.
type Budget interface {
	// Attempts keeps the budget by MAC, here and in this machine's own record, which is in a folder.
	// wire is the simulated site that the MACs are on, "" for the world's. done is called in the end.
	Attempts(ctx context.Context, folder, wire string, b secret.Budget) (at Attempts, done func(), err error)
	Tries(ctx context.Context, mac device.MAC) ([]Try, error)
	LockedUntil(ctx context.Context, now time.Time) (map[device.MAC]time.Time, error)
}

// Attempts keeps the budget of password tries.
type Attempts interface {
	commission.Attempts
	// Unlock forgets that a device said that it was locked.
	Unlock(ctx context.Context, p commission.Plan) (had bool, err error)
}
