package bench

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"

	"janustat/internal/nic"
)

type receiver struct {
	token, uri, user, password string
	mode, stream, protocol     string

	state, fault string
	changed      chan struct{} // closed when it is configured anew
}

func (r *recorder) receiver(token string) *receiver {
	at := slices.IndexFunc(r.receivers, func(v receiver) bool { return v.token == token })
	if at < 0 {
		return nil
	}
	return &r.receivers[at]
}

// receiverNode tells a receiver; its password is blotted out.
func receiverNode(d *Device, v *receiver) []any {
	u, err := url.Parse(v.uri)
	shown := v.uri
	if err == nil && d.is(showsPort) && u.Port() == "" {
		u.Host += ":554"
		shown = u.String()
	}
	if d.is(dropsUsers) {
		v = &receiver{token: v.token, uri: v.uri, mode: v.mode, stream: v.stream, protocol: v.protocol}
	}
	if err == nil && v.user != "" {
		u.User = url.UserPassword(v.user, "xxxxx")
		shown = u.String()
	}
	return []any{el(typNS, "Token", v.token), el(typNS, "Configuration", el(typNS, "Mode", cmp.Or(v.mode, autoConnect)), el(typNS, "MediaUri", shown),
		el(typNS, "StreamSetup", el(typNS, "Stream", cmp.Or(v.stream, "RTP-Unicast")), el(typNS, "Transport", el(typNS, "Protocol", cmp.Or(v.protocol, "RTSP")))))}
}

func getReceivers(d *Device, _ *element) (*node, *fault) {
	var list []*node
	for i := range d.state.recorder.receivers {
		list = append(list, el(rcvNS, "Receivers", receiverNode(d, &d.state.recorder.receivers[i])...))
	}
	return answerOf(rcvNS, "GetReceivers", list)
}

func getReceiverState(d *Device, req *element) (*node, *fault) {
	v := d.state.recorder.receiver(req.find("ReceiverToken").value())
	if v == nil {
		return nil, invalid("UnknownToken", "There is no such receiver")
	}
	state := v.state
	if state == "" {
		state = "NotConnected"
	}
	return answerOf(rcvNS, "GetReceiverState", el(rcvNS, "ReceiverState", el(typNS, "State", state), el(typNS, "AutoCreated", false)))
}

func receiverCapabilities(d *Device, _ *element) (*node, *fault) {
	room := d.unit.model.Channels + 4
	if d.is(fewReceivers) {
		room = 1
	}
	return answerOf(rcvNS, "GetServiceCapabilities", el(rcvNS, "Capabilities").with("RTP_RTSP_TCP", fmt.Sprint(!d.is(onlyUDP))).with("SupportedReceivers", fmt.Sprint(room)))
}

func deleteReceiver(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	token := req.find("ReceiverToken").value()
	if slices.ContainsFunc(r.jobs, func(j recordingJob) bool { return j.receiver == token }) {
		return nil, &fault{code: "Sender", sub: "Action", subsub: "CannotDeleteReceiver", reason: "The receiver is in use"}
	}
	r.drop(token)
	return answerOf(rcvNS, "DeleteReceiver")
}

func setReceiverMode(d *Device, req *element) (*node, *fault) {
	v, mode := d.state.recorder.receiver(req.find("ReceiverToken").value()), req.find("Mode").value()
	if v == nil || !slices.Contains([]string{autoConnect, "AlwaysConnect", neverConnect}, mode) {
		return nil, invalid("UnknownToken", "There is no such receiver")
	}
	v.mode, v.state, v.fault = mode, "", ""
	d.anew(v)
	return answerOf(rcvNS, "SetReceiverMode")
}

// The modes of a receiver (ReceiverMode).
const (
	autoConnect  = "AutoConnect"
	neverConnect = "NeverConnect"
)

// configure reads what a receiver is to connect to.
func (d *Device) configure(v *receiver, req *element) *fault {
	k := req.find("Configuration")
	u, err := url.Parse(k.find("MediaUri").value())
	protocol := k.find("StreamSetup", "Transport", "Protocol").value()
	if err != nil || !slices.Contains([]string{"rtsp", "rtsps", "http"}, u.Scheme) || (u.Scheme == "http") != (protocol == "HTTP") ||
		u.Scheme != "http" && protocol != "UDP" && (protocol != "RTSP" || d.is(onlyUDP)) {
		return invalid("BadConfiguration", "The configuration is invalid")
	}
	v.mode, v.stream, v.protocol = k.find("Mode").value(), k.find("StreamSetup", "Stream").value(), protocol
	v.user = u.User.Username()
	v.password, _ = u.User.Password()
	u.User = nil
	v.uri, v.state, v.fault = u.String(), "", ""
	if v.changed != nil {
		close(v.changed)
	}
	v.changed = make(chan struct{})
	return nil
}

