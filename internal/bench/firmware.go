package bench

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"time"
)

// Manners of a device whose firmware can be replaced, that others look for by name.
const (
	takesFirmware     = "firmware"
	firmwareAttached  = "firmware attached"
	firmwareElsewhere = "firmware elsewhere"
	firmwareResets    = "firmware resets"
	firmwareByDHCP    = "firmware to DHCP"
	firmwareSame      = "firmware without effect"
	firmwareOther     = "firmware of another name"
	firmwareTwice     = "firmware in two starts"
	firmwareSlow      = "firmware slow"
	firmwareLost      = "firmware answer lost"
	firmwareHalf      = "firmware half taken"
	firmwareBreaks    = "firmware breaks"
	firmwareDelay     = "firmware after a delay"
)

// firmwareManners are those.
var firmwareManners = map[string]manner{
	takesFirmware:     {stands: "Core Specification, StartFirmwareUpgrade: its firmware is sent to where it says, by HTTP POST, with HTTP Digest"},
	firmwareAttached:  {stands: "Core Specification, UpgradeSystemFirmware: its firmware is attached to the question (MTOM, XOP)"},
	firmwareElsewhere: {stands: "practice: the place for its firmware has the host of somebody else"},
	firmwareResets:    {stands: "practice: it loses its settings by new firmware"},
	firmwareByDHCP:    {stands: "practice: it asks for its address by DHCP after new firmware"},
	firmwareSame:      {stands: "practice: it takes the image, restarts, and has the version that it had"},
	firmwareOther:     {stands: "practice: it calls its new version otherwise than the file"},
	firmwareTwice:     {stands: "practice: it restarts with the former version, and then with the new one"},
	firmwareSlow:      {stands: "practice: it answers for a while yet, until it restarts with its firmware"},
	firmwareLost:      {stands: "Core Specification, UpgradeSystemFirmware: it may restart before it has answered"},
	firmwareHalf:      {stands: "practice: it loses power when half of the image has come, once"},
	firmwareBreaks:    {stands: "practice: it does not come back"},
	firmwareDelay:     {stands: "Core Specification, StartFirmwareUpgrade: UploadDelay, before which it takes no image"},
}

// imageHead begins an image for devices of the bench.
const imageHead = "janustat bench image\n"

// Image makes firmware of so many bytes, at least, that devices of a model take.
func Image(maker, model, version string, size int) []byte {
	head := fmt.Sprintf("%s%s\n%s\n%s\n", imageHead, maker, model, version)
	return append([]byte(head), bytes.Repeat([]byte{0x5a}, max(0, size-len(head)))...)
}

// version is that of the device's firmware. The lock is held.
func (d *Device) version() string { return cmp.Or(d.state.firmware, d.unit.model.Firmware) }

// Firmware gives the version that the device has.
func (d *Device) Firmware() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.version()
}

const (
	uploadPath = "/maintenance/image"
	// Of the slow ones.
	writesFor  = 25 * time.Second
	takesAfter = 3 * time.Second
)

func startFirmware(d *Device, _ *element) (*node, *fault) {
	d.flashFrom = time.Now()
	delay := "PT0S"
	if d.is(firmwareDelay) {
		d.flashFrom, delay = d.flashFrom.Add(takesAfter), fmt.Sprintf("PT%dS", takesAfter/time.Second)
	}
	at := d.serviceURL(uploadPath)
	if d.is(firmwareElsewhere) {
		at = "http://192.0.2.99" + uploadPath
	}
	return response("StartFirmwareUpgrade", el(devNS, "UploadUri", at), el(devNS, "UploadDelay", delay), el(devNS, "ExpectedDownTime", "PT1M30.5S"))
}

// upgradeFirmware is only reached without an attachment.
func upgradeFirmware(*Device, *element) (*node, *fault) {
	return nil, invalid("InvalidFirmware", "nothing is attached")
}

// serveUpload takes an image from whoever has a password, by HTTP Digest.
func (d *Device) serveUpload(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	from := d.flashFrom
	d.mu.Unlock()
	switch {
	case !d.is(takesFirmware):
		http.NotFound(w, r)
		return
	case !d.admitsTo(r):
		d.asksDigest(w)
		return
	case r.Method != http.MethodPost:
		http.Error(w, "POST wanted", http.StatusMethodNotAllowed)
		return
	case from.IsZero() || time.Now().Before(from):
		http.Error(w, "not now", http.StatusConflict)
		return
	}
	version, err := d.takeImage(r.Body, r.ContentLength)
	switch {
	case errors.Is(err, errPower):
		panic(http.ErrAbortHandler)
	case err != nil:
		http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
		return
	}
	d.mu.Lock()
	d.log(r, EventWrite, "Firmware "+version, true)
	d.mu.Unlock()
	d.flash(version)
	if d.is(firmwareLost) {
		panic(http.ErrAbortHandler)
	}
	w.WriteHeader(http.StatusOK)
}

