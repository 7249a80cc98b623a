package onvif

import (
	"context"
	"errors"
	"strings"

	"janustat/internal/speak/soap"
)

// ErrNoWink means that a device has no auxiliary command by which it can show itself.
var ErrNoWink = errors.New("it has nothing to show itself by")

// winks are auxiliary commands that are seen or heard and that leave the device as it was
// (Core Specification, "auxiliary operation"): a lamp, or a wiper.
var winks = []struct{ name, means string }{
	{"tt:IRLamp", "its infrared lamp, which a phone's camera sees"},
	{"tt:Wiper", "its wiper"},
	{"tt:Washer", "its washer"},
}

// Wink switches a lamp or a wiper on and off, a few times, and says which. pause waits
// in between. A lamp is left in the hands of the device (Auto) where it knows that.
func (c *Client) Wink(ctx context.Context, pause func(context.Context) error) (means string, err error) {
	var a struct {
		Capabilities struct {
			Misc struct {
				Commands string `xml:"AuxiliaryCommands,attr"`
			}
		}
	}
	err = c.call(ctx, "GetServiceCapabilities", "", &a)
	var fault *soap.Fault
	if errors.As(err, &fault) && !errors.Is(err, ErrRefused) {
		return "", ErrNoWink
	}
	if err != nil {
		return "", err
	}
	has := strings.Fields(a.Capabilities.Misc.Commands)
	for _, w := range winks {
		if !containsFold(has, w.name+"|On") || !containsFold(has, w.name+"|Off") {
			continue
		}
		last := w.name + "|Off"
		if containsFold(has, w.name+"|Auto") {
			last = w.name + "|Auto"
		}
		for _, command := range []string{"|On", "|Off", "|On", "|Off", "|On"} {
			if err := c.auxiliary(ctx, w.name+command); err != nil {
				return w.means, errors.Join(err, c.auxiliary(context.WithoutCancel(ctx), last))
			}
			if err := pause(ctx); err != nil {
				return w.means, errors.Join(err, c.auxiliary(context.WithoutCancel(ctx), last))
			}
		}
		return w.means, c.auxiliary(ctx, last)
	}
	return "", ErrNoWink
}

func (c *Client) auxiliary(ctx context.Context, command string) error {
	return c.call(ctx, "SendAuxiliaryCommand", "<tds:AuxiliaryCommand>"+escape(command)+"</tds:AuxiliaryCommand>", nil)
}
