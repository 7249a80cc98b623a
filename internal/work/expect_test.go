package work

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

func TestExpected(t *testing.T) {
	hung := func(kind device.Kind, n int) (out []device.Device) {
		for range n {
			out = append(out, device.Device{Facts: device.Facts{Kind: kind, Access: device.Fresh}})
		}
		return out
	}
	there := append(hung(device.Camera, 2), hung(device.Recorder, 1)...)
	theirs := device.Device{Facts: device.Facts{Kind: device.Camera, Access: device.Fresh}, NotOurs: true}
	there = append(there, theirs, device.Device{Facts: device.Facts{Kind: device.Other}}, device.Device{Facts: device.Facts{Kind: device.Camera, Access: device.Unmanaged}})
	for terms, missing := range map[string][]string{
		"3": nil, "5": {"2 of 5 devices"}, "camera=2": nil, "camera=3": {"1 of 3 cameras"}, "panel=1": {"1 of 1 panel"},
	} {
		e, err := ParseExpected([]string{terms})
		require.NoError(t, err, terms)
		assert.False(t, e.None())
		assert.Equal(t, missing, e.Missing(there), terms)
	}
	for _, terms := range [][]string{{"0"}, {"-1"}, {"many"}, {"camera=x"}, {"door=1"}, {"3", "4"}} {
		_, err := ParseExpected(terms)
		assert.True(t, errors.As(err, new(*Misuse)), "%v: %v", terms, err)
	}
	assert.True(t, Expected{}.None())
	assert.Nil(t, Expected{}.Met(nil, nil))
	assert.False(t, ExpectedOf(map[string]int{"camera": 1}).None())
}
