package wire

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/lan"
)

func TestParseNFT(t *testing.T) {
	got := parseNFT([]byte(`{"nftables": [{"metainfo": {"version": "1"}},
		{"chain": {"family": "inet", "table": "filter", "name": "input", "hook": "input", "policy": "drop"}},
		{"chain": {"family": "inet", "table": "filter", "name": "forward", "hook": "forward", "policy": "drop"}},
		{"chain": {"family": "inet", "table": "filter", "name": "helper"}},
		{"chain": {"family": "netdev", "table": "t", "name": "out", "hook": "egress", "policy": "accept", "dev": "eth0"}},
		{"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [{"drop": null}]}},
		{"rule": {"family": "netdev", "table": "t", "chain": "out", "expr": [{"match": {}}, {"drop": null}]}}]}`))
	assert.Equal(t, []lan.Rule{
		{Where: "inet filter input", Text: "policy drop at input"},
		{Where: "netdev t out", Text: "a rule that drops", Reaches: true},
	}, got)
	assert.Empty(t, parseNFT([]byte("not JSON")))
}

func TestParseIPTables(t *testing.T) {
	got := parseIPTables("# saved\n*nat\n:PREROUTING ACCEPT [0:0]\nCOMMIT\n*filter\n:INPUT DROP [3:120]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [1:2]\n-A INPUT -j ACCEPT\nCOMMIT\n")
	assert.Equal(t, []lan.Rule{{Where: "filter INPUT", Text: "policy drop"}}, got)
}

func FuzzParseFirewall(f *testing.F) {
	f.Add([]byte(`{"nftables": [{"chain": {"hook": "input", "policy": "drop"}}]}`))
	f.Fuzz(func(_ *testing.T, b []byte) { parseNFT(b); parseIPTables(string(b)) })
}
