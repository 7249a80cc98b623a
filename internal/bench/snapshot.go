package bench

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"net/http"
	"time"

	"github.com/icholy/digest"
)

// snapshotPath is where a device with a picture gives a still of it.
const snapshotPath = "/picture/now.jpg"

// serveSnapshot gives the present picture to whoever has a password, by HTTP Digest
// (RFC 7616).
func (d *Device) serveSnapshot(w http.ResponseWriter, r *http.Request) {
	if !d.streams() || d.is(noStill) {
		http.NotFound(w, r)
		return
	}
	if !d.admitsTo(r) {
		d.asksDigest(w)
		return
	}
	w.Header().Set("Content-Type", "image/jpeg")
	_, _ = w.Write(d.picture(time.Now())) // the client may be gone
}

// asksDigest asks for a password by HTTP Digest.
func (d *Device) asksDigest(w http.ResponseWriter) {
	nonce := randomHex()
	d.mu.Lock()
	d.guard.issued[nonce] = true
	d.mu.Unlock()
	w.Header().Set("WWW-Authenticate", fmt.Sprintf(`Digest realm="%s", nonce="%s", qop="auth", algorithm=MD5`, d.realm(), nonce))
	w.WriteHeader(http.StatusUnauthorized)
}

func (d *Device) admitsTo(r *http.Request) bool {
	cred, err := digest.ParseCredentials(r.Header.Get("Authorization"))
	if err != nil {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	user, ok := d.state.users[cred.Username]
	if !ok || !d.guard.issued[cred.Nonce] || cred.URI != r.URL.RequestURI() {
		return false
	}
	chal := digest.Challenge{Realm: d.realm(), Nonce: cred.Nonce, Algorithm: "MD5", QOP: []string{"auth"}}
	want, err := digest.Digest(&chal, digest.Options{Method: r.Method, URI: cred.URI, Count: cred.Nc, Username: cred.Username, Password: user.password, Cnonce: cred.Cnonce})
	return err == nil && want.Response == cred.Response
}

// picture draws what the device sees: a sea of its own colour, under a sky, and a ship
// that moves.
func (d *Device) picture(at time.Time) []byte {
	img := image.NewRGBA(image.Rect(0, 0, stillWidth, stillHeight))
	if !d.is(blackStill) {
		if d.is(frozenStill) {
			at = time.Unix(0, 0)
		}
		hue := d.unit.mac[5]*37 + d.unit.mac[4]*11
		ship := int(at.UnixMilli()/40) % stillWidth
		for y := range stillHeight {
			for x := range stillWidth {
				c := color.RGBA{R: uint8(120 + y/6), G: uint8(160 + y/8), B: 220, A: 255}
				if y > stillHeight/2+int(hue)%60 {
					c = color.RGBA{R: 20 + hue/4, G: 90 + hue/5, B: uint8(110 + (x/16+y/16)%12), A: 255}
				}
				if dx := x - ship; dx >= 0 && dx < 90 && y > 200 && y < 250 {
					c = color.RGBA{R: 230, G: 230, B: 225, A: 255}
				}
				img.SetRGBA(x, y, c)
			}
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 60}); err != nil {
		return nil // into memory: never
	}
	return b.Bytes()
}
