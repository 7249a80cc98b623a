package bench

import (
	"bytes"
	"context"
	"crypto/sha1" //nolint:gosec // the UsernameToken profile demands SHA-1
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/icholy/digest"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// unit makes a device of a model, not plugged into a running site: its service
// is spoken to directly.
func unit(t *testing.T, model string, more string) (*Device, *Log) {
	s, err := Parse([]byte(fmt.Sprintf("site: x\ndevices: [{id: d, model: %s, mac: \"02:e4:42:00:01:01\", serial: S1%s}]\n", model, more)))
	require.NoError(t, err)
	logs := NewLog(nil)
	return newDevice(t.Context(), NewSwitch(0, 0, 1), s.Devices[0], logs), logs
}

// ask posts an operation, written as no maker's example has it, and gives the
// status and the body's first element.
func ask(t *testing.T, d *Device, client *http.Client, header, inner string) (int, *element) {
	srv := httptest.NewServer(http.HandlerFunc(d.serveSOAP))
	defer srv.Close()
	text := `<Envelope xmlns="` + envNS + `"><Header>` + header + `</Header><Body>` + inner + `</Body></Envelope>`
	res, err := client.Post(srv.URL, "application/soap+xml", strings.NewReader(text))
	require.NoError(t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	var e element
	require.NoError(t, xml.Unmarshal(b, &e), string(b))
	return res.StatusCode, &e.find("Body").Kids[0]
}

func op(name, inner string) string {
	return fmt.Sprintf(`<%s xmlns="%s">%s</%s>`, name, devNS, inner, name)
}

func newUser(name, password, level string) string {
	return op("CreateUsers", "<User><Username>"+name+"</Username><Password>"+password+"</Password><UserLevel>"+level+"</UserLevel></User>")
}

func sub(e *element) string {
	v := e.find("Code", "Subcode", "Value").value()
	return v[strings.LastIndex(v, ":")+1:]
}

func TestEveryModelAnswersInItsOwnManner(t *testing.T) {
	models, err := builtinModels()
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(models), 8)
	shapes := map[string]bool{}
	for name, m := range models {
		if m.Hail == hailOnly {
			continue
		}
		d, _ := unit(t, name, "")
		status, answer := ask(t, d, http.DefaultClient, "", op("GetSystemDateAndTime", ""))
		assert.Equal(t, 200, status, name)
		assert.NotEmpty(t, answer.find("SystemDateAndTime", "UTCDateTime", "Date", "Year").value(), name)
		shapes[m.Dialect] = true
		status, answer = ask(t, d, http.DefaultClient, "", op("GetServices", ""))
		if m.NoServices {
			assert.Equal(t, "ActionNotSupported", sub(answer), name)
			assert.Equal(t, m.FaultCode, status, name)
			continue
		}
		assert.Greater(t, len(answer.Kids), 1, name)
	}
	assert.Len(t, shapes, 3)
}

func TestDialectsSayTheSame(t *testing.T) {
	root := envelope(nil, el(devNS, "Answer", el(typNS, "Text", `<&'">`).with("token", `a"b`), qnames(wsdNS, "Types", [2]string{netNS, "NetworkVideoTransmitter"})))
	for _, dialect := range []string{"declared", "default", "wild"} {
		var e element
		text := render(dialect, root)
		require.NoError(t, xml.Unmarshal(text, &e), string(text))
		assert.Equal(t, xml.Name{Space: envNS, Local: "Envelope"}, e.XMLName)
		got := e.find("Body", "Answer", "Text")
		assert.Equal(t, `<&'">`, got.value(), dialect)
		assert.Equal(t, typNS, got.XMLName.Space)
		assert.True(t, slices.ContainsFunc(got.Attrs, func(a xml.Attr) bool { return a.Name.Local == "token" && a.Value == `a"b` }), dialect)
		assert.Contains(t, e.find("Body", "Answer", "Types").value(), ":NetworkVideoTransmitter")
		var odd element
		require.NoError(t, xml.Unmarshal(render(dialect, el("urn:of-nobody", "Answer", el(recNS, "A", "1"), el("urn:of-nobody", "B", "2"))), &odd))
		assert.Equal(t, "1", odd.find("A").value(), dialect)
		assert.Equal(t, xml.Name{Space: "urn:of-nobody", Local: "B"}, odd.find("B").XMLName, dialect)
	}
	assert.NotContains(t, string(render("default", root)), "SOAP-ENV")
}

func TestAFreshDeviceIsOpenUntilItHasAnAdministrator(t *testing.T) {
	d, logs := unit(t, "verrine-dome", "")
	status, _ := ask(t, d, http.DefaultClient, "", op("GetNetworkInterfaces", ""))
	assert.Equal(t, 200, status)
	_, answer := ask(t, d, http.DefaultClient, "", newUser("viewer", "Quay-side7", "User"))
	assert.Equal(t, "InvalidArgVal", sub(answer), "the first user is an administrator")
	for _, weak := range []string{"Quay7", "quay-side7", "Quay-sides", "xAdmin-12"} {
		_, answer = ask(t, d, http.DefaultClient, "", newUser("admin", weak, "Administrator"))
		assert.Equal(t, "OperationProhibited", sub(answer), weak)
	}
	status, _ = ask(t, d, http.DefaultClient, "", newUser("admin", "Quay-side7", "Administrator"))
	assert.Equal(t, 200, status)
	status, answer = ask(t, d, http.DefaultClient, "", op("GetNetworkInterfaces", ""))
	assert.Equal(t, 400, status)
	assert.Equal(t, "NotAuthorized", sub(answer))
	status, _ = ask(t, d, http.DefaultClient, "", op("GetSystemDateAndTime", ""))
	assert.Equal(t, 200, status, "the clock is for everyone")
	for _, e := range logs.Events() {
		assert.NotEqual(t, EventWrongPassword, e.What)
	}
}

func TestAStrictDeviceRefusesUntilItHasAPassword(t *testing.T) {
	d, _ := unit(t, "oakhollow-eye", "")
	for _, name := range []string{"GetDeviceInformation", "GetNetworkInterfaces", "SetScopes", "SystemReboot"} {
		status, _ := ask(t, d, http.DefaultClient, "", op(name, ""))
		assert.Equal(t, 401, status, name)
	}
	for _, name := range []string{"GetUsers", "GetServices", "GetPasswordComplexityConfiguration"} {
		status, _ := ask(t, d, http.DefaultClient, "", op(name, ""))
		assert.Equal(t, 200, status, name)
	}
}

// token is a UsernameToken computed here, by the profile's formula.
func token(user, password string, at time.Time, nonce string) string {
	created := at.UTC().Format(time.RFC3339)
	return `<Security><UsernameToken><Username>` + user + `</Username><Password>` + digestOf(nonce, created, password) + `</Password><Nonce>` +
		base64.StdEncoding.EncodeToString([]byte(nonce)) + `</Nonce><Created>` + created + `</Created></UsernameToken></Security>`
}

func TestTokens(t *testing.T) {
	d, logs := unit(t, "verrine-dome", ", password: Harbour-Light-42, clock: -61h")
	theirs := time.Now().Add(-61 * time.Hour)
	for name, c := range map[string]struct {
		header string
		status int
	}{
		"right":                  {token("admin", "Harbour-Light-42", theirs, "n1"), 200},
		"by our clock, not its":  {token("admin", "Harbour-Light-42", time.Now(), "n2"), 400},
		"wrong password":         {token("admin", "Harbour-Light-43", theirs, "n3"), 400},
		"someone unknown":        {token("root", "Harbour-Light-42", theirs, "n4"), 400},
		"digest, which it lacks": {"", 400},
	} {
		status, _ := ask(t, d, http.DefaultClient, c.header, op("GetNetworkInterfaces", ""))
		assert.Equal(t, c.status, status, name)
	}
	replay := token("admin", "Harbour-Light-42", theirs, "n9")
	status, _ := ask(t, d, http.DefaultClient, replay, op("GetUsers", ""))
	require.Equal(t, 200, status)
	status, _ = ask(t, d, http.DefaultClient, replay, op("GetUsers", ""))
	assert.Equal(t, 400, status, "a token is good for once")
	assert.NotEmpty(t, logs.Events())
}

// Who may do what by the default access policy of the standard (Core Specification).
func TestLevelsOfUsers(t *testing.T) {
	for _, model := range []string{"verrine-dome", "oakhollow-eye"} {
		d, _ := unit(t, model, ", password: Harbour-Light-42")
		d.state.users["viewer"] = account{"View-the-quay-7", "User"}
		d.state.users["watch"] = account{"Watch-the-quay-7", "Operator"}
		for user, want := range map[string]map[string]int{
			"admin":  {"GetNetworkInterfaces": 200, "GetUsers": 200, "SetDNS": 200},
			"watch":  {"GetNetworkInterfaces": 200, "GetUsers": 403, "SetDNS": 403},
			"viewer": {"GetNetworkInterfaces": 200, "GetUsers": 403, "SetDNS": 403},
		} {
			password := d.state.users[user].password
			for name, status := range want {
				client, header := http.DefaultClient, token(user, password, time.Now(), user+name)
				if d.unit.model.Auth != "token" {
					client, header = &http.Client{Transport: &digest.Transport{Username: user, Password: password}}, ""
				}
				got, _ := ask(t, d, client, header, op(name, ""))
				assert.Equal(t, status, got, "%s: %s by %s", model, name, user)
			}
		}
	}
}

func TestFiveWrongPasswordsLock(t *testing.T) {
	d, logs := unit(t, "verrine-dome", ", password: Harbour-Light-42")
	for i := range lockAfter {
		ask(t, d, http.DefaultClient, token("admin", "guess", time.Now(), fmt.Sprint("w", i)), op("GetUsers", ""))
	}
	status, _ := ask(t, d, http.DefaultClient, token("admin", "Harbour-Light-42", time.Now(), "right"), op("GetUsers", ""))
	assert.Equal(t, 400, status)
	last := logs.Events()[len(logs.Events())-2:]
	assert.Equal(t, EventLocked, last[0].What)
}

func TestDigests(t *testing.T) {
	for model, algorithms := range map[string][]string{"verrine-bullet": {"MD5"}, "brightmoor-recorder": {"SHA-256"}, "oakhollow-eye": {"MD5", "SHA-256"}} {
		for _, password := range []string{"Harbour-Light-42", "guess"} {
			for _, want := range algorithms {
				d, _ := unit(t, model, ", password: Harbour-Light-42")
				offered := []string{}
				client := &http.Client{Transport: &digest.Transport{Username: "admin", Password: password, FindChallenge: func(h http.Header) (*digest.Challenge, error) {
					var pick *digest.Challenge
					for _, line := range h.Values("WWW-Authenticate") {
						c, err := digest.ParseChallenge(line)
						if err != nil {
							return nil, err
						}
						offered = append(offered, c.Algorithm)
						if c.Algorithm == want {
							pick = c
						}
					}
					return pick, nil
				}}}
				status, _ := ask(t, d, client, "", op("GetUsers", ""))
				if password == "guess" {
					assert.Equal(t, 401, status, model)
					continue
				}
				assert.Equal(t, 200, status, "%s with %s", model, want)
				assert.Equal(t, algorithms, offered, model)
			}
		}
	}
}

func TestSettingsTakeEffectWhenTheModelSaysSo(t *testing.T) {
	set := op("SetNetworkInterfaces", `<InterfaceToken>eth0</InterfaceToken><NetworkInterface><IPv4><Manual><Address>10.61.8.42</Address><PrefixLength>23</PrefixLength></Manual><DHCP>false</DHCP></IPv4></NetworkInterface>`)
	d, _ := unit(t, "verrine-bullet", "")
	_, answer := ask(t, d, http.DefaultClient, "", set)
	assert.Equal(t, "true", answer.find("RebootNeeded").value())
	_, answer = ask(t, d, http.DefaultClient, "", op("SetNetworkDefaultGateway", "<IPv4Address>10.61.8.1</IPv4Address>"))
	assert.Equal(t, "SetNetworkDefaultGatewayResponse", answer.XMLName.Local, "the gateway may be in the subnet to come")
	_, answer = ask(t, d, http.DefaultClient, "", op("SetNetworkDefaultGateway", "<IPv4Address>10.99.0.1</IPv4Address>"))
	assert.Equal(t, "InvalidArgVal", sub(answer))
	for name, bad := range map[string]string{
		"token": strings.Replace(set, "eth0", "eth9", 1), "address": strings.Replace(set, "10.61.8.42", "ten", 1),
		"prefix": strings.Replace(set, ">23<", ">33<", 1), "dhcp": strings.Replace(set, "false", "true", 1),
	} {
		_, answer = ask(t, d, http.DefaultClient, "", bad)
		assert.Equal(t, "InvalidArgVal", sub(answer), name)
	}
}

func TestSwitchLearnsAndFloods(t *testing.T) {
	sw := NewSwitch(0, 0, 1)
	var mu sync.Mutex
	got := map[string]int{}
	arrived := make(chan struct{}, 100)
	plug := func(name string) *Port {
		return sw.Plug(func([]byte) { mu.Lock(); got[name]++; mu.Unlock(); arrived <- struct{}{} }, nil)
	}
	a, b, c := plug("a"), plug("b"), plug("c")
	macA, macB := device.MAC{2, 0, 0, 0, 0, 1}, device.MAC{2, 0, 0, 0, 0, 2}
	frame := func(from, to device.MAC) []byte { return append(append(append([]byte{}, to[:]...), from[:]...), 8, 6) }
	wait := func(n int) {
		for range n {
			<-arrived
		}
	}
	a.Send(frame(macA, macB)) // unknown: to everyone else
	wait(2)
	b.Send(frame(macB, macA)) // known: to a alone
	wait(1)
	a.Send(frame(macA, macB)) // learnt by now
	wait(1)
	c.Send([]byte{1, 2, 3}) // no frame
	b.Unplug()
	a.Send(frame(macA, macB)) // unknown again: b is gone
	wait(1)
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, map[string]int{"a": 1, "b": 2, "c": 2}, got)
}

