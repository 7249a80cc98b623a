package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"janustat/core/commission"
	"janustat/internal/keyring"
	"janustat/internal/work"
)

// dryRow is one device in the document of `commission --dry-run`.
type dryRow struct {
	Tag     string             `json:"tag"`
	From    string             `json:"from"`
	To      string             `json:"to"`
	Writes  []commission.Write `json:"writes"`
	Manner  commission.Manner  `json:"manner,omitempty"`
	Stopped string             `json:"stopped,omitempty"` // why nothing would be sent
	Partial bool               `json:"partial,omitempty"` // it tells the rest only with its password
}

// dryRun shows what would be written. No passphrase is needed to look at a job that has
// no keyring yet.
func (a *App) dryRun(ctx context.Context, d *work.Desk, only work.Selection) error {
	if _, _, err := d.Ready(only); err != nil {
		return err
	}
	keys, err := a.keyring(ctx, d.Job, false)
	switch {
	case errors.Is(err, keyring.ErrNoKeyring):
		keys = keyring.New("", "")
	case err != nil:
		return err
	}
	outlook, err := d.Outlook(ctx, keys, only)
	if err != nil {
		return err
	}
	rows := []dryRow{}
	for _, o := range outlook {
		rows = append(rows, dryRow{
			Tag: o.Plan.Tag, From: addressText(o.Plan.From), To: fmt.Sprintf("%s/%d", o.To.Address, o.To.Prefix),
			Writes: orEmpty(o.Writes), Manner: o.Plan.Manner, Stopped: o.Stopped, Partial: o.Partial,
		})
	}
	if a.json {
		return a.emit(rows)
	}
	l := &listing{columns: []column{{head: "TAG"}, {head: "FROM"}, {head: "TO"}, {head: "WOULD WRITE"}}}
	partial := 0
	for _, r := range rows {
		const before = 35 // about what the columns before it take
		lines := strings.Split(a.wrap(a.Out, before, dryText(r)), "\n")
		l.add(plain(r.Tag), plain(r.From), plain(r.To), plain(lines[0]))
		for _, more := range lines[1:] {
			l.add(plain(" "), plain(" "), plain(" "), plain(strings.TrimSpace(more)))
		}
		if r.Partial {
			partial++
		}
	}
	a.write(a.Out, l)
	fmt.Fprintln(a.Out, "\nNothing was sent. A device that asks for a restart, to use its new address, is restarted too.")
	if partial > 0 {
		fmt.Fprintln(a.Out, a.wrap(a.Out, 0, fmt.Sprintf("Marked with *: %s whose settings nobody reads without a password; what is right already is not written again.", plural(partial, "device"))))
	}
	return nil
}

func dryText(r dryRow) string {
	if r.Stopped != "" {
		return "nothing: " + r.Stopped
	}
	if r.Manner != commission.ByService {
		return string(r.Manner)
	}
	var words, free []string
	for _, w := range r.Writes {
		if of, ok := strings.CutPrefix(w.Intent, "any free channel: "); ok {
			tag, _, _ := strings.Cut(of, " ")
			free = append(free, tag)
			continue
		}
		word := w.Intent
		if !strings.Contains(word, string(w.Step)+" ") && !strings.Contains(word, string(w.Step)+":") { // or it says so itself
			word = commission.InWords(w.Step) + " " + word
		}
		words = append(words, word)
	}
	if len(free) > 0 {
		words = append(words, "channels for "+strings.Join(free, " ")+", here or on the next recorder")
	}
	text := strings.Join(words, "; ")
	if text == "" {
		text = "nothing, as far as the register knows"
	}
	if r.Partial {
		text = "* " + text
	}
	return text
}
