package commission

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/setting"
	"janustat/core/settings/discovery"
	"janustat/core/settings/outside"
	"janustat/core/settings/rtspport"
	"janustat/core/settings/zone"
)

func TestTheTimeZoneIsSetWhereItIsAskedFor(t *testing.T) {
	d, p := newToy(), plan()
	d.set.Settings.Zone = "CET-1CEST"
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	assert.Equal(t, "CET-1CEST", d.set.Settings.Zone)
	assert.NotContains(t, d.writes(), "zone")
	p.Wants, p.From = setting.Values{zone.Name: "GMT0BST"}, newPlace
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []Step{Step(zone.Name)}, r.Writes)
	assert.Equal(t, "GMT0BST", r.Left.Settings.Zone, "in the record")
}

// A setting that is a folder of its own is set where it is wanted, proved, and told when it is refused.
func TestARTSPPortIsSetAndProved(t *testing.T) {
	d, p := newToy(), plan()
	require.Equal(t, Done, d.run(t.Context(), p).Status)
	p.Wants, p.From = setting.Values{rtspport.Name: "5041"}, newPlace
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, []Step{Step(rtspport.Name)}, r.Writes)
	assert.Equal(t, setting.Values{rtspport.Name: "5041"}, r.Left.Settings.Values)
	assert.Empty(t, d.run(t.Context(), p).Writes, "a second run")
	proof := func(f Found) Proof {
		for _, c := range Proofs(p, f) {
			if c.Name == string(rtspport.Name) {
				return c
			}
		}
		return Proof{}
	}
	assert.True(t, proof(r.Left).OK)
	r.Left.Values = setting.Values{rtspport.Name: "554"}
	assert.Equal(t, Check{Name: "rtsp port", Want: "5041", Got: "554"}, proof(r.Left).Check)
	p.Wants = setting.Values{rtspport.Name: "5042"}
	d.shutPorts = true
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, "it is left without")
	assert.Contains(t, strings.Join(r.Notes, " "), "5042")
}

// A device that does not say at which port it plays is told once, and nothing is proved of it.
func TestARTSPPortThatIsNotToldIsSetOnce(t *testing.T) {
	d, p := newToy(), plan()
	d.mutePorts = true
	p.Wants = setting.Values{rtspport.Name: "5041"}
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	n := 0
	for _, s := range r.Writes {
		if s == Step(rtspport.Name) {
			n++
		}
	}
	assert.Equal(t, 1, n)
	assert.Equal(t, uint16(5041), d.rtsp)
	for _, c := range Proofs(p, r.Left) {
		assert.NotEqual(t, string(rtspport.Name), c.Name)
	}
	p.From, p.Answered = newPlace, map[Step]string{Step(rtspport.Name): `"5041"`}
	assert.Empty(t, d.run(t.Context(), p).Writes, "a second run")
}

// What is watched is in the record of every device that is set up; it is changed where that is wanted,
// and discovery last of all, when the device is at its address.
func TestWhatADeviceTellsTheWorld(t *testing.T) {
	d, p := newToy(), plan()
	d.outside, p.Whole = &outside.Links{Uplinks: []string{"wss://a.example"}, RemoteUser: "cloud"}, true
	r := d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Equal(t, setting.Values{outside.Name: "uplink wss://a.example; remote user cloud", discovery.Name: "on"}, r.Left.Settings.Values)
	assert.NotContains(t, r.Writes, Step(outside.Name))

	d, p = newToy(), plan()
	d.outside = &outside.Links{DynamicDNS: "cam.example"}
	p.Wants = setting.Values{outside.Name: outside.Nothing, discovery.Name: "off"}
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	at := func(s Step) int { return slices.Index(r.Writes, s) }
	assert.Less(t, at(Step(outside.Name)), at(StepAddress))
	assert.Greater(t, at(Step(discovery.Name)), at(StepAddress))
	assert.True(t, d.hidden)
	assert.Equal(t, setting.Values{outside.Name: outside.Nothing, discovery.Name: "off"}, r.Left.Settings.Values)
	p.From = newPlace
	assert.Empty(t, d.run(t.Context(), p).Writes, "a second run")

	// What it keeps all the same is told, and proved.
	d.outside, d.keepsLinks = &outside.Links{Remote: true}, true
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Contains(t, strings.Join(r.Notes, " "), "accepts its outside connections (none) but does not keep it")
	assert.True(t, slices.ContainsFunc(Proofs(p, r.Left), func(c Proof) bool {
		return c.Name == string(outside.Name) && !c.OK && c.Got == "remote discovery"
	}))

	// One that has no means to tell is left as it is, and not proved.
	d.outside, d.keepsLinks = nil, false
	r = d.run(t.Context(), p)
	require.Equal(t, Done, r.Status, r.Reason)
	assert.Empty(t, r.Writes)
	assert.False(t, slices.ContainsFunc(Proofs(p, r.Left), func(c Proof) bool { return c.Name == string(outside.Name) }))
}
