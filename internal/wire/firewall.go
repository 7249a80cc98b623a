package wire

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"janustat/core/lan"
)

// firewallLimit bounds how long the firewall's own program may take.
const firewallLimit = 3 * time.Second

// Firewall reads which rules of the system's firewall drop what comes in or
// goes out, where the system permits it. What cannot be read gives none.
func Firewall(ctx context.Context) []lan.Rule {
	ctx, cancel := context.WithTimeout(ctx, firewallLimit)
	defer cancel()
	if out, err := exec.CommandContext(ctx, "nft", "--json", "list", "ruleset").Output(); err == nil {
		return parseNFT(out)
	}
	if out, err := exec.CommandContext(ctx, "iptables-save").Output(); err == nil {
		return parseIPTables(string(out))
	}
	return nil
}

// nftChain is a base chain in nft's JSON (libnftables-json(5)).
type nftChain struct {
	Family, Table, Name, Hook, Policy, Dev string
}

type nftRule struct {
	Family, Table, Chain string
	Expr                 []map[string]json.RawMessage
}

// parseNFT finds base chains that drop by policy, and those of a device's own
// hooks that have a rule that drops: only these reach raw frames.
func parseNFT(data []byte) []lan.Rule {
	var doc struct {
		NFTables []struct {
			Chain *nftChain
			Rule  *nftRule
		} `json:"nftables"`
	}
	if json.Unmarshal(data, &doc) != nil {
		return nil
	}
	var out []lan.Rule
	deep := map[string]bool{}
	for _, e := range doc.NFTables {
		c := e.Chain
		if c == nil || c.Hook == "" {
			continue
		}
		where := fmt.Sprintf("%s %s %s", c.Family, c.Table, c.Name)
		reaches := c.Hook == "ingress" || c.Hook == "egress"
		deep[where] = reaches
		if c.Policy == "drop" && (reaches || c.Hook == "input" || c.Hook == "output" || c.Hook == "prerouting") {
			out = append(out, lan.Rule{Where: where, Text: "policy drop at " + c.Hook, Reaches: c.Hook == "egress"})
		}
	}
	for _, e := range doc.NFTables {
		if r := e.Rule; r != nil && deep[fmt.Sprintf("%s %s %s", r.Family, r.Table, r.Chain)] && drops(r) {
			out = append(out, lan.Rule{Where: fmt.Sprintf("%s %s %s", r.Family, r.Table, r.Chain), Text: "a rule that drops", Reaches: true})
		}
	}
	return out
}

func drops(r *nftRule) bool {
	for _, e := range r.Expr {
		if _, ok := e["drop"]; ok {
			return true
		}
		if _, ok := e["reject"]; ok {
			return true
		}
	}
	return false
}

// parseIPTables finds the built-in chains that drop by policy (iptables-save(8)).
func parseIPTables(text string) []lan.Rule {
	var out []lan.Rule
	table := ""
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "*"); ok {
			table = name
		}
		f := strings.Fields(strings.TrimPrefix(line, ":"))
		if strings.HasPrefix(line, ":") && len(f) >= 2 && f[1] == "DROP" && (f[0] == "INPUT" || f[0] == "OUTPUT" || f[0] == "PREROUTING") {
			out = append(out, lan.Rule{Where: table + " " + f[0], Text: "policy drop"})
		}
	}
	return out
}
