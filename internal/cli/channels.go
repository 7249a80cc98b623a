package cli

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"janustat/core/device"
	"janustat/core/sheet"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

// channelJSON is one channel in the --json document of channels.
type channelJSON struct {
	Recorder string `json:"recorder"`
	Number   int    `json:"channel"` // 0 is any free one
	Camera   string `json:"camera"`
	Name     string `json:"name"`
	URI      string `json:"uri"`
	User     string `json:"user"`
	Codec    string `json:"codec,omitempty"`
	Size     string `json:"size,omitempty"`
	State    string `json:"state"`
	Why      string `json:"why,omitempty"`
}

func (a *App) channelsCommand() *cobra.Command {
	var file string
	var passwords bool
	c := &cobra.Command{
		Use:   "channels [RECORDER]",
		Short: "Show which camera is on which recorder channel",
		Long: `Shows every channel of the job sheet's recorders, in channel order, with the stream,
its user and how it fared when it was last read. A recorder that lacks the standard's
services for its channels is set up by hand from this sheet; --csv writes it to a file.
With --passwords the passwords of the recorder's user on each camera are in it as well:
keep such a file, and such a screen, to yourself. Nothing is sent to any device.`,
		Example: "  janustat channels\n  janustat channels R02 --csv r02.csv --passwords",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usagef("channels takes one recorder at most")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			if a.json && passwords {
				return usagef("passwords are never written as JSON")
			}
			return a.withJob(c.Context(), "channels", func(d *work.Desk) error {
				var keys *keyring.Keyring
				if passwords {
					var err error
					if keys, err = a.keyring(c.Context(), d.Job, false); err != nil {
						return err
					}
				}
				rows, err := d.Channels(c.Context(), keys)
				if err != nil {
					return err
				}
				if len(args) == 1 {
					r, err := device.Find(d.Devices, args[0])
					if err != nil {
						return err
					}
					rows = only(rows, r)
				}
				if file != "" {
					return a.channelFile(file, rows, passwords)
				}
				return a.printChannels(rows, passwords)
			})
		},
	}
	c.Flags().StringVar(&file, "csv", "", "write the sheet to this `FILE`")
	c.Flags().BoolVar(&passwords, "passwords", false, "with the passwords; asks for the keyring's passphrase")
	return c
}

func only(rows []work.ChannelRow, r *device.Device) (out []work.ChannelRow) {
	for _, x := range rows {
		if x.Recorder.ID == r.ID {
			out = append(out, x)
		}
	}
	return out
}

func channelNumber(n int) string {
	if n == 0 {
		return "any"
	}
	return strconv.Itoa(n)
}

func streamText(d *device.Device) (codec, size string) {
	if d.Stream == nil {
		return "", ""
	}
	return d.Stream.Codec, d.Stream.Size()
}

func (a *App) printChannels(rows []work.ChannelRow, passwords bool) error {
	if a.json {
		out := []channelJSON{}
		for _, r := range rows {
			codec, size := streamText(r.Camera)
			out = append(out, channelJSON{r.Recorder.Tag, r.Number, r.Camera.Tag, r.Name, r.URI, r.User, codec, size, string(r.State), r.Why})
		}
		return a.emit(out)
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "The job sheet says nothing of recorder channels: `channels: auto` gives every camera one.")
		return nil
	}
	l := &listing{columns: []column{{head: "RECORDER"}, {head: "CH"}, {head: "CAMERA"}, {head: "NAME"}, {head: "STREAM"}, {head: "USER"}}}
	if passwords {
		l.columns = append(l.columns, column{head: "PASSWORD"})
	}
	l.columns = append(l.columns, column{head: "CODEC"}, column{head: "SIZE"}, column{head: "STATE"})
	for _, r := range rows {
		codec, size := streamText(r.Camera)
		row := []cell{plain(r.Recorder.Tag), plain(channelNumber(r.Number)), plain(r.Camera.Tag), plain(r.Name), plain(r.URI), plain(r.User)}
		if passwords {
			row = append(row, plain(r.Password.Reveal()))
		}
		state := cell{text: string(r.State), style: &workStyle}
		if r.State.Good() && r.Why == "" {
			state.style = &goodStyle
		}
		if r.Why != "" {
			state.text += " (" + r.Why + ")"
		}
		l.add(append(row, plain(codec), plain(size), state)...)
	}
	a.write(a.Out, l)
	if !passwords {
		fmt.Fprintln(a.Out, "\nPassword of one: janustat key show C01 --user "+sheet.RecorderUser+"; of all: janustat channels --passwords")
	}
	return nil
}

// protocolOf names how a stream is asked for, as the forms of recorders do.
func protocolOf(uri string) string {
	scheme, _, _ := strings.Cut(uri, ":")
	switch scheme {
	case "rtsps":
		return "RTSP over TLS"
	case "http":
		return "RTSP over HTTP"
	case "https":
		return "RTSP over HTTPS"
	}
	return "RTSP over TCP"
}

// channelFile writes the sheet for a person, who types it in.
func (a *App) channelFile(file string, rows []work.ChannelRow, passwords bool) error {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	head := []string{"recorder", "channel", "camera", "name", "protocol", "stream", "user"}
	if passwords {
		head = append(head, "password")
	}
	_ = w.Write(head) // into memory: never fails
	for _, r := range rows {
		line := []string{r.Recorder.Tag, channelNumber(r.Number), r.Camera.Tag, r.Name, protocolOf(r.URI), r.URI, r.User}
		if passwords {
			line = append(line, r.Password.Reveal())
		}
		for i := range line {
			if passwords && i == len(line)-1 {
				continue // typed as it is
			}
			line[i], _ = text.Inert(line[i])
		}
		_ = w.Write(line)
	}
	w.Flush()
	if err := disk.WriteFile(file, b.Bytes(), 0o600); err != nil {
		return err
	}
	return a.report(fmt.Sprintf("%s written: %s", file, plural(len(rows), "channel")))
}
