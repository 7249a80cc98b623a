package wire

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/intake"
)

// recorder keeps every frame of a wire, both ways, in a pcapng file.
type recorder struct {
	Wire
	mu   sync.Mutex
	file *os.File
	out  *pcapgo.NgWriter
	err  error // the first that writing met; the wire goes on without
	// blank are the connections whose content is left out, both ways; nil keeps all.
	blank map[flow]bool
	veil  *secret.Veil // blanks passwords wherever they are quoted
}

// Under gives the wire that is recorded.
func (r *recorder) Under() Wire { return r.Wire }

// flow is a TCP connection as seen from here.
type flow struct{ local, remote netip.AddrPort }

// Blanker is a wire that is recorded, and leaves out what Blank names.
type Blanker interface {
	// Blank keeps what goes over a TCP connection from now on, both ways, out of the
	// record: its frames are there, their content is zeros.
	Blank(local, remote netip.AddrPort)
}

// Blank implements Blanker.
func (r *recorder) Blank(local, remote netip.AddrPort) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.blank != nil {
		r.blank[flow{local, remote}] = true
	}
}

// blanked gives a frame as it is recorded: without the content of what is confidential,
// and without any password that is quoted elsewhere. The lock is held.
func (r *recorder) blanked(frame []byte) []byte {
	if r.blank == nil || len(frame) < ethernetHeader {
		return frame
	}
	at, f, ok := tcpContent(frame)
	if ok && (r.blank[f] || r.blank[flow{f.remote, f.local}]) {
		out := slices.Clone(frame)
		clear(out[at:])
		return out
	}
	if !ok {
		at = ethernetHeader
	}
	out := slices.Clone(frame)
	if r.veil.Bytes(out[at:]) {
		return out
	}
	return frame
}

const ethernetHeader = 14

// tcpContent finds where the content of a TCP segment begins in an untagged
// Ethernet frame (RFC 791, 3.1; RFC 8200, 3; RFC 9293, 3.1).
func tcpContent(frame []byte) (at int, f flow, ok bool) {
	var from, to netip.Addr
	switch at = ethernetHeader; {
	case frame[12] == 0x08 && frame[13] == 0x00 && len(frame) >= at+20 && frame[at+9] == 6:
		from, _ = netip.AddrFromSlice(frame[at+12 : at+16])
		to, _ = netip.AddrFromSlice(frame[at+16 : at+20])
		words := int(frame[at] & 0x0f)
		if words < 5 {
			return 0, f, false
		}
		at += words * 4
	case frame[12] == 0x86 && frame[13] == 0xdd && len(frame) >= at+40 && frame[at+6] == 6:
		from, _ = netip.AddrFromSlice(frame[at+8 : at+24])
		to, _ = netip.AddrFromSlice(frame[at+24 : at+40])
		at += 40
	default:
		return 0, f, false
	}
	if len(frame) < at+20 {
		return 0, f, false
	}
	f.local = netip.AddrPortFrom(from, binary.BigEndian.Uint16(frame[at:]))
	f.remote = netip.AddrPortFrom(to, binary.BigEndian.Uint16(frame[at+2:]))
	words := int(frame[at+12] >> 4)
	at += words * 4
	return at, f, words >= 5 && at <= len(frame)
}

// Record makes a pcapng file of every frame that comes and goes on a wire. The
// file is whole after Close; a crash leaves all but the last moments. It is an
// error when the file exists already. What Blank names is left out, and so is every
// password that veil knows, unless everything is to be kept.
func Record(w Wire, path string, everything bool, veil *secret.Veil) (Wire, error) {
	// A capture can hold passwords: nobody else may read it.
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("capture: %w", err)
	}
	about, err := json.Marshal(captured{MAC: w.Facts().MAC, Facts: w.Facts()})
	if err != nil {
		f.Close()
		return nil, err
	}
	iface := pcapgo.NgInterface{Name: w.Facts().Name, Comment: string(about), LinkType: layers.LinkTypeEthernet}
	out, err := pcapgo.NewNgWriterInterface(f, iface, pcapgo.NgWriterOptions{
		SectionInfo: pcapgo.NgSectionInfo{Application: "janustat"},
	})
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("capture %s: %w", path, err)
	}
	r := &recorder{Wire: w, file: f, out: out, veil: veil}
	if !everything {
		r.blank = map[flow]bool{}
	}
	return r, nil
}

