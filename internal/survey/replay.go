package survey

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/soap"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue/standard"
	"janustat/internal/wire"
)

// Replay is what a survey makes of a capture: it hears every frame and sends
// none. Where the capture holds a device's answers to an earlier survey, they are
// read again.
func (s Survey) Replay(ctx context.Context, path string) (*Findings, wire.Facts, error) {
	exchanges := transcript{}
	var frames []wire.Captured
	kept := 0
	facts, err := wire.ReadCapture(path, func(c wire.Captured) error {
		if kept += len(c.Frame) + frameCost; len(frames) >= maxReplayed || kept > maxReplayedBytes {
			return errTooLong
		}
		frames = append(frames, wire.Captured{At: c.At, Frame: bytes.Clone(c.Frame)})
		return ctx.Err()
	})
	if err != nil {
		return nil, facts, err
	}
	r := newRun(ctx, s)
	r.reader = func(_ *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error) {
		s, err := standard.ReadBy(ctx, exchanges[key], standard.Host{MAC: key.mac, Addr: key.addr}, m)
		s.Facts.Writes = nil // its clock was read at another time
		return s, err
	}
	streams := streams{}
	// The frames we sent ourselves hold the questions.
	all := reach.Ear{}
	for _, c := range frames {
		if h, ok := all.Hear(c.Frame, c.At); ok {
			streams.add(h)
		}
	}
	streams.exchanges(facts.MAC, exchanges)
	ear := reach.Ear{Own: facts.MAC}
	r.spawn(func() {
		for _, c := range frames {
			if h, ok := ear.Hear(c.Frame, c.At); ok {
				r.hear(h)
			}
		}
	})
	select {
	case <-r.finished:
		return &r.found, facts, nil
	case <-ctx.Done():
		return nil, facts, ctx.Err()
	}
}

// maxReplayed bounds a replay, in frames: an hour of a busy LAN's broadcasts.
const maxReplayed = 4 << 20

// maxReplayedBytes bounds what is kept of a capture, and frameCost is what a frame costs
// beside its bytes.
const (
	maxReplayedBytes = 192 << 20
	frameCost        = 64
)

var errTooLong = errors.New("the capture has more frames than a survey of hours; cut it")

// streamKey is one direction of a TCP connection.
type streamKey struct {
	mac      device.MAC // of the sender
	to       device.MAC
	src, dst netip.AddrPort
}

type segment struct {
	seq  uint32
	at   time.Time
	data []byte
}

// streams gathers TCP segments by direction.
type streams map[streamKey][]segment

// maxStream bounds what is kept of one direction, in segments.
const maxStream = 4096

func (s streams) add(h reach.Heard) {
	t := header.TCP(h.Payload)
	if h.Protocol != uint8(header.TCPProtocolNumber) || len(t) < header.TCPMinimumSize || int(t.DataOffset()) > len(t) || t.DataOffset() < header.TCPMinimumSize {
		return
	}
	key := streamKey{h.From, h.To, netip.AddrPortFrom(h.Source, t.SourcePort()), netip.AddrPortFrom(h.Destination, t.DestinationPort())}
	if data := t.Payload(); len(data) > 0 && len(s[key]) < maxStream {
		s[key] = append(s[key], segment{t.SequenceNumber(), h.At, data})
	}
}

// bytesOf puts one direction together, up to the first gap.
func bytesOf(list []segment) []byte {
	if len(list) == 0 {
		return nil
	}
	first := list[0].seq
	for _, s := range list {
		if int32(s.seq-first) < 0 {
			first = s.seq
		}
	}
	sorted := slices.Clone(list)
	slices.SortStableFunc(sorted, func(a, b segment) int { return int(int32(a.seq - b.seq)) })
	var out []byte
	for _, s := range sorted {
		at := int(s.seq - first)
		if at > len(out) {
			break
		}
		if end := at + len(s.data); end > len(out) {
			out = append(out, s.data[len(out)-at:]...)
		}
	}
	return out
}

// answer is what a device once answered.
type answer struct {
	status int
	header http.Header
	body   []byte
}

// answered are the answers of one device, by operation. It implements
// http.RoundTripper by telling them again.
type answered map[string]answer

// transcript is what devices answered, by where they were met.
type transcript map[hearing]answered

// exchanges pairs questions of ours with the answers.
func (s streams) exchanges(own device.MAC, into transcript) {
	for key, list := range s {
		if key.mac != own {
			continue
		}
		back := bytesOf(s[streamKey{key.to, key.mac, key.dst, key.src}])
		at := hearing{key.to, key.dst.Addr()}
		asked, told := bufio.NewReader(bytes.NewReader(bytesOf(list))), bufio.NewReader(bytes.NewReader(back))
		for {
			req, err := http.ReadRequest(asked)
			if err != nil {
				break
			}
			operation := operationOf(req)
			res, err := http.ReadResponse(told, req)
			if err != nil {
				break
			}
			body, err := io.ReadAll(io.LimitReader(res.Body, soap.MaxMessage))
			if err != nil {
				break
			}
			if into[at] == nil {
				into[at] = answered{}
			}
			// Of several answers the first anonymous one counts: that is what a survey asks.
			if _, known := into[at][operation]; !known && req.Header.Get("Authorization") == "" {
				into[at][operation] = answer{res.StatusCode, res.Header, body}
			}
		}
	}
}

// operationOf reads which operation a request asks for, and empties it.
func operationOf(r *http.Request) string {
	_, _ = io.Copy(io.Discard, io.LimitReader(r.Body, soap.MaxMessage)) // the answers are paired by their order
	_, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil {
		return ""
	}
	action := params["action"]
	return action[strings.LastIndexByte(action, '/')+1:]
}

// errNotCaptured means that the capture does not hold the answer.
var errNotCaptured = errors.New("the capture does not hold the answer")

// RoundTrip implements http.RoundTripper.
func (a answered) RoundTrip(r *http.Request) (*http.Response, error) {
	got, ok := a[operationOf(r)]
	if !ok {
		return nil, errNotCaptured
	}
	return &http.Response{
		StatusCode: got.status, Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Header: got.header.Clone(),
		Body: io.NopCloser(bytes.NewReader(got.body)), ContentLength: int64(len(got.body)), Request: r,
	}, nil
}
