// Package wire moves whole Ethernet frames in and out: through a packet socket
// on a network adapter, or through a bench's Unix socket. It knows nothing of
// what the frames say.
package wire

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"strings"

	"janustat/core/device"
)

// Wire is a place where Ethernet frames come and go. Read and Write are safe
// to call from different goroutines; Close makes a blocked Read return.
type Wire interface {
	// Read gives the next frame, without preamble or frame check sequence.
	// The slice is the caller's to keep.
	Read() ([]byte, error)
	// Write sends one frame.
	Write(frame []byte) error
	Close() error
	Facts() Facts
}

// Facts are what is known of a wire before anything is heard on it.
type Facts struct {
	Name      string
	MAC       device.MAC
	MTU       int            // bytes of payload, 1500 on Ethernet
	Addresses []netip.Prefix // the laptop's own on this adapter; never borrowed
	Forwards  bool           // the kernel forwards IPv4, so it meddles with visitors' traffic
}

// ErrPermission is wrapped when the system refuses raw frames.
var ErrPermission = errors.New("no permission for raw Ethernet frames")

// PermissionError tells how to get the permission. It matches ErrPermission.
type PermissionError struct {
	Adapter string
	Hint    string // the exact command
}

// Error names the adapter and the way out.
func (e *PermissionError) Error() string {
	return fmt.Sprintf("%s on %s: %s", ErrPermission, e.Adapter, e.Hint)
}

// Is matches ErrPermission.
func (*PermissionError) Is(target error) bool { return target == ErrPermission }

// ErrNoAdapter is wrapped when there is no such adapter, or none to choose.
var ErrNoAdapter = errors.New("no adapter")

// benchScheme begins the spec of a bench's Unix socket.
const benchScheme = "bench:"

// Open opens the wire that a spec names: an adapter's name, or bench:PATH. An
// empty spec takes the only adapter that is up; several are an error that
// lists them. The wire outlives its link (Linked).
func Open(spec string) (Wire, error) {
	if path, ok := strings.CutPrefix(spec, benchScheme); ok {
		return newSteady(func() (Wire, error) { return DialBench(path) })
	}
	if spec == "" {
		name, err := onlyAdapter()
		if err != nil {
			return nil, err
		}
		spec = name
	}
	return newSteady(func() (Wire, error) { return openAdapter(spec) })
}

// Filter keeps frames out that nobody here reads, where the wire can do that.
func Filter(w Wire) error {
	s, ok := w.(*steady)
	if !ok {
		return nil
	}
	filter := func(w Wire) error {
		if f, ok := w.(interface{ Filter() error }); ok {
			return f.Filter()
		}
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	open := s.open
	s.open = func() (Wire, error) {
		w, err := open()
		if err == nil {
			err = filter(w)
		}
		return w, err
	}
	return filter(s.now)
}

// permissionHint is the exact command that grants raw frames to this program.
func permissionHint() string {
	self, err := os.Executable()
	if err != nil {
		self = "janustat"
	}
	return fmt.Sprintf("run it as root, or once: sudo setcap cap_net_raw+ep %s", self)
}