func createReceiver(d *Device, req *element) (*node, *fault) {
	r := &d.state.recorder
	if d.is(ownReceivers) {
		return nil, &fault{code: "Receiver", sub: "ActionNotSupported", reason: "Receivers are made with jobs"}
	}
	v := receiver{}
	if f := d.configure(&v, req); f != nil {
		return nil, f
	}
	if room := map[bool]int{true: 1, false: d.unit.model.Channels + 4}[d.is(fewReceivers)]; len(r.receivers) >= room {
		return nil, &fault{code: "Receiver", sub: "Action", subsub: "MaxReceivers", reason: "The device has no room for another receiver"}
	}
	v.token = r.token("Rcv")
	r.receivers = append(r.receivers, v)
	d.had = append(d.had, v.password)
	return answerOf(rcvNS, "CreateReceiver", el(rcvNS, "Receiver", receiverNode(d, &v)...))
}

func configureReceiver(d *Device, req *element) (*node, *fault) {
	v := d.state.recorder.receiver(req.find("ReceiverToken").value())
	if v == nil {
		return nil, invalid("UnknownToken", "There is no such receiver")
	}
	if f := d.configure(v, req); f != nil {
		return nil, f
	}
	d.had = append(d.had, v.password)
	if slices.ContainsFunc(d.state.recorder.jobs, func(j recordingJob) bool { return j.receiver == v.token }) {
		d.startReceiver(v)
	}
	return answerOf(rcvNS, "ConfigureReceiver")
}

// retryAfter is how long a recorder waits before it tries a camera again.
const retryAfter = 1500 * time.Millisecond

// startReceiver has a recorder watch a camera until the receiver is configured anew, or
// the recorder goes down. The lock is held.
func (d *Device) startReceiver(v *receiver) {
	if v.mode == neverConnect || v.uri == "" || v.protocol == "RTSP" && d.is(darkTCP) {
		v.state = "NotConnected"
		return
	}
	token, uri, user, password, changed := v.token, v.uri, v.user, v.password, v.changed
	if changed == nil {
		changed = make(chan struct{})
		v.changed = changed
	}
	stopped := make(chan struct{})
	d.host.onDown(func() { close(stopped) })
	note := func(state, fault string) {
		d.mu.Lock()
		defer d.mu.Unlock()
		if now := d.state.recorder.receiver(token); now != nil && now.changed == changed {
			now.state, now.fault = state, fault
		}
	}
	over := func() bool {
		select {
		case <-changed:
			return true
		case <-stopped:
			return true
		case <-d.ctx.Done():
			return true
		default:
			return false
		}
	}
	dial := func(to netip.AddrPort) (net.Conn, error) {
		c, err := d.host.dial(to)
		if err == nil && over() { // it was told otherwise while it waited for an answer
			c.Close()
			return nil, net.ErrClosed
		}
		return c, err
	}
	go func() {
		for !over() {
			err := watch(dial, uri, user, password, func() {
				note("Connected", "")
			})
			if over() {
				return
			}
			note("NotConnected", strings.TrimSpace(err.Error()))
			select {
			case <-changed:
			case <-stopped:
			case <-time.After(retryAfter):
			case <-d.ctx.Done():
			}
		}
	}()
}

// resumeReceivers has a recorder that has started watch what it watched before.
func (d *Device) resumeReceivers() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, j := range d.state.recorder.jobs {
		if v := d.state.recorder.receiver(j.receiver); v != nil {
			v.state, v.fault = "", ""
			d.startReceiver(v)
		}
	}
}

// dial opens a TCP connection from a host.
func (h *host) dial(to netip.AddrPort) (net.Conn, error) {
	h.mu.RLock()
	s := h.stack
	h.mu.RUnlock()
	if s == nil {
		return nil, net.ErrClosed
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return gonet.DialContextTCP(ctx, s, nic.Full(to), ipv4.ProtocolNumber)
}
