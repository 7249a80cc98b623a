package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/authority"
	"janustat/internal/e2e/driver"
)

const certified = `
site: Certified
seed: 1
devices:
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: B1, restart: 1s, manners: [keystore]}
`

// trusting makes the folder of a person who trusts an authority, for Chromium and other programs that go
// by the same store.
func trusting(t *testing.T, root string) (home string) {
	home = t.TempDir()
	store := filepath.Join(home, ".pki", "nssdb")
	require.NoError(t, os.MkdirAll(store, 0o700))
	for _, args := range [][]string{{"-N", "--empty-password"}, {"-A", "-t", "C,,", "-n", "site", "-i", root}} {
		out, err := exec.Command("certutil", append([]string{"-d", "sql:" + store}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	return home
}

// Whoever trusts the site's authority opens a device's page without a warning, in a real browser and by
// other programs; who does not is warned.
func TestABrowserTrustsTheSitesCertificates(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "chromium", "certutil", "curl", "openssl")
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("client", "02:5c:00:00:00:90", "10.61.8.90/23")
	l.plug("bench", "02:be:00:00:00:01", "")
	l.attach(program, "bench", certified)
	job := filepath.Join(t.TempDir(), "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23")
	f, err := os.OpenFile(filepath.Join(job, "jobsheet.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString("https: on\ncertificates: site\nhttp: off\n")
	require.NoError(t, err)
	require.NoError(t, f.Close())
	run("survey", "--wire", "eth0")
	run("take", "all", "--yes")
	run("allot")
	run("commission", "--wire", "eth0", "--yes")
	require.Contains(t, run("prove", "--wire", "eth0"), "1 of 1 devices proved: every check passed")
	root := filepath.Join(job, "authority.pem")

	l.until("the page over HTTPS", func() bool {
		out, err := l.command("client", "curl", "-s", "--cacert", root, "https://10.61.8.41/").CombinedOutput()
		return err == nil && strings.Contains(string(out), "Eye Two")
	})
	assert.Error(t, l.command("client", "curl", "-s", "https://10.61.8.41/").Run(), "who does not trust it is warned")
	assert.Error(t, l.command("client", "curl", "-s", "--cacert", root, "--resolve", "bank.example:443:10.61.8.41", "https://bank.example/").Run(), "it is for its own address")
	l.until("that nothing is served without encryption", func() bool {
		return l.command("client", "curl", "-s", "-m", "5", "http://10.61.8.41/").Run() != nil
	})
	out, _ := l.command("client", "bash", "-c", "openssl s_client -connect 10.61.8.41:443 -CAfile "+root+" -verify_ip 10.61.8.41 -verify_return_error </dev/null").CombinedOutput()
	assert.Contains(t, string(out), "Verify return code: 0 (ok)")

	knows := l.browserOf("client", trusting(t, root))
	tab := knows.open("https://10.61.8.41/")
	knows.until(tab, "document.title", "Oakhollow Eye Two B1")
	assert.Equal(t, "https://10.61.8.41/", knows.text(tab, "location.href"))
	stranger := l.browser("client")
	warned := stranger.open("https://10.61.8.41/")
	stranger.until(warned, "document.title", "Privacy error")
}

// What is signed for another name by the key of such an authority is refused by everyone who trusts it.
func TestTheSitesAuthorityCannotSpeakForABank(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "chromium", "certutil", "curl", "nginx")
	l.plug("client", "02:5c:00:00:00:90", "10.61.8.90/23")
	l.plug("thief", "02:9d:00:00:00:61", "10.61.8.61/23")
	dir := t.TempDir()
	a, err := authority.New("Quillmere Ferry Terminal", []netip.Prefix{netip.MustParsePrefix("10.61.8.0/23")}, time.Now())
	require.NoError(t, err)
	root := filepath.Join(dir, "root.pem")
	require.NoError(t, os.WriteFile(root, a.PEM(), 0o600))
	plain, err := a.Plain()
	require.NoError(t, err)
	cert, rest := pem.Decode(plain)
	key, _ := pem.Decode(rest)
	parent, err := x509.ParseCertificate(cert.Bytes)
	require.NoError(t, err)
	private, err := x509.ParsePKCS8PrivateKey(key.Bytes)
	require.NoError(t, err)

	servers := ""
	for port, names := range map[int]x509.Certificate{
		443: {DNSNames: []string{"bank.example"}}, 8443: {IPAddresses: []net.IP{{10, 61, 8, 61}}, DNSNames: []string{"x.home.arpa"}},
	} {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		names.SerialNumber, names.NotBefore, names.NotAfter = big.NewInt(int64(port)), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
		names.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
		der, err := x509.CreateCertificate(rand.Reader, &names, parent, &own.PublicKey, private)
		require.NoError(t, err)
		ownKey, err := x509.MarshalPKCS8PrivateKey(own)
		require.NoError(t, err)
		at := filepath.Join(dir, fmt.Sprint(port))
		require.NoError(t, os.WriteFile(at, append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: ownKey})...), 0o600))
		servers += fmt.Sprintf("server { listen %d ssl; ssl_certificate %s; ssl_certificate_key %s; location / { default_type text/html; return 200 '<!doctype html><title>Bank</title>'; } }\n", port, at, at)
	}
	conf := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "daemon off; master_process off; user root; pid %[1]s/pid; error_log %[1]s/err;\nevents {}\nhttp { access_log off;\n%s}\n", dir, servers), 0o600))
	l.daemon("thief", "nginx", "-c", conf, "-e", filepath.Join(dir, "err"), "-p", dir)
	l.until("the thief's page", func() bool { return strings.Contains(l.in("thief", "cat", "/proc/net/tcp"), ":01BB ") })

	assert.NoError(t, l.command("client", "curl", "-s", "--cacert", root, "https://10.61.8.61:8443/").Run(), "the site's own is trusted")
	assert.Error(t, l.command("client", "curl", "-s", "--cacert", root, "--resolve", "bank.example:443:10.61.8.61", "https://bank.example/").Run())
	b := l.browserOf("client", trusting(t, root), "--host-resolver-rules=MAP bank.example 10.61.8.61")
	own := b.open("https://10.61.8.61:8443/")
	b.until(own, "document.title", "Bank")
	bank := b.open("https://bank.example/")
	b.until(bank, "document.title", "Privacy error")
}
