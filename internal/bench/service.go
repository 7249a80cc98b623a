package bench

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// access is the class of an operation (Core Specification, access classes):
// who may call it once the device has an administrator.
type access int

const (
	preAuth access = iota
	reading        // by any user
	secret         // reading, by administrators
	writing        // by administrators
)

// operation is one operation of the device service.
type operation struct {
	access access
	strict bool // open on a strict device that has no password yet
	do     func(d *Device, body *element) (*node, *fault)
}

// fault is a refusal by the device's own rules.
type fault struct {
	code, sub, subsub, reason string
	auth                      bool // for want of a password
	status                    int  // of HTTP, instead of the model's
	retry                     time.Duration
}

func (f *fault) node() *node {
	sub := el(envNS, "Subcode", qnames(envNS, "Value", [2]string{errNS, f.sub}))
	if f.subsub != "" {
		sub.kids = append(sub.kids, el(envNS, "Subcode", qnames(envNS, "Value", [2]string{errNS, f.subsub})))
	}
	return el(envNS, "Fault",
		el(envNS, "Code", qnames(envNS, "Value", [2]string{envNS, f.code}), sub),
		el(envNS, "Reason", el(envNS, "Text", f.reason).with("xml:lang", "en")))
}

var notAuthorized = &fault{code: "Sender", sub: "NotAuthorized", reason: "The action requested requires authorization", auth: true}

func invalid(subsub, reason string) *fault {
	return &fault{code: "Sender", sub: "InvalidArgVal", subsub: subsub, reason: reason}
}

// serveSOAP answers the device service.
func (d *Device) serveSOAP(w http.ResponseWriter, r *http.Request) {
	if d.attached(w, r) {
		return
	}
	data, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return
	}
	d.mu.Lock()
	slow := d.unit.Slow + d.wakes()
	d.served++
	served := d.served
	d.mu.Unlock()
	switch {
	case d.is(stalls) && served%stallsEvery == 0:
		<-r.Context().Done() // it never answers this one
		return
	case d.is(pagesOfErrors) && served%stallsEvery == 0:
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, "<html><body><h1>Internal Server Error</h1><p>out of memory</body></html>")
		return
	}
	if slow > 0 && !sleep(r.Context(), slow) {
		return
	}
	var msg element
	if r.Method != http.MethodPost || xml.Unmarshal(data, &msg) != nil || msg.XMLName.Space != envNS {
		http.Error(w, "SOAP 1.2 wanted", http.StatusBadRequest)
		return
	}
	body := msg.find("Body")
	if len(body.Kids) == 0 {
		d.answer(w, nil, invalid("WellFormed", "empty body"))
		return
	}
	if d.is(saysMuch) {
		d.logs.add(Event{Host: d.unit.ID, What: EventWrite, Op: body.Kids[0].XMLName.Local, OK: true})
		d.answer(w, el(devNS, "Nothing"), nil)
		return
	}
	answer, f, then := d.call(r, msg.find("Header"), &body.Kids[0])
	if f == nil && (setsPassword(body.Kids[0].XMLName.Local) || writes(&body.Kids[0]) && d.is(mumblesAlways)) && d.mumbles(w) {
		if then.do != nil {
			then.do()
		}
		return
	}
	if d.fails(&body.Kids[0]) {
		if then.do != nil {
			then.do()
		}
		panic(http.ErrAbortHandler) // hangs up without an answer
	}
	if then.do != nil && then.beforeAnswer {
		then.do()
	}
	if f == nil && body.Kids[0].XMLName.Local == "GetSystemBackup" && d.is(backsUpAttached) {
		d.attach(w, answer)
		return
	}
	d.answer(w, answer, f)
	if then.do != nil && !then.beforeAnswer {
		then.do()
	}
}

// writes reports whether a request changes a setting.
func writes(req *element) bool {
	op, ok := operationOf(req)
	return ok && op.access == writing
}

// fails rolls for the faults of the site: whether this answer is lost, and whether
// the device restarts by itself.
func (d *Device) fails(req *element) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	share := d.faults.LoseRead
	if op, _ := operationOf(req); op.access == writing {
		share = d.faults.LoseAnswer
	}
	if d.roll(d.faults.Restart) {
		go d.again(d.unit.Restart, false)
	}
	return d.roll(share)
}

