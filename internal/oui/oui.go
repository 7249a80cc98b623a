// Package oui tells to whom IEEE gave a MAC's prefix. The table is IEEE's public
// registry of MA-L, MA-M and MA-S blocks (IEEE 802, 8.2.2), kept compact in the
// program.
package oui

import (
	"bytes"
	"compress/gzip"
	_ "embed" // the table
	"io"
	"strings"
	"sync"

	"janustat/core/device"
)

//go:generate go run ./gen

//go:embed registry.gz
var packed []byte

// lengths are the sizes of the registry's prefixes in hexadecimal digits,
// longest first: a small block lies inside a large one.
var lengths = []int{9, 7, 6}

// table is the registry unpacked: prefix to holder. Only a program that looks
// something up pays for it.
var table = sync.OnceValue(func() map[string]string {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil
	}
	text, err := io.ReadAll(z)
	if err != nil {
		return nil
	}
	out := make(map[string]string, 1<<16)
	for line := range strings.Lines(string(text)) {
		holder, prefixes, ok := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		for _, p := range strings.Fields(prefixes) {
			if ok {
				out[p] = holder
			}
		}
	}
	return out
})

// Holder gives whom IEEE gave the MAC's prefix to, or "" for one that nobody
// has: locally administered ones among them.
func Holder(mac device.MAC) string {
	if mac.IsZero() || mac.IsGroup() || mac[0]&2 != 0 {
		return ""
	}
	digits := mac.Hex()
	for _, n := range lengths {
		if holder, ok := table()[digits[:n]]; ok {
			return holder
		}
	}
	return ""
}
