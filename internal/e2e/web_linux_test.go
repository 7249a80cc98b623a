package e2e

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/e2e/driver"
)

// browser is a headless Chromium in a host's namespace, spoken to over a pipe in
// its DevTools protocol.
type browser struct {
	t   testing.TB
	out *os.File
	in  *bufio.Reader
	id  int
}

func (l *lan) browser(host string) *browser { return l.browserOf(host, l.t.TempDir()) }

// browserOf is that of a person, whose own folder says whom it trusts.
func (l *lan) browserOf(host, home string, more ...string) *browser {
	toRead, toWrite, err := os.Pipe()
	require.NoError(l.t, err)
	fromRead, fromWrite, err := os.Pipe()
	require.NoError(l.t, err)
	c := exec.Command("ip", append([]string{
		"netns", "exec", l.ns(host), "chromium", "--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
		"--no-first-run", "--disable-background-networking", "--user-data-dir=" + l.t.TempDir(), "--remote-debugging-pipe", "about:blank",
	}, more...)...)
	c.Env = append(os.Environ(), "HOME="+home)
	c.ExtraFiles = []*os.File{toRead, fromWrite}
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(l.t, c.Start())
	toRead.Close()
	fromWrite.Close()
	l.t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		_ = c.Wait()
		toWrite.Close()
		fromRead.Close()
	})
	return &browser{t: l.t, out: toWrite, in: bufio.NewReader(fromRead)}
}

// call carries out one command and gives its result.
func (b *browser) call(session, method string, params map[string]any) map[string]any {
	b.t.Helper()
	result, refused := b.try(session, method, params)
	require.Empty(b.t, refused, method)
	return result
}

// try carries out one command, and gives its result or why there is none.
func (b *browser) try(session, method string, params map[string]any) (result map[string]any, refused string) {
	b.t.Helper()
	b.id++
	msg, err := json.Marshal(map[string]any{"id": b.id, "method": method, "params": params, "sessionId": session})
	if session == "" {
		msg, err = json.Marshal(map[string]any{"id": b.id, "method": method, "params": params})
	}
	require.NoError(b.t, err)
	_, err = b.out.Write(append(msg, 0))
	require.NoError(b.t, err)
	for {
		line, err := b.in.ReadBytes(0)
		require.NoError(b.t, err)
		var answer struct {
			ID     int
			Result map[string]any
			Error  *struct{ Message string }
		}
		require.NoError(b.t, json.Unmarshal(line[:len(line)-1], &answer))
		if answer.ID != b.id {
			continue // an event
		}
		if answer.Error != nil {
			return nil, answer.Error.Message
		}
		return answer.Result, ""
	}
}

// open opens a page in a tab of its own.
func (b *browser) open(url string) (tab string) {
	b.t.Helper()
	target := b.call("", "Target.createTarget", map[string]any{"url": url})["targetId"]
	return b.call("", "Target.attachToTarget", map[string]any{"targetId": target, "flatten": true})["sessionId"].(string)
}

// text evaluates an expression in a tab, "" when it fails.
func (b *browser) text(tab, expression string) string {
	b.t.Helper()
	r, refused := b.try(tab, "Runtime.evaluate", map[string]any{"expression": expression, "returnByValue": true})
	if refused != "" { // a page that is about to be another has none to evaluate it in
		return ""
	}
	value, _ := r["result"].(map[string]any)["value"].(string)
	return value
}

// until waits until an expression gives the text wanted.
func (b *browser) until(tab, expression, want string) {
	b.t.Helper()
	got := ""
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if got = b.text(tab, expression); got == want {
			return
		}
	}
	require.Equal(b.t, want, got, expression+"\n"+b.text(tab, "document.documentElement.outerHTML"))
}

const sameAddress = `
site: Same address
seed: 1
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2}
  - {id: mast, model: verrine-dome, mac: "02:e4:42:00:01:09", serial: V6, address: none, ipv6: true}
`