func TestLossIsTheShareAskedForAndRepeats(t *testing.T) {
	run := func(seed uint64) (pattern []bool) {
		sw := NewSwitch(0.2, 0, seed)
		a := sw.Plug(func([]byte) {}, nil)
		p := &Port{sw: sw, queue: make(chan delivery, 10_000), closed: make(chan struct{}), chance: a.chance}
		for range 5000 {
			before := len(p.queue)
			p.take(nil)
			pattern = append(pattern, len(p.queue) > before)
		}
		return pattern
	}
	first := run(7)
	assert.Equal(t, first, run(7))
	assert.NotEqual(t, first, run(8))
	kept := 0
	for _, k := range first {
		if k {
			kept++
		}
	}
	assert.InDelta(t, 4000, kept, 120)
}

func TestHostsAnswerARPForThemselvesOnly(t *testing.T) {
	s, err := Parse([]byte("site: x\nothers: [{id: r, role: router, mac: \"02:5c:00:00:00:01\", address: 10.61.8.1/23}]\n"))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	b, err := Start(ctx, s, NewLog(nil))
	require.NoError(t, err)
	defer b.Stop()
	got := make(chan arp.Packet, 10)
	port := b.sw.Plug(func(f []byte) {
		if p, err := arp.Parse(f); err == nil && p.Op == arp.Reply {
			got <- p
		}
	}, nil)
	me := device.MAC{2, 0, 0, 0, 0, 9}
	own := s.Others[0].prefix.Addr()
	port.Send(arp.Probe(me, own.Next()).Frame())
	port.Send(arp.Probe(me, own).Frame())
	p := <-got
	assert.Equal(t, own, p.Sender)
	assert.Equal(t, s.Others[0].mac, p.SenderMAC)
	assert.Empty(t, got)
}