// effect is what an operation sets going on the device, after its answer has
// left or, for a device that loses it, before.
type effect struct {
	do           func()
	beforeAnswer bool
}

// call finds, admits and carries out an operation.
func (d *Device) call(r *http.Request, header, req *element) (*node, *fault, effect) {
	name := req.XMLName.Local
	op, ok := operationOf(req)
	if !ok || name == "GetServices" && d.unit.model.NoServices || strings.Contains(name, "OSD") && d.unit.model.Screen == "" || !d.offers(req.XMLName.Space, name) {
		return nil, &fault{code: "Sender", sub: "ActionNotSupported", reason: "The requested action is not supported"}, effect{}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	what := EventRead
	if op.access == writing {
		what = EventWrite
	}
	if f := d.admit(r, header, name, op); f != nil {
		d.log(r, what, name, false)
		return nil, f, effect{}
	}
	if w := d.unit.Window; w > 0 && op.access == writing && time.Since(d.powered) > w {
		d.log(r, what, name, false)
		return nil, &fault{code: "Sender", sub: "OperationProhibited", reason: "Settings can be changed for a while after power-on only"}, effect{}
	}
	if f := d.refuses(name, req); f != nil {
		d.log(r, what, name, false)
		return nil, f, effect{}
	}
	answer, f := op.do(d, req)
	if f == nil {
		d.shape(name, answer)
	}
	d.log(r, what, name, f == nil)
	if f != nil {
		return nil, f, effect{}
	}
	return answer, nil, d.effectOf(name)
}

// operationOf finds what a request asks for.
func operationOf(req *element) (op operation, ok bool) {
	switch req.XMLName.Space {
	case devNS:
		op, ok = operations[req.XMLName.Local]
	case medNS:
		op, ok = mediaOperations[req.XMLName.Local]
	case recNS:
		op, ok = recordingOperations[req.XMLName.Local]
	case rcvNS:
		op, ok = receiverOperations[req.XMLName.Local]
	case keystoreNS:
		op, ok = keystoreOperations[req.XMLName.Local]
	case uplinkNS:
		op, ok = uplinkOperations[req.XMLName.Local]
	}
	return op, ok
}

// admit applies the access rules. A device without an administrator lets
// everyone in; a strict one only to what gives it its first password.
func (d *Device) admit(r *http.Request, header *element, name string, op operation) *fault {
	switch {
	case name == "GetUsers" && d.is(listsUsers):
		return nil
	case d.is(secretClock) && name == "GetSystemDateAndTime" && !d.fresh():
	case op.access == preAuth:
		return nil
	}
	if d.fresh() {
		if name == "GetUsers" && d.is(hidesUsers) {
			return notAuthorized
		}
		if d.unit.model.Strict && !op.strict {
			return notAuthorized
		}
		return nil
	}
	v, level := d.check(r, header)
	switch {
	case v == welcome && op.access > reading && level != "Administrator":
		return &fault{code: "Sender", sub: "NotAuthorized", reason: "Not for users of this level", status: http.StatusForbidden}
	case v == welcome:
		return nil
	case v == wrong && d.shut() && d.unit.model.LockAnswer == "fault":
		return &fault{code: "Sender", sub: "NotAuthorized", reason: "The account is locked after too many attempts", auth: true}
	case v == wrong && d.shut() && d.unit.model.LockAnswer == "status":
		return &fault{code: "Sender", sub: "NotAuthorized", reason: "Not now", status: http.StatusLocked, retry: time.Until(d.guard.locked)}
	}
	return notAuthorized
}

// answer writes an answer or a fault in the model's manner.
func (d *Device) answer(w http.ResponseWriter, body *node, f *fault) {
	model := d.unit.model
	status := http.StatusOK
	if f == notThere && d.is(emptyAnswers) {
		w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
		w.WriteHeader(status)
		return
	}
	if f != nil {
		status = cmp.Or(f.status, model.FaultCode)
		switch {
		case d.is(oldFaults):
			body = f.old()
		case d.is(securityFaults) && f.auth:
			body = (&fault{code: "Sender", sub: "InvalidSecurity", reason: "An error was discovered"}).node()
		default:
			if f, body = d.blames(f); f.status != 0 {
				status = f.status
			}
		}
		if f.retry > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(f.retry/time.Second)))
		}
		if f.auth {
			d.mu.Lock()
			if d.challenge(w.Header()) {
				status = http.StatusUnauthorized
			}
			d.mu.Unlock()
		}
	}
	if f != nil && f.auth && d.is(forbids) {
		w.WriteHeader(http.StatusForbidden)
		return
	}
	out := d.octets(render(model.Dialect, envelope(nil, body)))
	if d.is(junk) {
		out = append(bytes.Replace(out, []byte("rev B"), []byte("rev B & \x00C"), 1), "\x00\x00\r\n<!-- -->"...)
	}
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	if model.Dialect == "default" {
		w.Header().Set("Content-Length", fmt.Sprint(len(out)))
	}
	d.heads(w.Header())
	w.WriteHeader(status)
	if every := d.unit.Dribble; every > 0 {
		for i := range out {
			if _, err := w.Write(out[i : i+1]); err != nil || !sleep(d.ctx, every) {
				return
			}
			_ = http.NewResponseController(w).Flush()
		}
		return
	}
	if model.Dialect != "wild" || d.is(oldHTTP) { // which has no chunks
		_, _ = w.Write(out) // the client may be gone; nothing to do about it
		return
	}
	// In pieces, which makes the transfer chunked.
	for i := 0; i < len(out); i += 301 {
		_, _ = w.Write(out[i:min(i+301, len(out))])
		http.NewResponseController(w).Flush()
	}
}

