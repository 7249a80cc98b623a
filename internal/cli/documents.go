package cli

import (
	"encoding/json"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/internal/handover"
	"janustat/internal/store"
)

// The documents that commands write with --json, where they are no plain lists. Their fields
// are a contract: they grow and do not change (docs/schemas).
type (
	// doneJSON is what most commands tell that decide something.
	doneJSON struct {
		Done string `json:"done"` // in words; empty where nothing was
	}

	begunJSON struct {
		Job  string `json:"job"` // the folder
		Name string `json:"name"`
	}

	showJSON struct {
		deviceJSON
		Tongues []device.Tongue  `json:"tongues,omitempty"`
		Stream  *device.Stream   `json:"stream,omitempty"`
		Links   []device.Link    `json:"links,omitempty"`
		AsFound *device.Settings `json:"as_found" jsonschema:"nullable"` // before the job touched it
		AsLeft  *device.Settings `json:"as_left" jsonschema:"nullable"`  // after
		Why     string           `json:"why,omitempty"`                  // the reason for the allotted address
		History []store.Entry    `json:"history"`
	}

	allotJSON struct {
		Ground    ground.Ground `json:"ground"`
		Allotment []allotRow    `json:"allotment"`
		Differs   []string      `json:"differs,omitempty"`
	}

	commissionJSON struct {
		Results []resultJSON `json:"results"`
		Writes  int          `json:"writes"`
		TookMS  int64        `json:"took_ms"`
	}

	proveJSON struct {
		Devices []proofJSON `json:"devices"`
		Failed  int         `json:"failed"`
	}

	handoverJSON struct {
		Files   []string `json:"files"`
		Devices int      `json:"devices"`
		Open    []string `json:"still_open"`
	}

	noteJSON struct {
		Tag   string      `json:"tag"`
		MAC   device.MAC  `json:"mac"`
		Notes store.Notes `json:"notes"`
	}

	scheduleJSON struct {
		Matched     []matchedJSON `json:"matched"`
		RowsLeft    int           `json:"rows_left"`    // that mean no device
		DevicesLeft int           `json:"devices_left"` // that stand in no row
		Doubts      []string      `json:"doubts"`
		Names       int           `json:"names"`      // written into the job sheet
		NamesKept   []string      `json:"names_kept"` // whose names in the sheet stand
	}

	matchedJSON struct {
		Line   int    `json:"line"`
		Device string `json:"device"`
		By     string `json:"by"`
	}

	viewsJSON struct {
		Views []viewJSON `json:"views"`
		Files []string   `json:"files"`
	}

	backupJSON struct {
		Tag    string     `json:"tag"`
		Name   string     `json:"name"`
		MAC    device.MAC `json:"mac"`
		File   string     `json:"file,omitempty"` // in the job's folder; left out where there is none
		SHA256 string     `json:"sha256,omitempty"`
		Bytes  int        `json:"bytes,omitempty"`
		Why    string     `json:"why,omitempty"` // there is none
	}

	firmwareJSON struct {
		Tag      string     `json:"tag"`
		Name     string     `json:"name"`
		MAC      device.MAC `json:"mac"`
		Make     string     `json:"make"`
		Model    string     `json:"model"`
		Hardware string     `json:"hardware,omitempty"` // its revision
		Version  string     `json:"version"`            // that it has now
		Agreed   string     `json:"agreed,omitempty"`
		State    string     `json:"state"`             // how it stood when this began
		Path     []string   `json:"path,omitempty"`    // versions that bring it to what is agreed on, in order
		Outcome  string     `json:"outcome,omitempty"` // where something was to be done
		Was      string     `json:"was,omitempty"`     // the version that it was found with, where it was sent firmware
		Why      string     `json:"why,omitempty"`
		Next     string     `json:"next,omitempty"`
		Notes    []string   `json:"notes,omitempty"`
	}

	viewJSON struct {
		Tag  string `json:"tag"`
		Name string `json:"name"`
		Flaw string `json:"flaw,omitempty"`
	}

	compareJSON struct {
		Differences []handover.Difference `json:"differences"`
	}

	wireJSON struct {
		lan.Report
		Faults []faultJSON `json:"faults"`
	}

	// lineJSON is one line of --json=lines.
	lineJSON struct {
		At       time.Time         `json:"at"`
		Event    string            `json:"event"` // told, step, result, proved, document or end
		Text     string            `json:"text,omitempty"`
		Tag      string            `json:"tag,omitempty"`
		MAC      *device.MAC       `json:"mac,omitempty"`
		Step     commission.Step   `json:"step,omitempty"`
		Status   commission.Status `json:"status,omitempty"`
		OK       *bool             `json:"ok,omitempty"`   // of a device that was proved
		Exit     *int              `json:"exit,omitempty"` // the exit code, at the end
		Document json.RawMessage   `json:"document,omitempty"`
	}
)

// jsonForm is the value of --json: nothing, one document, or an event a line.
type jsonForm struct{ app *App }

// String gives the form asked for.
func (f jsonForm) String() string {
	switch {
	case f.app == nil || !f.app.json:
		return ""
	case f.app.lined:
		return "lines"
	}
	return "document"
}

// Set reads the form asked for.
func (f jsonForm) Set(s string) error {
	switch s {
	case "document", "true":
		f.app.json, f.app.lined = true, false
	case "lines":
		f.app.json, f.app.lined = true, true
	case "false":
		f.app.json, f.app.lined = false, false
	default:
		return usagef("use --json for one document, or --json=lines for an event a line")
	}
	return nil
}

// Type names the kind of value in help texts.
func (f jsonForm) Type() string { return "form" }

// line writes an event of --json=lines.
func (a *App) line(l lineJSON) error {
	l.At = time.Now().UTC().Truncate(time.Millisecond)
	a.writing.Lock()
	defer a.writing.Unlock()
	e := json.NewEncoder(a.Out)
	e.SetEscapeHTML(false)
	return e.Encode(l)
}

// emit writes v as the document of a command.
func (a *App) emit(v any) error {
	v = filled(v)
	if a.lined {
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		return a.line(lineJSON{Event: "document", Document: text})
	}
	e := json.NewEncoder(a.Out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