// captured is what the interface's comment holds, as JSON, so that a replay
// knows whose frames were ours.
type captured struct {
	MAC   device.MAC `json:"janustat_mac"`
	Facts Facts      `json:"wire"`
}

func (r *recorder) keep(frame []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return
	}
	frame = r.blanked(frame)
	info := gopacket.CaptureInfo{Timestamp: time.Now(), CaptureLength: len(frame), Length: len(frame)}
	r.err = r.out.WritePacket(info, frame)
}

// Read implements Wire.
func (r *recorder) Read() ([]byte, error) {
	frame, err := r.Wire.Read()
	if err == nil {
		r.keep(frame)
	}
	return frame, err
}

// Write implements Wire.
func (r *recorder) Write(frame []byte) error {
	r.keep(frame)
	return r.Wire.Write(frame)
}

// Close implements Wire. An error of the file is told here.
func (r *recorder) Close() error {
	err := r.Wire.Close()
	r.mu.Lock()
	defer r.mu.Unlock()
	ferr := r.err
	if ferr == nil {
		ferr = r.out.Flush()
	}
	if cerr := r.file.Close(); ferr == nil {
		ferr = cerr
	}
	if ferr != nil && !errors.Is(ferr, os.ErrClosed) {
		return errors.Join(err, fmt.Errorf("the capture is not whole: %w", ferr))
	}
	return err
}

// Captured is one frame of a capture.
type Captured struct {
	At    time.Time
	Frame []byte
}

// Bounds on a capture that is read, so that a broken file cannot fill memory.
const maxCaptured = 4 << 30 // bytes of file

// ErrCapture is wrapped when a file is no capture that can be read.
var ErrCapture = errors.New("no pcapng capture of Ethernet frames")

// ReadCapture opens a pcapng file and hands each Ethernet frame to f, in order.
// The facts are those of the wire it was made on, where Janustat made it. A file
// cut short is read up to there.
func ReadCapture(path string, f func(Captured) error) (Facts, error) {
	file, err := intake.Open(path)
	if err != nil {
		return Facts{}, fmt.Errorf("capture: %w", err)
	}
	defer file.Close()
	facts, err := readCapture(bufio.NewReaderSize(io.LimitReader(file, maxCaptured), 1<<16), f)
	if err != nil {
		return Facts{}, fmt.Errorf("capture %s: %w", path, err)
	}
	return facts, nil
}

func readCapture(in io.Reader, f func(Captured) error) (facts Facts, err error) {
	r, err := pcapgo.NewNgReader(in, pcapgo.NgReaderOptions{SkipUnknownVersion: true, WantMixedLinkType: true})
	if err != nil {
		return Facts{}, fmt.Errorf("%w: %w", ErrCapture, err)
	}
	known := false
	for {
		data, info, err := r.ReadPacketData()
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return facts, nil
		case err != nil:
			return Facts{}, fmt.Errorf("%w: %w", ErrCapture, err)
		}
		if !known {
			facts, known = aboutOf(r, info.InterfaceIndex), true
		}
		if link, ok := linkOf(info); ok && link != layers.LinkTypeEthernet {
			continue
		}
		if err := f(Captured{info.Timestamp, data}); err != nil {
			return Facts{}, err
		}
	}
}

func linkOf(info gopacket.CaptureInfo) (layers.LinkType, bool) {
	for _, a := range info.AncillaryData {
		if link, ok := a.(layers.LinkType); ok {
			return link, true
		}
	}
	return 0, false
}

func aboutOf(r *pcapgo.NgReader, index int) Facts {
	iface, err := r.Interface(index)
	if err != nil {
		return Facts{}
	}
	var c captured
	if json.Unmarshal([]byte(iface.Comment), &c) != nil {
		return Facts{Name: iface.Name}
	}
	c.Facts.MAC = c.MAC
	return c.Facts
}