func TestSitesAreChecked(t *testing.T) {
	for name, text := range map[string]string{
		"unknown model": "devices: [{id: a, model: none, mac: \"02:00:00:00:00:01\"}]", "bad MAC": "devices: [{id: a, model: verrine-dome, mac: x}]",
		"bad address": "devices: [{id: a, model: verrine-dome, mac: \"02:00:00:00:00:01\", address: x}]", "unknown key": "devics: []",
		"bad gateway": "devices: [{id: a, model: verrine-dome, mac: \"02:00:00:00:00:01\", gateway: x}]", "other without address": "others: [{id: a, role: router, mac: \"02:00:00:00:00:01\"}]",
	} {
		_, err := Parse([]byte(text))
		assert.Error(t, err, name)
	}
	_, err := Load("no-such-site")
	require.Error(t, err)
	demo, err := Load(Demo)
	require.NoError(t, err)
	assert.Equal(t, "Quillmere Ferry Terminal", demo.Name)
	ids := map[device.MAC]bool{}
	for _, u := range demo.Devices {
		assert.False(t, ids[u.mac], "two devices with the MAC %s", u.mac)
		ids[u.mac] = true
		assert.Equal(t, byte(2), u.mac[0]&3, "%s is not locally administered", u.mac)
	}
}

func TestLogIsJSONLines(t *testing.T) {
	var out bytes.Buffer
	NewLog(&out).add(Event{Host: "h", What: EventBoot, OK: true})
	assert.Regexp(t, `^\{"at":"[^"]+","host":"h","what":"boot","ok":true\}\n$`, out.String())
}

func digestOf(nonce, created, password string) string {
	h := sha1.Sum([]byte(nonce + created + password)) //nolint:gosec // the profile's own
	return base64.StdEncoding.EncodeToString(h[:])
}

// A device is the same one when the bench is started again, and another unit is another.
func TestTheCertificateFollowsFromTheUnit(t *testing.T) {
	u := Unit{MAC: "02:7a:11:00:04:01", Serial: "A1", model: Model{HTTPS: "tls13"}}
	first, again := builtIn(u), builtIn(u)
	require.NotNil(t, first)
	assert.Equal(t, first.Certificate, again.Certificate)
	u.Serial = "A2"
	assert.NotEqual(t, first.Certificate, builtIn(u).Certificate)
}
