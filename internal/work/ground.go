package work

import (
	"context"
	"net/netip"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/internal/job"
)

// heard is what the last survey met beside devices.
func heard(ctx context.Context, j *job.Job) (h policy.Heard, err error) {
	if h.Offers, err = j.Register.Offers(ctx); err != nil {
		return h, err
	}
	last, err := j.Register.LastSurvey(ctx)
	h.Laptop = last.Laptop
	return h, err
}

// Claims gathers what the job sheet, the register and the last survey say of the site network.
func Claims(ctx context.Context, j *job.Job, devices []device.Device) ([]ground.Claim, error) {
	keyed, err := j.Register.MaybeKeyed(ctx)
	if err != nil {
		return nil, err
	}
	h, err := heard(ctx, j)
	if err != nil {
		return nil, err
	}
	return policy.Claims(j.Sheet, h, keyed, devices), nil
}

// Ground gives the site network: as it was kept, and as the sources have it now where that may
// change (ground.Keep).
func Ground(ctx context.Context, j *job.Job, devices []device.Device) (ground.Ground, error) {
	g, _, err := Regard(ctx, j, devices)
	return g, err
}

// Regard gives the site network, and what the sources say now that differs from it.
func Regard(ctx context.Context, j *job.Job, devices []device.Device) (g ground.Ground, differs []string, err error) {
	kept, err := j.Register.KeptGround(ctx)
	if err != nil {
		return ground.Ground{}, nil, err
	}
	claims, err := Claims(ctx, j, devices)
	if err != nil {
		return ground.Ground{}, nil, err
	}
	return policy.Regard(kept, claims, j.Sheet.Network.Override, devices)
}

// KeepGround resolves the site network and keeps it. anew forgets what it was before. While sources
// disagree, what is kept stays; then the disagreement is the error.
func KeepGround(ctx context.Context, j *job.Job, devices []device.Device, anew bool) (g ground.Ground, differs []string, err error) {
	if anew {
		claims, err := Claims(ctx, j, devices)
		if err != nil {
			return ground.Ground{}, nil, err
		}
		if g, err = ground.Resolve(claims, j.Sheet.Network.Override); err != nil {
			return ground.Ground{}, nil, err
		}
		return g, nil, j.Register.KeepGround(ctx, g)
	}
	if g, differs, err = Regard(ctx, j, devices); err != nil {
		return g, differs, err
	}
	return g, differs, j.Register.KeepGround(ctx, g)
}

// SiteSubnet gives the site's subnet as far as it is known, for judging addresses by.
func SiteSubnet(ctx context.Context, j *job.Job, devices []device.Device) netip.Prefix {
	if g, err := Ground(ctx, j, devices); err == nil {
		return g.Subnet
	}
	if kept, err := j.Register.KeptGround(ctx); err == nil {
		return kept.Subnet
	}
	return netip.Prefix{}
}

// MarkApart marks the devices that somebody has set up outside this job.
func MarkApart(ctx context.Context, j *job.Job, devices []device.Device) error {
	among := j.Sheet.Among(devices)
	here := device.Here{Said: func(d *device.Device) bool { return among.NameFor(d) != "" || among.AddressFor(d).IsValid() }}
	if site := SiteSubnet(ctx, j, devices); site.IsValid() {
		here.Subnets = []netip.Prefix{site}
	} else {
		claims, err := Claims(ctx, j, devices)
		if err != nil {
			return err
		}
		for _, c := range claims {
			here.Subnets = append(here.Subnets, c.Subnet)
		}
	}
	device.SetApart(devices, here)
	return nil
}

// Reserved gives what must not be allotted.
func Reserved(ctx context.Context, j *job.Job, devices []device.Device) ([]ground.Reserved, error) {
	h, err := heard(ctx, j)
	if err != nil {
		return nil, err
	}
	return policy.Reserved(j.Sheet, h, devices), nil
}