// TestPagesOfDevicesOnOneAddressOpenSideBySide uses a real browser: a login form,
// a cookie, a redirect to an absolute URL, and a web socket that echoes, on two
// devices that share an address; and a page by another web server.
func TestPagesOfDevicesOnOneAddressOpenSideBySide(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "chromium", "nginx")
	program := driver.Built(t)
	dir := t.TempDir()
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.plug("horn", "02:9d:00:00:00:61", "10.61.8.61/23")
	l.attach(program, "bench", sameAddress)

	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, `daemon off; master_process off; user root; pid %[1]s/pid; error_log %[1]s/err;
events {}
http { access_log off; ssl_certificate %[1]s/cert; ssl_certificate_key %[1]s/key; server { listen 80; listen 443 ssl; absolute_redirect on; server_name 10.61.8.61;
  location = /old { return 301 /new; }
  location / { default_type text/html; gzip on; gzip_min_length 1; return 200 '<!doctype html><title>Fog horn</title><a id=a href="http://10.61.8.61/old">old</a><a id=s href="https://10.61.8.61/secure">secure</a>'; } } }
`, dir), 0o600))
	selfSigned(t, dir)
	l.daemon("horn", "nginx", "-c", conf, "-e", filepath.Join(dir, "err"), "-p", dir)
	l.until("the horn's page", func() bool { return strings.Contains(l.in("horn", "cat", "/proc/net/tcp"), ":0050 ") })

	job := filepath.Join(dir, "job")
	before := l.in("laptop", "ip", "-4", "-o", "addr") + l.in("laptop", "ip", "route")
	l.in("laptop", program, "begin", job, "--subnet", "10.61.8.0/23", "--quiet")
	l.in("laptop", program, "--job", job, "--quiet", "survey", "--wire", "eth0")
	web := exec.Command("ip", "netns", "exec", l.ns("laptop"), program, "--job", job, "--quiet", "--json", "web", "A001", "A002", "02:e4:42:00:01:09", "10.61.8.61", "--wire", "eth0")
	out, err := web.StdoutPipe()
	require.NoError(t, err)
	web.Stderr = os.Stderr
	require.NoError(t, web.Start())
	t.Cleanup(func() { _ = web.Process.Signal(syscall.SIGINT); _ = web.Wait() })
	var links []struct{ Device, Link string }
	require.NoError(t, json.NewDecoder(out).Decode(&links))
	require.Len(t, links, 4)

	b := l.browser("laptop")
	tabs := map[string]string{}
	for i, serial := range []string{"A001", "A002", "V6"} {
		tab := b.open(links[i].Link)
		tabs[serial] = tab
		b.until(tab, "document.title", "Verrine Dome 420 "+serial)
		b.text(tab, "document.getElementById('enter').click(); ''")
		b.until(tab, "(document.getElementById('who')||{}).textContent", "Signed in as operator")
	}
	for serial, tab := range tabs {
		b.until(tab, "document.getElementById('live').textContent", "live: "+serial+" heard are you "+serial+"?")
		assert.Regexp(t, `^[0-9a-f]{32}\.localhost:\d+$`, b.text(tab, "location.host"))
		assert.Equal(t, "/home", b.text(tab, "location.pathname"))
	}
	horn := b.open(links[3].Link)
	b.until(horn, "document.title", "Fog horn")
	b.text(horn, "document.getElementById('a').click(); ''")
	b.until(horn, "location.pathname", "/new")
	b.until(horn, "document.title", "Fog horn")

	// A link of the page to its own HTTPS port, with a certificate that nobody signed.
	b.text(horn, "document.getElementById('s').click(); ''")
	b.until(horn, "location.pathname", "/secure")
	b.until(horn, "document.title", "Fog horn")

	// Nothing is to be seen there without the name.
	port := links[0].Link[strings.LastIndex(links[0].Link, ":"):]
	answer := l.in("laptop", "bash", "-c", fmt.Sprintf(`exec 3<>/dev/tcp/127.0.0.1/%s; printf "GET / HTTP/1.0\r\nHost: localhost\r\n\r\n" >&3; head -1 <&3`, strings.Trim(port, ":/")))
	assert.Contains(t, answer, "404")
	assert.Equal(t, before, l.in("laptop", "ip", "-4", "-o", "addr")+l.in("laptop", "ip", "route"), "the laptop's own settings changed")
}

// selfSigned makes a key and a certificate of its own, as devices do.
func selfSigned(t *testing.T, dir string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	about := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	cert, err := x509.CreateCertificate(rand.Reader, &about, &about, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for name, block := range map[string]*pem.Block{"cert": {Type: "CERTIFICATE", Bytes: cert}, "key": {Type: "PRIVATE KEY", Bytes: private}} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600))
	}
}
