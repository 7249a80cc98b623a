package secret

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestVeilHidesEveryForm(t *testing.T) {
	var v Veil
	v.Add(New(`Har"bour&42`), New("Gangway-77"), New("abc"))
	for _, s := range []string{
		`x Har"bour&42 y`, "x Har&#34;bour&amp;42 y", "x Har&quot;bour&amp;42 y", `x Har\"bour&42 y`, "x Har%22bour%2642 y", "x Har%22bour&42 y",
		"x R2FuZ3dheS03Nw== y", "x R2FuZ3dheS03Nw y", "x 47616e677761792d3737 y",
	} {
		assert.Equal(t, "x (password) y", v.Text(s), s)
	}
	assert.Equal(t, "abc", v.Text("abc"), "too short to be told from other text")
	assert.Equal(t, "as it is", (*Veil)(nil).Text("as it is"))
}

// Wherever a stream is cut, no more than two letters in a row of a secret stay.
func TestVeilHidesAcrossPieces(t *testing.T) {
	var v Veil
	const word = "Gangway-Light-77"
	v.Add(New(word))
	stream := []byte("before " + word + " after")
	for a := range len(stream) {
		for b := a; b < len(stream); b++ {
			var out []byte
			for _, piece := range [][]byte{stream[:a], stream[a:b], stream[b:]} {
				c := bytes.Clone(piece)
				v.Bytes(c)
				out = append(out, c...)
			}
			for i := 0; i+edge <= len(word); i++ {
				assert.NotContains(t, string(out), word[i:i+edge], "cut at %d and %d", a, b)
			}
			assert.Len(t, out, len(stream))
		}
	}
	whole := []byte("nothing of that kind")
	assert.False(t, v.Bytes(whole))
	assert.Equal(t, "nothing of that kind", string(whole))
}

func FuzzVeil(f *testing.F) {
	f.Add("Gangway-77", []byte("x Gangway-77 Gang"))
	f.Fuzz(func(t *testing.T, word string, b []byte) {
		var v Veil
		v.Add(New(word))
		n := len(b)
		v.Bytes(b)
		assert.Len(t, b, n)
		if len(word) >= hidable && !strings.Contains(word, "\x00") {
			assert.NotContains(t, string(b), word)
		}
	})
}

// Passwords that stand in each other leave nothing over.
func TestVeilHidesWhatOverlaps(t *testing.T) {
	var v Veil
	v.Add(New("Quay-Light"), New("Light-1977"), New("Quay-Lights"))
	assert.Equal(t, "a (password) b", v.Text("a Quay-Light-1977 b"))
	assert.Equal(t, "a (password) b (password)", v.Text("a Quay-Lights b Light-1977"))
	b := []byte("Quay-Light-1977")
	assert.True(t, v.Bytes(b))
	assert.Equal(t, make([]byte, len(b)), b)
}

// What a device says costs the same, however many passwords a job has.
func BenchmarkVeil(b *testing.B) {
	for _, n := range []int{10, 1000} {
		var v Veil
		for i := range n {
			v.Add(New(fmt.Sprintf("%x-Harbour-%d", i*7919, i)))
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				v.Text("Oakhollow Porch S, firmware 3.1.7, time zone CET-1CEST,M3.5.0,M10.5.0/3")
			}
		})
	}
}
