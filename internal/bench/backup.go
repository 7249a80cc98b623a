package bench

import (
	"encoding/base64"
	"fmt"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"strings"
)

// Manners of a device's own backup, that others look for by name.
const (
	backsUp         = "backup"
	backsUpAttached = "backup attached"
	backsUpInside   = "backup inside"
	backupElsewhere = "backup elsewhere"
)

// backupManners are those.
var backupManners = map[string]manner{
	backsUp:         {stands: "Core Specification, GetSystemUris: it says where its backup is fetched, by HTTP Digest"},
	backsUpAttached: {stands: "Core Specification, GetSystemBackup: it sends its backup as an attachment (MTOM, XOP)"},
	backsUpInside:   {stands: "Core Specification, GetSystemBackup: its backup is inside of the answer, as base64"},
	backupElsewhere: {stands: "practice: the place of its backup has the host of somebody else"},
}

// backupPath is where a device gives its backup.
const backupPath = "/export/settings.cfg"

// backup is what the device gives away of its settings: its passwords are in it. The lock is held.
func (d *Device) backup() []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "serial=%s\naddress=%s\n", d.unit.Serial, d.state.address)
	var names []string
	for name := range d.state.users {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&b, "user.%s=%s\n", name, d.state.users[name].password)
	}
	return []byte(b.String())
}

func getSystemURIs(d *Device, _ *element) (*node, *fault) {
	at := d.serviceURL(backupPath)
	if d.is(backupElsewhere) {
		at = "http://192.0.2.99" + backupPath
	}
	return response("GetSystemUris", el(devNS, "SystemBackupUri", at))
}

// backupPart names an attached backup.
const backupPart = "part-1@device"

func getSystemBackup(d *Device, _ *element) (*node, *fault) {
	data := el(typNS, "Data", base64.StdEncoding.EncodeToString(d.backup()))
	if d.is(backsUpAttached) {
		data = el(typNS, "Data", el(xopNS, "Include").with("href", "cid:"+backupPart))
	}
	return response("GetSystemBackup", el(devNS, "BackupFiles", el(typNS, "Name", "../../settings.cfg"), data))
}

// xopNS is the namespace of XML-binary Optimized Packaging.
const xopNS = "http://www.w3.org/2004/08/xop/include"

// attach sends an answer with the backup beside it.
func (d *Device) attach(w http.ResponseWriter, answer *node) {
	d.mu.Lock()
	data, dialect := d.backup(), d.unit.model.Dialect
	d.mu.Unlock()
	m := multipart.NewWriter(w)
	w.Header().Set("Content-Type", fmt.Sprintf(`multipart/related; type="application/xop+xml"; start="<answer@device>"; start-info="application/soap+xml"; boundary="%s"`, m.Boundary()))
	head := textproto.MIMEHeader{"Content-Type": {`application/xop+xml; charset=UTF-8; type="application/soap+xml"`}, "Content-Transfer-Encoding": {"binary"}, "Content-Id": {"<answer@device>"}}
	if p, err := m.CreatePart(head); err == nil {
		_, _ = p.Write(render(dialect, envelope(nil, answer)))
	}
	head = textproto.MIMEHeader{"Content-Type": {"application/octet-stream"}, "Content-Transfer-Encoding": {"binary"}, "Content-Id": {"<" + backupPart + ">"}}
	if p, err := m.CreatePart(head); err == nil {
		_, _ = p.Write(data)
	}
	_ = m.Close() // the client may be gone
}

// serveBackup gives the backup to whoever has a password, by HTTP Digest.
func (d *Device) serveBackup(w http.ResponseWriter, r *http.Request) {
	if !d.is(backsUp) {
		http.NotFound(w, r)
		return
	}
	if !d.admitsTo(r) {
		d.asksDigest(w)
		return
	}
	d.mu.Lock()
	data := d.backup()
	d.mu.Unlock()
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write(data)
}
