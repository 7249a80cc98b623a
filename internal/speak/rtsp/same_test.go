package rtsp

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSame(t *testing.T) {
	const plain = "rtsp://10.61.8.41/media/stream1?profile=p 1"
	for _, same := range []string{
		"rtsp://10.61.8.41:554/media/stream1?profile=p%201", "RTSP://10.61.8.41/media/stream1/?profile=p+1", " rtsp://10.61.8.41/%6Dedia/stream1?profile=p%201 ",
	} {
		assert.True(t, Same(plain, same), same)
	}
	for _, other := range []string{
		"", "rtsp://10.61.8.42/media/stream1?profile=p 1", "rtsp://10.61.8.41:8554/media/stream1?profile=p 1", "rtsps://10.61.8.41/media/stream1?profile=p 1",
		"rtsp://10.61.8.41/Media/stream1?profile=p 1", "rtsp://10.61.8.41/media%2fstream1?profile=p 1", "rtsp://10.61.8.41/media/stream1?profile=p2", "local:1",
	} {
		assert.False(t, Same(plain, other), other)
	}
	assert.False(t, Same("", ""), "what is not told is the same as nothing")
	assert.True(t, Same("rtsp://Cam-7.LAN./a", "rtsp://cam-7.lan:554/a/"))
}

func FuzzSame(f *testing.F) {
	f.Add("rtsp://10.61.8.41:554/a%2fb?x=%zz")
	f.Fuzz(func(t *testing.T, uri string) {
		if _, ok := normal(uri); ok {
			assert.True(t, Same(uri, uri))
		}
	})
}
