package work

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/settings/certificate"
	"janustat/internal/authority"
	"janustat/internal/disk"
	"janustat/internal/job"
)

// RootFile is the certificate of the site's authority in the job's folder, as PEM: for whoever is to
// trust it. Its private key is on the keyring.
const RootFile = "authority.pem"

// ownAuthority reads the site's authority from the keyring; nil where there is none.
func ownAuthority(p *Planner) (*authority.Authority, error) {
	plain := p.Keyring.Authority()
	if plain == "" {
		return nil, nil
	}
	return authority.Read([]byte(plain))
}

// Root reads the site's authority as the job's folder has it; nil where there is none.
func (d *Desk) Root() (*authority.Root, error) { return rootOf(d.Job) }

func rootOf(j *job.Job) (*authority.Root, error) {
	path := filepath.Join(j.Dir, RootFile)
	plain, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	root, err := authority.ReadRoot(plain)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return root, nil
}

// RootPEM gives the certificate of a job's authority for whoever is to trust it; nil where there is none.
func RootPEM(j *job.Job) ([]byte, error) {
	root, err := rootOf(j)
	if root == nil || err != nil {
		return nil, err
	}
	return root.PEM(), nil
}

// mayCertify makes sure of an authority that may speak for every device that is to have a certificate of
// it. One whose subnets are others by now is replaced: what it has signed is then due anew.
func (d *Desk) mayCertify(p *Planner, plans []commission.Plan) error {
	a, err := ownAuthority(p)
	if err != nil {
		return err
	}
	d.signs = a
	var subnets []netip.Prefix
	covered := true
	for i := range plans {
		if at := plans[i].Target; plans[i].Wants[certificate.Name] != "" && plans[i].Stop == nil {
			if s := netip.PrefixFrom(at.Address, at.Prefix).Masked(); !slices.Contains(subnets, s) {
				subnets = append(subnets, s)
			}
			covered = covered && a != nil && a.Covers(at.Address)
		}
	}
	if len(subnets) == 0 || covered {
		return nil
	}
	if a != nil { // it goes on speaking for what it spoke for
		for _, s := range a.Subnets() {
			if !slices.Contains(subnets, s) {
				subnets = append(subnets, s)
			}
		}
	}
	if a, err = authority.New(d.Job.Sheet.Name, subnets, time.Now()); err != nil {
		return err
	}
	plain, err := a.Plain()
	if err != nil {
		return err
	}
	p.Keyring.SetAuthority(string(plain))
	if err := p.Keyring.Save(); err != nil {
		return fmt.Errorf("the site's authority could not be saved, so nothing was sent: %w", err)
	}
	if err := disk.WriteFile(filepath.Join(d.Job.Dir, RootFile), a.PEM(), 0o644); err != nil {
		return err
	}
	d.signs = a
	d.Say("note: an authority was made for the site's certificates: %s is for those who are to trust it", RootFile)
	return nil
}
