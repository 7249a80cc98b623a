// Command yardstick is what the project measures itself by: it commissions the devices of a job in
// the plainest way there is.
//
//	yardstick --job FOLDER --wire bench:SOCKET
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
)

func main() {
	if err := run(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "yardstick:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, args []string) error {
	f := flag.NewFlagSet("yardstick", flag.ContinueOnError)
	folder, on, lanes := f.String("job", "", "folder of a job whose devices are allotted"), f.String("wire", "", "bench:SOCKET"), f.Int("lanes", 32, "devices at once")
	if err := f.Parse(args); err != nil {
		return err
	}
	return plain(ctx, *folder, *on, *lanes)
}
