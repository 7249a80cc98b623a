// Package certificate is that a device shows a certificate of the site's own authority over HTTPS, made
// for its address.
package certificate

import (
	"context"
	"net/netip"

	"janustat/core/setting"
)

// Name is that of the setting.
const Name setting.Name = "site certificate"

// None is the value of a device that shows another.
const None = "none"

// For is the value of a device that shows one of the site's for an address.
func For(at netip.Addr) string { return "for " + at.String() }

// Holder is the ability to hold a certificate that others have signed (Security Configuration
// Specification, keystore and TLS server).
type Holder interface {
	// SiteCertificate gives the value; told is false where the device can hold none, or the job has no
	// authority.
	SiteCertificate(ctx context.Context) (value string, told bool, err error)
	// Certify has the device make a key, signs its certification request for its address, and has it show
	// that.
	Certify(ctx context.Context) error
}

// Setting is that.
var Setting = setting.Setting{
	Name: Name, Title: "site certificate", Told: "site certificate installed, %s", Head: "site cert.",
	Holds: "it shows a certificate of the site's authority, for its address and with 90 days left",
	Key:   "certificates", Form: "`site`",
	Meaning: "an authority is made for the site, and every device that can hold a certificate of it gets one, so that browsers that trust the authority open its page without a warning", Otherwise: "each keeps its own",
	Check: setting.OneOf("site"),
	Wanted: func(_ string, d setting.Device) (string, error) {
		if !d.Address.IsValid() {
			return "", nil
		}
		return For(d.Address.Addr()), nil
	},
	Optional: true, OneWay: true, Opens: true, Last: true,
	Read: func(ctx context.Context, conversation any) (string, bool, error) {
		h, ok := conversation.(Holder)
		if !ok {
			return "", false, nil
		}
		return h.SiteCertificate(ctx)
	},
	Set: func(ctx context.Context, conversation any, _ string) error {
		h, err := setting.Able[Holder](conversation, "certificate")
		if err != nil {
			return err
		}
		return h.Certify(ctx)
	},
}
