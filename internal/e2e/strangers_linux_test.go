package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
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

// needPrograms skips where a program from Debian is missing, and fails where the
// continuous build should have installed it.
func needPrograms(t testing.TB, names ...string) {
	for _, name := range names {
		if _, err := exec.LookPath(name); err == nil {
			continue
		}
		if os.Getenv("CI") != "" {
			t.Fatalf("the continuous build has to install %s", name)
		}
		t.Skipf("%s is not installed", name)
	}
}

// daemon runs a program on a host until the test ends.
func (l *lan) daemon(host string, args ...string) {
	l.t.Helper()
	c := l.command(host, args...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(l.t, c.Start())
	l.t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
		if l.t.Failed() {
			l.t.Logf("%v:\n%s", args, out.String())
		}
	})
}

// until waits for an event that can only be looked for.
func (l *lan) until(what string, there func() bool) {
	l.t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		if there() {
			return
		}
	}
	require.Fail(l.t, what+" did not come")
}

// listens waits until a UDP port is open on a host.
func (l *lan) listens(host string, port int) {
	l.until(fmt.Sprintf("UDP port %d on %s", port, host), func() bool {
		table := l.in(host, "cat", "/proc/net/udp")
		return strings.Contains(table, fmt.Sprintf(":%04X ", port))
	})
}

// dhcpServer runs dnsmasq, and gives the file of its leases.
func (l *lan) dhcpServer(host, pool string) (leases string) {
	leases = filepath.Join(l.t.TempDir(), "leases")
	l.daemon(host, "dnsmasq", "-k", "--conf-file=/dev/null", "--no-resolv", "--no-hosts", "--user=root", "--bind-interfaces", "--interface=eth0",
		"--dhcp-range="+pool+",255.255.254.0,2h", "--dhcp-option=option:router,10.61.8.1", "--dhcp-option=option:ntp-server,10.61.8.4",
		"--dhcp-leasefile="+leases, "--dhcp-authoritative", "--host-record=harbour-office.quillmere.example,10.61.8.52", "--pid-file=")
	l.listens(host, 67)
	return leases
}

type surveyed struct {
	Devices []struct {
		Kind, MAC, Address, Access, Condition, Host string
		Offers                                      []string
		Ports                                       []uint16
	}
	Offers []struct {
		Server, Subnet, Gateway string
		DNS, NTP                []string
		LeaseS                  int64 `json:"lease_s"`
	} `json:"dhcp_offers"`
	VLANs map[string]int `json:"vlan_tagged_frames"`
}

