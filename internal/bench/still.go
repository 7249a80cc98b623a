package bench

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"sync"
	"time"
)

// The still that every camera shows: in pixels, and how often it is sent.
const (
	stillWidth  = 640
	stillHeight = 480
	stillEvery  = 500 * time.Millisecond
)

// rtpJPEG is a baseline JPEG in the parts that RTP carries (RFC 2435, 3.1).
type rtpJPEG struct {
	tables []byte // of quantization: luminance, then chrominance
	scan   []byte
}

// still is drawn when somebody watches.
var still = sync.OnceValue(makeStill)

// makeStill draws a quay under a sky.
func makeStill() rtpJPEG {
	img := image.NewRGBA(image.Rect(0, 0, stillWidth, stillHeight))
	for y := range stillHeight {
		for x := range stillWidth {
			c := color.RGBA{R: uint8(90 + y/8), G: uint8(130 + y/6), B: 200, A: 255}
			if y > stillHeight/2+(x%80)/10 {
				c = color.RGBA{R: 40, G: uint8(70 + (x+y)%24), B: 90, A: 255}
			}
			img.SetRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 60}); err != nil {
		panic(err) // into memory: never
	}
	return partJPEG(b.Bytes())
}

// partJPEG takes tables and scan out of what the encoder made: markers in the order DQT,
// SOF0, DHT, SOS (ISO/IEC 10918-1, annex B).
func partJPEG(data []byte) (out rtpJPEG) {
	for at := 2; at+4 <= len(data); {
		marker, size := data[at+1], int(binary.BigEndian.Uint16(data[at+2:]))
		body := data[at+4 : at+2+size]
		switch marker {
		case 0xdb: // DQT, of one or more tables of a byte of precision and number and 64 values
			for ; len(body) >= 65; body = body[65:] {
				out.tables = append(out.tables, body[1:65]...)
			}
		case 0xda: // SOS
			out.scan = data[at+2+size : len(data)-2] // without EOI
			return out
		}
		at += 2 + size
	}
	return out
}

const (
	rtpTypeJPEG = 26   // RFC 3551, 6
	maxRTP      = 1400 // bytes of scan in a packet
)

// packets gives the packets of one picture.
func (j *rtpJPEG) packets(seq *uint16, stamp, ssrc uint32) (out [][]byte) {
	for at := 0; at < len(j.scan); at += maxRTP {
		part := j.scan[at:min(at+maxRTP, len(j.scan))]
		marker := byte(0)
		if at+len(part) == len(j.scan) {
			marker = 0x80
		}
		p := []byte{0x80, marker | rtpTypeJPEG}
		p = binary.BigEndian.AppendUint16(p, *seq)
		p = binary.BigEndian.AppendUint32(p, stamp)
		p = binary.BigEndian.AppendUint32(p, ssrc)
		// Type 1 is 4:2:0; Q 255 has the tables in the first packet (3.1.3, 3.1.4).
		p = append(p, 0, byte(at>>16), byte(at>>8), byte(at), 1, 255, stillWidth/8, stillHeight/8)
		if at == 0 {
			p = append(p, 0, 0)
			p = binary.BigEndian.AppendUint16(p, uint16(len(j.tables)))
			p = append(p, j.tables...)
		}
		out = append(out, append(p, part...))
		*seq++
	}
	return out
}
