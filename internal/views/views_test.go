package views

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func picture(t testing.TB, shade uint8, wide, tall int) []byte {
	img := image.NewGray(image.Rect(0, 0, wide, tall))
	for i := range img.Pix {
		img.Pix[i] = shade
	}
	img.SetGray(1, 1, color.Gray{shade / 2})
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, nil))
	return b.Bytes()
}

func TestFlawsAreTold(t *testing.T) {
	a, b := picture(t, 120, 64, 48), picture(t, 140, 64, 48)
	shots := []Shot{
		{Tag: "C01", JPEG: a, Later: b},
		{Tag: "C02", JPEG: b, Later: b},
		{Tag: "C03", JPEG: a, Later: b},
		{Tag: "C04", JPEG: picture(t, 2, 64, 48)},
		{Tag: "C05", JPEG: a[:40]},
		{Tag: "C06", Flaw: "none: no answer"},
		{Tag: "C07", JPEG: []byte("<html>")},
	}
	Judge(shots)
	var flaws []string
	for _, s := range shots {
		flaws = append(flaws, s.Flaw)
	}
	assert.Equal(t, []string{"", Frozen, Repeated + "C01", Black, Broken, "none: no answer", Broken}, flaws)
}

func TestTheSheetShowsEveryShot(t *testing.T) {
	shots := []Shot{{Tag: "C01", Name: "<b>&", At: time.Unix(0, 0), JPEG: picture(t, 99, 40, 300)}, {Tag: "C02", Name: "A name that is longer than any picture on this sheet is wide, by far", Flaw: Broken, JPEG: []byte("x")}, {}, {}, {}}
	data, err := Sheet("Quay", shots)
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, across*(thumbWide+gap)+gap, img.Bounds().Dx())
	assert.Greater(t, img.Bounds().Dy(), 2*(thumbTall+caption))
	page, err := Page("Quay", shots)
	require.NoError(t, err)
	assert.Contains(t, string(page), "&lt;b&gt;&amp;")
	assert.NotContains(t, string(page), "<b>&")
}

func TestSmall(t *testing.T) {
	small, err := Small(picture(t, 99, 1000, 500), 640)
	require.NoError(t, err)
	c, err := jpeg.DecodeConfig(bytes.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, 640, c.Width)
	assert.Equal(t, 320, c.Height)
	_, err = Small([]byte("x"), 640)
	require.Error(t, err)
}

func FuzzJudge(f *testing.F) {
	f.Add(picture(f, 99, 16, 16))
	f.Fuzz(func(t *testing.T, data []byte) {
		shots := []Shot{{Tag: "C01", JPEG: data}}
		Judge(shots)
		if _, err := Sheet("x", shots); err != nil {
			t.Fatal(err)
		}
	})
}