var errPower = errors.New("the power has failed")

// takeImage reads an image, and gives its version where it is for this device.
func (d *Device) takeImage(from io.Reader, size int64) (version string, err error) {
	if d.is(firmwareHalf) && !d.halved.Swap(true) {
		_, _ = io.CopyN(io.Discard, from, size/2)
		d.Restart()
		return "", errPower
	}
	r := bufio.NewReader(from)
	var lines []string
	for range strings.Count(imageHead, "\n") + 3 {
		line, err := r.ReadString('\n')
		if err != nil {
			break
		}
		lines = append(lines, strings.TrimSuffix(line, "\n"))
	}
	if _, err := io.Copy(io.Discard, r); err != nil {
		return "", err
	}
	m := d.unit.model
	if len(lines) != 4 || lines[0]+"\n" != imageHead || lines[1] != m.Make || lines[2] != m.Name {
		return "", errors.New("this image is not for " + m.Name)
	}
	return lines[3], nil
}

// flash has the device restart with a version, once its answer has left.
func (d *Device) flash(version string) {
	d.mu.Lock()
	was := d.version()
	switch {
	case d.is(firmwareSame):
		version = was
	case d.is(firmwareOther):
		version += " (final)"
	}
	d.flashFrom = time.Time{}
	d.mu.Unlock()
	set := func() {
		d.mu.Lock()
		d.state.firmware = version
		if d.is(firmwareByDHCP) {
			d.state.dhcp, d.state.next = true, nil
		}
		d.mu.Unlock()
	}
	pace := d.host.port.sw.pace
	switch {
	case d.is(firmwareBreaks):
		time.AfterFunc(moveTime, d.host.down)
		return
	case d.is(firmwareSlow):
		time.AfterFunc(pace.Of(writesFor), func() {
			set()
			d.Restart()
		})
		return
	case d.is(firmwareTwice):
		time.AfterFunc(pace.Of(d.unit.Restart+8*time.Second), func() {
			set()
			d.Restart()
		})
	case d.is(firmwareResets):
		set()
		d.Reset()
		return
	default:
		set()
	}
	d.again(d.unit.Restart, d.is(firmwareLost))
}

// attached reads a message with an image attached, and answers it. It reports whether it was one.
func (d *Device) attached(w http.ResponseWriter, r *http.Request) bool {
	kind, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/related" {
		return false
	}
	m := multipart.NewReader(r.Body, params["boundary"])
	var msg element
	first, err := m.NextRawPart()
	if err == nil {
		err = xml.NewDecoder(io.LimitReader(first, 1<<20)).Decode(&msg)
	}
	body := msg.find("Body")
	if err != nil || len(body.Kids) == 0 {
		http.Error(w, "SOAP 1.2 wanted", http.StatusBadRequest)
		return true
	}
	d.mu.Lock()
	f := d.admit(r, msg.find("Header"), body.Kids[0].XMLName.Local, operations["UpgradeSystemFirmware"])
	d.mu.Unlock()
	if f != nil || !d.is(firmwareAttached) || body.Kids[0].XMLName.Local != "UpgradeSystemFirmware" {
		if f == nil {
			f = &fault{code: "Sender", sub: "ActionNotSupported", reason: "The requested action is not supported"}
		}
		d.answer(w, nil, f)
		return true
	}
	part, err := m.NextRawPart()
	if err != nil {
		d.answer(w, nil, invalid("InvalidFirmware", "nothing is attached"))
		return true
	}
	version, err := d.takeImage(part, r.ContentLength)
	if err == nil {
		_, err = io.Copy(io.Discard, r.Body)
	}
	switch {
	case errors.Is(err, errPower):
		panic(http.ErrAbortHandler)
	case err != nil:
		d.answer(w, nil, invalid("InvalidFirmware", err.Error()))
		return true
	}
	d.mu.Lock()
	d.log(r, EventWrite, "Firmware "+version, true)
	d.mu.Unlock()
	d.flash(version)
	if d.is(firmwareLost) {
		panic(http.ErrAbortHandler)
	}
	answer, _ := response("UpgradeSystemFirmware", el(devNS, "Message", "restarting"))
	d.answer(w, answer, nil)
	return true
}
