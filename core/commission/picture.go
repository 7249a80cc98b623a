package commission

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"janustat/core/device"
)

// Picture is one picture source of a device, and what it shows.
type Picture struct {
	Name  string // of the source
	Text  string // on the screen, of what the picture is of; "" for none
	Named bool   // the source can be named
	Shows bool   // text can be shown
}

// PictureName is what one of several picture sources of a device is called.
func PictureName(name string, i, of int) string {
	if of == 1 {
		return name
	}
	return fmt.Sprintf("%s %d", name, i+1)
}

// captioned reports whether the pictures of a device show what they are planned to.
func (p Plan) captioned(f Found) bool {
	for i, x := range f.Pictures {
		want := PictureName(p.Target.Name, i, len(f.Pictures))
		if x.Named && x.Name != want || x.Shows && x.Text != want {
			return false
		}
	}
	return true
}

// captions reports whether there are pictures that are to show a name.
func (p Plan) captions(f Found) bool {
	return p.Pictures && p.Target.Name != "" && slices.ContainsFunc(f.Pictures, func(x Picture) bool { return x.Named || x.Shows })
}

// shown tells what the pictures show.
func shown(list []Picture) string {
	var words []string
	for _, x := range list {
		switch {
		case !x.Shows:
			words = append(words, fmt.Sprintf("source %q", x.Name))
		case !x.Named:
			words = append(words, fmt.Sprintf("text %q", x.Text))
		default:
			words = append(words, fmt.Sprintf("source %q, text %q", x.Name, x.Text))
		}
	}
	return strings.Join(words, "; ")
}

func (f Found) pictureFacts() (out []device.Picture) {
	for _, p := range f.Pictures {
		out = append(out, device.Picture(p))
	}
	return out
}

// caption has the pictures show the device's name.
func (r *run) caption(ctx context.Context, w Write) error {
	c, err := able[Captioner](r.session, "picture's name")
	if err != nil {
		return err
	}
	return c.Caption(ctx, w.Intent)
}