// TestStrangersAreFoundDescribedAndLeftAlone meets programs that were not
// written here: a DHCP and DNS server, mDNS, WS-Discovery and SNMP daemons, and
// hosts on the kernel's own stack.
func TestStrangersAreFoundDescribedAndLeftAlone(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "dnsmasq", "avahi-daemon", "wsdd", "snmpd")
	program := driver.Built(t)
	dir := t.TempDir()
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("gw", "02:5c:00:00:00:01", "10.61.8.1/23")
	l.plug("dhcp", "02:5c:00:00:00:02", "10.61.8.2/23")
	l.plug("office", "02:9d:00:00:00:31", "10.61.8.52/23")
	l.plug("desk", "02:9d:00:00:00:32", "10.61.8.53/23")
	l.plug("ups", "02:9d:00:00:00:33", "10.61.8.54/23")
	l.in("office", "sysctl", "-q", "-w", "net.ipv6.conf.eth0.disable_ipv6=0")
	leases := l.dhcpServer("dhcp", "10.61.9.100,10.61.9.150")

	conf := filepath.Join(dir, "avahi.conf")
	require.NoError(t, os.WriteFile(conf, []byte("[server]\nhost-name=harbour-office\nallow-interfaces=eth0\nenable-dbus=no\n[publish]\npublish-workstation=yes\n"), 0o600))
	l.daemon("office", "avahi-daemon", "-f", conf, "--no-drop-root", "--no-chroot", "--no-rlimits")
	l.listens("office", 5353)
	l.in("desk", "ip", "route", "add", "default", "via", "10.61.8.1")
	l.daemon("desk", "wsdd", "-4", "-i", "eth0", "-n", "TICKET-DESK")
	l.listens("desk", 3702)
	// It opens that socket long before it looks at it; this one it opens when it does.
	l.until("the metadata service", func() bool { return strings.Contains(l.in("desk", "cat", "/proc/net/tcp"), ":14ED ") })
	snmp := filepath.Join(dir, "snmpd.conf")
	require.NoError(t, os.WriteFile(snmp, []byte("agentaddress udp:161\nrocommunity quillmere\n"), 0o600))
	l.daemon("ups", "env", "MIBS=", "snmpd", "-f", "-LE", "3", "-C", "-c", snmp, "-p", filepath.Join(dir, "snmpd.pid"))
	l.listens("ups", 161)

	job := filepath.Join(dir, "job")
	run := func(args ...string) string {
		t.Helper()
		return l.in("laptop", append([]string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet"}, args...)...)
	}
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	var s surveyed
	require.NoError(t, json.Unmarshal([]byte(run("survey", "--wire", "eth0", "--json")), &s))
	require.Len(t, s.Devices, 5)
	hosts, offers := map[string]string{}, map[string][]string{}
	for _, d := range s.Devices {
		assert.Equal(t, "other", d.Kind, d.MAC)
		assert.Equal(t, "unmanaged", d.Access, d.MAC)
		hosts[d.Address], offers[d.Address] = d.Host, d.Offers
		if d.Address == "10.61.8.2" {
			assert.Equal(t, []uint16(nil), d.Ports, "its DNS port is on no list")
		}
	}
	assert.Contains(t, []string{"harbour-office.local", "harbour-office.quillmere.example"}, hosts["10.61.8.52"])
	assert.Equal(t, []string{"_workstation._tcp"}, offers["10.61.8.52"])
	assert.Equal(t, []string{"wsd:Computer", "wsd:Device"}, offers["10.61.8.53"])
	require.Len(t, s.Offers, 1)
	o := s.Offers[0]
	assert.Equal(t, []any{"10.61.8.2", "10.61.8.0/23", "10.61.8.1", []string{"10.61.8.2"}, []string{"10.61.8.4"}, int64(7200)},
		[]any{o.Server, o.Subnet, o.Gateway, o.DNS, o.NTP, o.LeaseS})
	taken, err := os.ReadFile(leases)
	if err == nil { // it makes the file with the first lease
		assert.Empty(t, taken, "looking took a lease")
	}
	out := l.fails("laptop", 2, "env", "JANUSTAT_PASSPHRASE=x", program, "--job", job, "take", "10.61.8.52", "--yes")
	assert.Contains(t, out, "--kind")
	out = l.fails("laptop", 1, "env", "JANUSTAT_PASSPHRASE=x", program, "--job", job, "take", "all", "--yes")
	assert.Contains(t, out, "No device matches", "nothing there can be taken by mistake")

	// A lease service is not begun beside another server's.
	run("take", "10.61.8.54", "--kind", "panel", "--yes")
	run("allot")
	out = l.fails("laptop", 3, "env", "JANUSTAT_PASSPHRASE=x", program, "--job", job, "lease", "--yes", "--wire", "eth0")
	assert.Contains(t, out, "another DHCP server answers on this LAN: 10.61.8.2 (02:5c:00:00:00:02)")
}

// fails runs a command that has to end with a code, and gives what it printed.
func (l *lan) fails(host string, code int, args ...string) string {
	l.t.Helper()
	out, err := l.command(host, args...).CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(l.t, err, &exit, string(out))
	require.Equal(l.t, code, exit.ExitCode(), string(out))
	return string(out)
}

// TestLeaseServesAClientNotWrittenHere gives an address to a client of Debian's,
// and to nobody who was not taken.
func TestLeaseServesAClientNotWrittenHere(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "udhcpc")
	program := driver.Built(t)
	dir := t.TempDir()
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.plug("gw", "02:5c:00:00:00:01", "10.61.8.1/23")
	l.plug("cam", "02:9d:00:00:00:41", "")
	l.plug("other", "02:9d:00:00:00:42", "")
	script := filepath.Join(dir, "got")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n[ \"$1\" = bound ] && ip addr add $ip/$mask dev $interface && echo $ip $mask $router $dns $lease > "+dir+"/$interface.$(hostname 2>/dev/null || echo x).$ip\nexit 0\n"), 0o700))
	client := func(host string) {
		l.daemon(host, "udhcpc", "-f", "-i", "eth0", "-s", script, "-V", "quillmere-horn", "-x", "hostname:"+host, "-t", "9", "-T", "2", "-A", "2")
	}
	client("cam")
	client("other")
	job := filepath.Join(dir, "job")
	args := []string{"env", "JANUSTAT_PASSPHRASE=ferry at quillmere", program, "--job", job, "--quiet", "--yes"}
	run := func(more ...string) string { t.Helper(); return l.in("laptop", append(args, more...)...) }
	run("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	var s surveyed
	require.NoError(t, json.Unmarshal([]byte(run("survey", "--wire", "eth0", "--json")), &s))
	bare := map[string]string{}
	for _, d := range s.Devices {
		if d.Condition == "bare" {
			bare[d.MAC] = d.Host
		}
	}
	assert.Equal(t, map[string]string{"02:9d:00:00:00:41": "cam", "02:9d:00:00:00:42": "other"}, bare)
	run("take", "02:9d:00:00:00:41", "--kind", "camera")
	run("allot")
	out := run("lease", "--wire", "eth0", "--for", "60s")
	assert.Contains(t, out, "leased")
	assert.Contains(t, out, "reserve 10.61.8.41 for 02:9d:00:00:00:41, C01")
	assert.Contains(t, l.in("cam", "ip", "-4", "-o", "addr"), "10.61.8.41/23")
	assert.NotContains(t, l.in("other", "ip", "-4", "-o", "addr"), "10.61", "it was not taken")
	out = run("commission", "--wire", "eth0")
	assert.Contains(t, out, "1 done, 0 need you")
	assert.Contains(t, run("prove", "--wire", "eth0"), "1 of 1 devices proved")
}

