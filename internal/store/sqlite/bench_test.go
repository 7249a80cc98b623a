package sqlite

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// A job of ten thousand devices: begun, met again by a survey, and judged with nothing new.
func BenchmarkRecord(b *testing.B) {
	const many = 10_000
	fresh := func() []device.Device {
		list := make([]device.Device, many)
		for i := range list {
			d := camera(1)
			d.Tag, d.MAC = fmt.Sprintf("C%05d", i), device.MAC{2, 0xe4, 0x42, 1, byte(i >> 8), byte(i)}
			d.Addresses = []netip.Addr{netip.AddrFrom4([4]byte{10, 61, byte(i >> 8), byte(i)})}
			list[i] = d
		}
		return list
	}
	open := func(b *testing.B) (*Register, []device.Device) {
		r, err := OpenRegister(b.Context(), b.TempDir()+"/register.db", "bench")
		require.NoError(b, err)
		b.Cleanup(func() { r.Close() })
		list := fresh()
		require.NoError(b, r.Record(b.Context(), "survey", list))
		return r, list
	}
	b.Run("new", func(b *testing.B) {
		for b.Loop() {
			b.StopTimer()
			r, err := OpenRegister(b.Context(), b.TempDir()+"/register.db", "bench")
			require.NoError(b, err)
			list := fresh()
			b.StartTimer()
			require.NoError(b, r.Record(b.Context(), "survey", list))
			r.Close()
		}
	})
	b.Run("met again", func(b *testing.B) {
		r, list := open(b)
		for b.Loop() {
			for i := range list {
				list[i].SeenAt = list[i].SeenAt.Add(time.Second)
			}
			require.NoError(b, r.Record(b.Context(), "survey", list))
		}
	})
	b.Run("nothing new", func(b *testing.B) {
		r, list := open(b)
		for b.Loop() {
			require.NoError(b, r.Record(b.Context(), "judge", list))
		}
	})
}
