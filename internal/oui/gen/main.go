// Command gen packs IEEE's registry, as Debian's ieee-data delivers it, into the
// table that package oui embeds: one line for each holder, with its prefixes.
package main

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"slices"
	"strings"
)

var files = []string{"/usr/share/ieee-data/oui.csv", "/usr/share/ieee-data/mam.csv", "/usr/share/ieee-data/oui36.csv"}

func main() {
	log.SetFlags(0)
	if err := run("registry.gz"); err != nil {
		log.Fatalf("gen: %v (the Debian package is ieee-data)", err)
	}
}

func run(path string) error {
	holders := map[string][]string{}
	for _, name := range files {
		if err := read(name, holders); err != nil {
			return err
		}
	}
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return err
	}
	names := make([]string, 0, len(holders))
	for name := range holders {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		slices.Sort(holders[name])
		fmt.Fprintf(z, "%s\t%s\n", name, strings.Join(holders[name], " "))
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(path, out.Bytes(), 0o644)
}

func read(path string, holders map[string][]string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.FieldsPerRecord, r.LazyQuotes = -1, true
	for {
		row, err := r.Read()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("%s: %w", path, err)
		}
		if len(row) < 3 || row[0] == "Registry" {
			continue
		}
		name := strings.Join(strings.Fields(row[2]), " ")
		// A block that is divided further, or whose holder is not told, says nothing.
		if name == "" || name == "Private" || name == "IEEE Registration Authority" {
			continue
		}
		holders[name] = append(holders[name], strings.ToLower(row[1]))
	}
}