// TestWireNamesWhatIsWrong makes the faults of a real LAN, one after the other.
func TestWireNamesWhatIsWrong(t *testing.T) {
	t.Parallel()
	l := newLAN(t)
	needPrograms(t, "dnsmasq", "nft")
	program := driver.Built(t)
	l.plug("laptop", "02:1a:70:00:00:01", "10.61.8.200/23")
	l.in("laptop", "ip", "route", "add", "default", "via", "10.61.8.1")
	l.plug("gw", "02:5c:00:00:00:01", "10.61.8.1/23")
	l.plug("dhcp", "02:5c:00:00:00:02", "10.61.8.2/23")
	l.dhcpServer("dhcp", "10.61.9.100,10.61.9.150")
	type fault struct{ Code, Weight string }
	look := func(prefix ...string) (codes []string) {
		t.Helper()
		c := exec.Command("ip", append(append([]string{"netns", "exec", l.ns("laptop")}, prefix...), program, "wire", "--wire", "eth0", "--json", "--quiet", "--job", t.TempDir())...)
		out, _ := c.Output() // its exit code follows from the faults, which are looked at
		var f struct {
			Adapters []struct {
				Name, Gateway string
				Link          bool
			}
			Faults []fault
		}
		require.NoError(t, json.Unmarshal(out, &f), string(out))
		require.Len(t, f.Adapters, 1)
		assert.Equal(t, "10.61.8.1", f.Adapters[0].Gateway)
		for _, x := range f.Faults {
			codes = append(codes, x.Code)
		}
		return codes
	}
	assert.Empty(t, look())
	assert.Equal(t, []string{"no-rights"}, look("setpriv", "--bounding-set", "-net_raw", "--inh-caps", "-net_raw"))

	l.plug("rogue", "02:5c:00:00:00:09", "10.61.8.9/23")
	l.dhcpServer("rogue", "10.61.9.160,10.61.9.190")
	l.plug("twin", "02:9d:00:00:00:77", "10.61.8.200/23")
	l.in("laptop", "nft", "add table inet f; add chain inet f in { type filter hook input priority 0; policy drop; }")
	l.in("laptop", "sysctl", "-q", "-w", "net.ipv4.ip_forward=1")
	l.in("gw", "ip", "addr", "flush", "dev", "eth0")
	// A host that sends with a tag, as on a trunk port.
	l.plug("trunk", "02:5c:00:00:00:20", "")
	l.attach(program, "trunk", "site: Trunk\nothers:\n  - {id: trunk, role: tagged, mac: \"02:5c:00:00:00:29\", address: 10.20.0.1/24, vlan: 20}\n")
	got := look()
	assert.Equal(t, []string{"forwarding", "two-dhcp", "duplicate", "tagged", "silent", "firewall-input"}, got)

	// With an input policy of drop, the answers are heard all the same.
	job := filepath.Join(t.TempDir(), "job")
	l.in("laptop", program, "begin", job, "--subnet", "10.61.8.0/23", "--quiet")
	var s surveyed
	require.NoError(t, json.Unmarshal([]byte(l.in("laptop", program, "--job", job, "--quiet", "survey", "--wire", "eth0", "--json", "--for", "3s")), &s))
	assert.Len(t, s.Offers, 2)
	assert.Contains(t, s.VLANs, "20")
	for _, d := range s.Devices {
		assert.NotEqual(t, "10.20.0.1", d.Address, "a frame of another VLAN passed for one of ours")
	}

	l.in("sw", "ip", "link", "set", "plaptop", "down")
	l.until("the loss of the link", func() bool {
		return strings.Contains(l.in("laptop", "cat", "/sys/class/net/eth0/operstate"), "down")
	})
	assert.Equal(t, "no-link", look()[0])
}
