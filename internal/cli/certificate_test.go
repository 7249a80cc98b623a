package cli

import (
	"context"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const certifiedSite = `
site: Certificates
seed: 9
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  asleep: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: "off"}
  awake: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.21/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: "on"}
devices:
  - {id: off, model: asleep, mac: "02:e4:42:00:10:01", serial: A1, restart: 1s, manners: [keystore]}
  - {id: on, model: awake, mac: "02:e4:42:00:10:02", serial: A2, restart: 1s, manners: [keystore, slow keys, small keystore]}
  - {id: refuses, model: awake, mac: "02:e4:42:00:10:03", serial: A3, restart: 1s, manners: [keystore, refuses certificates]}
  - {id: keeps, model: awake, mac: "02:e4:42:00:10:04", serial: A4, restart: 1s, manners: [keystore, keeps its certificate]}
  - {id: without, model: awake, mac: "02:e4:42:00:10:05", serial: A5, restart: 1s}
  - {id: plain, model: verrine-dome, mac: "02:e4:42:00:10:06", serial: A6, restart: 1s}
`

// Devices that can hold one get a certificate of the site's own authority for their addresses; those that
// refuse it, or go on showing their own, are told, and are opened all the same.
func TestTheSitesCertificatesAreInstalled(t *testing.T) {
	t.Parallel()
	c := hire(t, certifiedSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\ncertificates: site\n")
	c.prepare()
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "6 done, 0 need you")
	assert.Contains(t, out, "refuses its site certificate (for 10.61.8.")
	root, err := os.ReadFile(filepath.Join(c.dir, "authority.pem"))
	require.NoError(t, err)
	block, rest := pem.Decode(root)
	require.NotNil(t, block)
	assert.Equal(t, "CERTIFICATE", block.Type)
	assert.Empty(t, rest, "its key is not there")
	for _, mac := range []string{"02:e4:42:00:10:01", "02:e4:42:00:10:02"} {
		assert.Contains(t, c.must("log", mac), "site certificate installed, for 10.61.8.")
	}
	assert.Regexp(t, `:10:01 +for 10.61.8.4\d\n(.|\n)*:10:03 +none\n.*:10:04 +none\n.*:10:05 +–`, c.must("list", "--columns", "mac,site_certificate"))

	c.writesNothing()
	proof := c.must("prove", "--quiet")
	assert.Contains(t, proof, "6 of 6 devices proved")
	assert.Contains(t, proof, "SITE CERT.")
	assert.Contains(t, proof, "site certificate: the device does not accept for 10.61.8.")
	assert.NotContains(t, c.must("survey", "--for", "2s", "--quiet"), "ALARM")
	c.writesNothing()

	pack := filepath.Join(c.dir, "handover")
	c.must("handover", "--quiet")
	given, err := os.ReadFile(filepath.Join(pack, "authority.pem"))
	require.NoError(t, err)
	assert.Equal(t, root, given)
	page, err := os.ReadFile(filepath.Join(pack, "handover.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), "The certificates of 2 devices are signed by the site&#39;s own authority")
	assert.Contains(t, string(page), "it can vouch for addresses in 10.61.8.0/23 and names under home.arpa, and for nothing else")

	// An address of its own moves a device, and its certificate with it: of what it had, nothing is left.
	c.sheet("addresses: {\"02:e4:42:00:10:02\": 10.61.9.77}\n")
	c.must("allot", "--again", "02:e4:42:00:10:02")
	c.must("commission", "--yes", "--quiet")
	assert.Contains(t, c.must("list", "--columns", "mac,site_certificate"), "for 10.61.9.77")
	keys, certs, paths := c.bench.Device("on").Stored()
	assert.Equal(t, []int{1, 2, 2}, []int{keys, certs, paths})
	assert.Contains(t, c.must("prove", "--quiet"), "6 of 6 devices proved")
}

// Wherever a run is cut off while a certificate is installed, the device is opened by the next one, which
// goes on, and no alarm is raised of a certificate that the site's authority has made.
func TestACertificateThatIsCutOffIsGoneOnWith(t *testing.T) {
	t.Parallel()
	for op, host := range map[string]string{
		"CreateRSAKeyPair": "off", "CreatePKCS10CSR": "off", "UploadCertificate": "on", "CreateCertificationPath": "off",
		"AddServerCertificateAssignment": "on", // its own certificate was on record
	} {
		t.Run(op, func(t *testing.T) {
			t.Parallel()
			mac, at := "02:e4:42:00:10:01", "10.61.8.41"
			if host == "on" {
				mac, at = "02:e4:42:00:10:02", "10.61.8.42"
			}
			c := hire(t, certifiedSite, "--subnet", "10.61.8.0/23")
			c.sheet("https: on\ncertificates: site\n")
			c.prepare()
			ctx, cancel := context.WithCancel(t.Context())
			stop := c.logs.On(func(e bench.Event) {
				if e.Op == op && e.Host == host {
					cancel()
				}
			})
			code, out, errs := c.runUntil(ctx, "", "commission", mac, "--yes", "--quiet")
			stop()
			assert.NotEqual(t, ExitDone, code, out+errs)
			assert.NotContains(t, c.must("survey", "--for", "2s", "--quiet"), "ALARM")
			out = c.must("commission", mac, "--yes", "--quiet")
			assert.Contains(t, out, "1 done")
			assert.NotContains(t, out, "another certificate")
			assert.Contains(t, c.must("prove", mac, "--quiet"), "1 of 1 devices proved")
			assert.Contains(t, c.must("list", "--columns", "mac,site_certificate"), mac+"  for "+at)
			keys, _, _ := c.bench.Device(host).Stored()
			assert.Equal(t, 1, keys, "the key of the run before is used")
		})
	}
}

// A stranger that answers in the device's place shows no certificate of the site, and is sent nothing.
func TestAStrangerHasNoCertificateOfTheSite(t *testing.T) {
	t.Parallel()
	c := hire(t, certifiedSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\ncertificates: site\n")
	c.prepare()
	c.must("commission", "02:e4:42:00:10:01", "--yes", "--quiet")
	d := c.bench.Device("off")
	d.Usurp(bench.Pose{Cert: true})
	code, out, _ := c.run("", "commission", "02:e4:42:00:10:01", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "identity changed since it was set up, so no password was sent to it")
	assert.Empty(t, d.Passwords())
	d.Yield()
	assert.Contains(t, c.must("commission", "02:e4:42:00:10:01", "--yes", "--quiet"), "1 done")
}

// A stranger that takes the device's place in the moment in which its certificate changes has not the key
// that was signed: nothing is sent to it, and the device is gone on with once it is back.
func TestAStrangerInTheMomentOfTheChangeGetsNothing(t *testing.T) {
	t.Parallel()
	c := hire(t, certifiedSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\ncertificates: site\n")
	c.prepare()
	const mac = "02:e4:42:00:10:02"
	d := c.bench.Device("on")
	came := make(chan struct{})
	stop := c.logs.On(func(e bench.Event) {
		if e.Op == "AddServerCertificateAssignment" && e.Host == "on" {
			go func() {
				d.Usurp(bench.Pose{Cert: true})
				close(came)
			}()
		}
	})
	code, out, errs := c.run("", "commission", mac, "--yes", "--quiet")
	stop()
	<-came
	assert.NotEqual(t, ExitDone, code, out+errs)
	c.run("", "commission", mac, "--yes", "--quiet") // and once more while it is there
	for _, e := range c.logs.Events() {
		assert.False(t, e.Host == "on" && e.What == bench.EventWrongPassword, "a password was offered to it: %+v", e)
	}
	assert.Empty(t, d.Passwords())
	d.Yield()
	assert.Contains(t, c.must("commission", mac, "--yes", "--quiet"), "1 done")
	assert.Contains(t, c.must("prove", mac, "--quiet"), "1 of 1 devices proved")
	assert.Contains(t, c.must("list", "--columns", "mac,site_certificate"), mac+"  for 10.61.8.42")
}
