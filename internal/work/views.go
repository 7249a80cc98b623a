package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/job"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/views"
)

// viewsAtOnce is how many cameras are asked for a still at the same time.
const viewsAtOnce = 8

// Views fetches a still of every camera of the job, judges them, and keeps them with a
// contact sheet in the job's folder.
func (d *Desk) Views(ctx context.Context, n *reach.Net, keys *keyring.Keyring) (shots []views.Shot, files []string, err error) {
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	planner, err := d.Planner(ctx, keys)
	if err != nil {
		return nil, nil, err
	}
	var cameras []*device.Device
	list := device.OfJob(d.Devices)
	for i := range list {
		if list[i].Kind == device.Camera {
			cameras = append(cameras, &list[i])
		}
	}
	shots = make([]views.Shot, len(cameras))
	places := make(chan struct{}, viewsAtOnce)
	var all sync.WaitGroup
	for i, c := range cameras {
		shots[i] = views.Shot{Tag: c.Tag, Name: c.Name}
		plan := planner.KeyPlan(c)
		if plan.Stop != nil || c.Alarm != "" || plan.Password.IsZero() {
			shots[i].Flaw = "none: it is not commissioned"
			continue
		}
		all.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			s := &shots[i]
			d.Say("  %s: fetching a still …", plan.Tag)
			var err error
			if s.JPEG, s.Later, err = prover.Stills(ctx, plan); err != nil {
				s.Flaw = "none: " + text.Harmless(err.Error(), text.Long, d.Veil.Text)
			}
			s.At = time.Now()
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return nil, nil, ErrInterrupted
	}
	views.Judge(shots)
	files, err = d.keepViews(shots)
	return shots, files, err
}

// keepViews writes stills and sheets; what is there of cameras without a still stays.
func (d *Desk) keepViews(shots []views.Shot) (files []string, err error) {
	dir := d.Job.Path(job.ViewsDir)
	if err := disk.OwnDir(dir); err != nil {
		return nil, fmt.Errorf("views: %w", err)
	}
	write := func(name string, data []byte) error {
		path := filepath.Join(dir, name)
		files = append(files, path)
		return disk.WriteFile(path, data, 0o644)
	}
	for _, s := range shots {
		if s.JPEG != nil {
			if err := write(s.Tag+".jpg", s.JPEG); err != nil {
				return files, err
			}
		}
	}
	sheet, err := views.Sheet(d.Job.Sheet.Name, shots)
	if err != nil {
		return files, err
	}
	if err := write("views.png", sheet); err != nil {
		return files, err
	}
	page, err := views.Page(d.Job.Sheet.Name, shots)
	if err != nil {
		return files, err
	}
	return files, write("views.html", page)
}

// Stills gives the stills that were kept, small, by the tags of cameras.
func Stills(j *job.Job) (map[string][]byte, error) {
	paths, err := filepath.Glob(filepath.Join(j.Path(job.ViewsDir), "*.jpg"))
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, p := range paths {
		data, err := os.ReadFile(p)
		if err != nil {
			return nil, fmt.Errorf("views: %w", err)
		}
		if small, err := views.Small(data, stillWide); err == nil { // one that cannot be read is no picture
			out[strings.TrimSuffix(filepath.Base(p), ".jpg")] = small
		}
	}
	return out, nil
}

// stillWide is how wide a still is in the documents, in pixels.
const stillWide = 640
