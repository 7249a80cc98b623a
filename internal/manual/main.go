// Command manual writes the manual pages of janustat (man, section 1) into a folder, for those who
// package it:
//
//	go run ./internal/manual DIR
//
// What makes them is no part of the program: each of its starts would pay for it.
package main

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra/doc"

	"janustat/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "manual takes one folder: go run ./internal/manual DIR")
		os.Exit(cli.ExitUsage)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(cli.ExitCould)
	}
}

func write(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: func(string) string { return "" }}
	root := app.Root()
	root.DisableAutoGenTag = true
	// The same commit gives the same pages on any day. Each has its command as its title.
	date, err := time.Parse(time.DateOnly, cli.Date)
	if err != nil {
		date = time.Unix(0, 0).UTC() // built from no commit
	}
	return doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Janustat", Manual: "Janustat", Date: &date}, dir)
}
