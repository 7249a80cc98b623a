package firmware

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func versions(path []*Image) (out []string) {
	for _, x := range path {
		out = append(out, x.Version)
	}
	return out
}

func TestADeviceStandsToWhatIsAgreedOn(t *testing.T) {
	list := List{
		{Model: "Dome", Version: "2.0", From: []string{"1.*"}},
		{Model: "Dome", Version: "3.0", From: []string{"2.*"}},
		{Model: "Eye", Version: "7"},
		{Model: "Eye", Version: "8", Hardware: []string{"B"}},
		{Make: "Verrine", Model: "Bullet", Version: "5", From: []string{"4"}},
	}
	for name, c := range map[string]struct {
		unit Unit
		want Standing
		path []string
	}{
		"agreed":                    {Unit{Model: "Dome", Version: "3.0"}, Standing{State: Agreed, Want: "3.0"}, nil},
		"one step":                  {Unit{Model: "Dome", Version: "2.4"}, Standing{State: Due, Want: "3.0"}, []string{"3.0"}},
		"by a version between":      {Unit{Model: "Dome", Version: "1.9"}, Standing{State: Due, Want: "3.0"}, []string{"2.0", "3.0"}},
		"no image may follow":       {Unit{Model: "Dome", Version: "0.9"}, Standing{State: Stuck, Want: "3.0"}, nil},
		"no version told":           {Unit{Model: "Dome"}, Standing{State: Unknown, Want: "3.0"}, nil},
		"another model":             {Unit{Model: "Dome 2", Version: "1.0"}, Standing{State: None}, nil},
		"of any revision":           {Unit{Model: "Eye", Hardware: "A", Version: "6"}, Standing{State: Due, Want: "7"}, []string{"7"}},
		"of one revision":           {Unit{Model: "Eye", Hardware: "B", Version: "6"}, Standing{State: Due, Want: "8"}, []string{"8"}},
		"of a maker":                {Unit{Make: "Verrine", Model: "Bullet", Version: "4"}, Standing{State: Due, Want: "5"}, []string{"5"}},
		"of another maker":          {Unit{Make: "Oakhollow", Model: "Bullet", Version: "4"}, Standing{State: None}, nil},
		"a beginning is no match":   {Unit{Make: "Verrine", Model: "Bullet", Version: "4.1"}, Standing{State: Stuck, Want: "5"}, nil},
		"a newer one goes not back": {Unit{Model: "Dome", Version: "3.1"}, Standing{State: Newer, Want: "3.0"}, nil},
		"nor where any may go":      {Unit{Model: "Eye", Version: "10"}, Standing{State: Newer, Want: "7"}, nil},
	} {
		got := list.Of(c.unit)
		assert.Equal(t, c.path, versions(got.Path), name)
		got.Path = nil
		assert.Equal(t, c.want, got, name)
	}
}

// A way is one that the images allow, from the version that the device has to the one that is agreed on,
// and nothing twice.
func TestAWayIsOneThatTheImagesAllow(t *testing.T) {
	chance := rand.New(rand.NewPCG(1, 2))
	of := func(all ...string) string { return all[chance.IntN(len(all))] }
	for range 5000 {
		var list List
		for range 1 + chance.IntN(6) {
			x := Image{Model: "M", Version: of("1.0", "1.1", "2.0", "2.1", "3.0")}
			for range chance.IntN(3) {
				x.From = append(x.From, of("1.0", "1.*", "2.*", "3.0", "*"))
			}
			list = append(list, x)
		}
		u := Unit{Model: "M", Version: of("1.0", "1.1", "2.0", "2.1", "3.0", "10")}
		s := list.Of(u)
		at, seen := u.Version, map[string]bool{u.Version: true}
		for _, x := range s.Path {
			assert.True(t, x.Follows(at))
			assert.False(t, seen[x.Version])
			at = x.Version
			seen[at] = true
		}
		assert.Equal(t, s.State == Due, len(s.Path) > 0)
		if s.State == Due || s.State == Agreed {
			assert.Equal(t, s.Want, at)
		}
	}
}

func TestVersionsInTheOrderThatPeopleReadThem(t *testing.T) {
	for _, c := range [][2]string{{"1.9", "1.10"}, {"1.2", "1.2.1"}, {"2.4 build 9", "2.4 build 11"}, {"2", "10"}, {"1.02", "1.3"}, {"a", "b"}, {"", "1"}} {
		assert.Negative(t, Compare(c[0], c[1]), c)
		assert.Positive(t, Compare(c[1], c[0]), c)
	}
	assert.Zero(t, Compare("1.02", "1.2"))
}

func TestAListThatSaysNothingOrOneThingTwice(t *testing.T) {
	sum := strings.Repeat("ab", 32)
	for name, c := range map[string]struct {
		list List
		want string
	}{
		"right":        {List{{Model: "Dome", Version: "2", File: "a", SHA256: sum}}, ""},
		"no file":      {List{{Model: "Dome", Version: "2", SHA256: sum}}, "image 1: it has no file"},
		"a short sum":  {List{{Model: "Dome", Version: "2", File: "a", SHA256: "abc"}}, "image 1: its sha256 is not 64"},
		"a star":       {List{{Model: "Dome", Version: "2", File: "a", SHA256: sum, From: []string{"1.*.2"}}}, "* stands at its end"},
		"the same two": {List{{Model: "Dome", Version: "2", File: "a", SHA256: sum}, {Model: "Dome", Version: "2", File: "b", SHA256: sum}}, "image 2: it brings Dome to 2, as image 1"},
		"two ways":     {List{{Model: "Dome", Version: "1", File: "a", SHA256: sum}, {Model: "Dome", Version: "2", File: "b", SHA256: sum}}, ""},
	} {
		err := c.list.Check()
		if c.want == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.want, name)
		}
	}
}
