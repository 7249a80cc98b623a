package device

import "time"

// Backup is a device's own backup of its settings, as it was kept.
type Backup struct {
	At     time.Time `json:"at"`
	File   string    `json:"file"`   // in the job's folder
	SHA256 string    `json:"sha256"` // of the file, hexadecimal
	Bytes  int       `json:"bytes"`  // of the file
}

// BackedUp is that its own backup was kept.
type BackedUp struct{ Backup Backup }

func (e BackedUp) apply(d *Device) {
	kept := e.Backup
	d.Backup = &kept
	d.touched(kept.At)
}