func setsPassword(op string) bool { return op == "CreateUsers" || op == "SetUser" }

// mumbles answers a password that was set in one of the manners that are no answer.
func (d *Device) mumbles(w http.ResponseWriter) bool {
	switch {
	case d.is(swallows):
		d.mu.Lock()
		again := d.swallowed
		d.swallowed = true
		d.mu.Unlock()
		if again {
			return false
		}
		panic(http.ErrAbortHandler)
	case d.is(saysOK):
		w.Header().Set("Content-Type", "text/plain")
		_, _ = w.Write([]byte("OK\n"))
	case d.is(saysBlank):
		w.WriteHeader(http.StatusNoContent)
	case d.is(saysCut):
		w.Header().Set("Content-Type", "application/soap+xml")
		whole := render(d.unit.model.Dialect, envelope(nil, el(devNS, "CreateUsersResponse")))
		_, _ = w.Write(whole[:len(whole)/2])
	case d.is(saysGo):
		w.Header().Set("Location", "/welcome.html")
		w.WriteHeader(http.StatusSeeOther)
	default:
		return false
	}
	return true
}

// moveTime is how long a device that needs no restart is away while it moves.
const moveTime = 200 * time.Millisecond

// effectOf tells what an operation sets going. The lock is held.
func (d *Device) effectOf(op string) effect {
	switch {
	case op == "SystemReboot" && d.is(lateRestart):
		return effect{do: func() { time.AfterFunc(restartLate, func() { d.again(d.unit.Restart, false) }) }}
	case op == "SystemReboot":
		return effect{do: func() { d.again(d.unit.Restart, false) }}
	case op == "SetSystemFactoryDefault":
		return effect{func() {
			if d.unit.LoseBoot {
				d.host.down()
			}
			d.Reset()
		}, d.unit.LoseBoot}
	case op == "SetNetworkInterfaces" && d.is(lateMove):
		return effect{do: func() { time.AfterFunc(d.host.port.sw.pace.Of(moveLate), func() { d.again(moveTime, false) }) }}
	case op == "SetNetworkInterfaces" && d.is(restartsItself):
		return effect{do: func() { d.again(d.unit.Restart, false) }}
	case op == "SetNetworkInterfaces" && !d.unit.model.NeedsBoot && !d.is(silentRestart):
		lose := d.unit.LoseMove
		if d.unit.model.RenewsCert {
			d.cert = selfSigned(d.unit)
		}
		return effect{func() { d.again(moveTime, lose) }, lose}
	}
	return effect{}
}

func response(name string, content ...any) (*node, *fault) {
	return el(devNS, name+"Response", content...), nil
}

func trueText(s string) bool { return strings.EqualFold(s, "true") || s == "1" }
