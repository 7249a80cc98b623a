package cli

import (
	"slices"
	"strings"

	"janustat/internal/handover"
)

// packOptions reads how the pack is to be made.
func packOptions(paper, labels string) (handover.Options, error) {
	o := handover.Options{Paper: handover.A4}
	switch strings.ToLower(paper) {
	case "a4":
	case "letter":
		o.Paper = handover.Letter
	default:
		return o, usagef("--paper %q: use a4 or letter", paper)
	}
	at := slices.IndexFunc(handover.LabelSheets, func(s handover.LabelSheet) bool { return s.Name == labels })
	if at < 0 {
		return o, usagef("--labels %q: use 24, 21, 40 or 30", labels)
	}
	o.Sheet = handover.LabelSheets[at]
	return o, nil
}
