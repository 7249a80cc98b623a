// Package evidence keeps apart what is heard and what is proven. A frame, an announcement,
// a refusal or a clock says something: that is heard, and anybody on the LAN may have said
// it. What came through a conversation whose other end has proved who it is, is proven.
//
// The two are types of their own, so that what is kept (tries, locks, refused keys, alarms
// that are taken back, the record) can ask for the proven one, and is given no other.
package evidence

// Heard is what somebody said. It may be shown, bounded and waited for while the
// conversation lasts; nothing turns it into something proven, and nothing keeps it.
type Heard[T any] struct{ said T }

// Say makes a heard value of what was said.
func Say[T any](said T) Heard[T] { return Heard[T]{said} }

// Said gives what was said.
func (h Heard[T]) Said() T { return h.said }

// Witness is a conversation whose other end has proved who it is. The zero value is none:
// the other end may be anybody.
type Witness struct{ by Ground }

// Ground is what a proof rests on.
type Ground string

// The grounds, the firm ones first.
const (
	// ByKey is a handshake with the static key, or the certificate, that is on record.
	ByKey Ground = "its key"
	// ByPath is a two-way conversation with the holder of the MAC, which told the recorded
	// serial number or endpoint reference: the most that a service without a key can prove.
	ByPath Ground = "its MAC and what it reports of itself"
)

// Of gives the witness of a conversation. It is for those who hold the conversation, the
// tongues; a test holds that nobody else calls it.
func Of(by Ground) Witness { return Witness{by} }

// Stands reports whether the other end has proved who it is.
func (w Witness) Stands() bool { return w.by != "" }

// By is what the proof rests on; "" without one.
func (w Witness) By() Ground { return w.by }

// Proven is something that was told in a conversation whose other end had proved who it
// is. The zero value is nothing.
type Proven[T any] struct {
	is T
	by Witness
}

// Prove makes what a witness has told a proven value; false where the witness is none.
func Prove[T any](w Witness, is T) (Proven[T], bool) {
	if !w.Stands() {
		return Proven[T]{}, false
	}
	return Proven[T]{is, w}, true
}

// Is gives what is proven, the zero value where nothing is.
func (p Proven[T]) Is() T { return p.is }

// Stands reports whether there is anything.
func (p Proven[T]) Stands() bool { return p.by.Stands() }

// By is what the proof rests on.
func (p Proven[T]) By() Ground { return p.by.By() }
