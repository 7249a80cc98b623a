package device

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func park() []Device {
	d := func(n int, tag string, k Kind, a Access, serial, address string) Device {
		return Device{Tag: tag, MAC: mac(n), Addresses: []netip.Addr{at(address)}, Facts: Facts{Kind: k, Access: a, Serial: serial, Make: "Verrine"}}
	}
	return []Device{
		d(0xa001, "C01", Camera, Fresh, "VD-1", "192.168.77.20"),
		d(0xa002, "", Camera, Fresh, "VD-2", "192.168.77.20"),
		d(0xa003, "", Camera, Sealed, "VD-3", "10.61.8.47"),
		d(0xa004, "R01", Recorder, Keyed, "LG-1", "10.61.8.10"),
		d(0xa005, "", Other, Unmanaged, "", "10.61.8.1"),
	}
}

func TestChoose(t *testing.T) {
	for _, c := range []struct {
		terms []string
		want  []int
	}{
		{[]string{"all"}, []int{0, 1, 3}},
		{[]string{"kind=camera"}, []int{0, 1}},
		{[]string{"kind=camera", "access=fresh"}, []int{0, 1}},
		{[]string{"kind=camera", "kind=recorder"}, []int{0, 1, 3}},
		{[]string{"access=sealed"}, []int{2}},
		{[]string{"all", "access=sealed"}, nil},
		{[]string{"all", "10.61.8.47"}, []int{0, 1, 2, 3}},
		{[]string{"c01", "vd-2"}, []int{0, 1}},
		{[]string{"a004"}, []int{3}},
		{[]string{"a0:04"}, []int{3}},
		{[]string{"R01", "kind=recorder"}, []int{3}},
		{[]string{"make=verrine", "kind=panel"}, nil},
	} {
		s, err := ParseSelector(c.terms)
		require.NoError(t, err)
		got, err := s.Choose(park())
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%v", c.terms)
	}
}

func TestListAlsoShowsWhatCannotBeTaken(t *testing.T) {
	s, err := ParseSelector([]string{"all"})
	require.NoError(t, err)
	got, err := s.List(park())
	require.NoError(t, err)
	assert.Len(t, got, 5)
}

func TestParseSelectorRefuses(t *testing.T) {
	for _, bad := range []string{"colour=red", "kind=toaster", "=x"} {
		_, err := ParseSelector([]string{bad})
		assert.Error(t, err, bad)
	}
}

func TestFindAmbiguousListsCandidates(t *testing.T) {
	_, err := Find(park(), "192.168.77.20")
	var amb *AmbiguousError
	require.ErrorAs(t, err, &amb)
	assert.Len(t, amb.Candidates, 2)
	assert.Contains(t, err.Error(), "02:00:00:00:a0:02")
	_, err = Find(park(), "a0")
	require.ErrorIs(t, err, ErrNoDevice, "two digits name nothing")
}

func TestAssignTagsDoesNotDependOnOrder(t *testing.T) {
	p := park()
	AssignTags(p, []int{2, 1, 3, 0})
	assert.Equal(t, []string{"C01", "C02", "C03", "R01", ""}, []string{p[0].Tag, p[1].Tag, p[2].Tag, p[3].Tag, p[4].Tag})
	indoor := []Device{{Facts: Facts{Kind: Intercom, Indoor: true}}, {Facts: Facts{Kind: Intercom}}, {Facts: Facts{Kind: Panel}}}
	AssignTags(indoor, []int{0, 1, 2})
	assert.Equal(t, []string{"I01", "D01", "P01"}, []string{indoor[0].Tag, indoor[1].Tag, indoor[2].Tag})
}
