package survey

import (
	"context"
	"errors"

	"janustat/core/device"
	"janustat/internal/speak/wsd"
)

// Again reads devices anew of which no more is known than that they are devices: at the
// addresses they were met at, as a survey does, and nobody else. It gives what they told.
func (s Survey) Again(ctx context.Context, devices []device.Device) ([]device.Sighting, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, surveyLimit, errors.New("the reading took too long"))
	defer cancel()
	r := newRun(ctx, s)
	r.only = true
	defer r.Net.Hear(r.hear)()
	asked := map[device.MAC]bool{}
	r.spawn(func() {
		for i := range devices {
			d := &devices[i]
			asked[d.MAC] = true
			for _, at := range d.Addresses {
				key := hearing{d.MAC, at}
				if !r.Subnets.Askable(at) {
					continue
				}
				r.mu.Lock()
				r.hears(key)
				r.matched[key] = &wsd.Match{Endpoint: d.Endpoint}
				r.mu.Unlock()
				v, err := r.Net.Visit(r.ctx, r.Subnets.Of(at), at, r.Avoid)
				if err != nil {
					s.Log.Warn("no visitor", "subnet", r.Subnets.Of(at), "err", err)
					continue
				}
				r.mu.Lock()
				r.visitors[r.Subnets.Of(at)], r.subnets[r.Subnets.Of(at)] = v, true
				r.mu.Unlock()
				r.readOne(key, v)
			}
		}
	})
	select {
	case <-r.finished:
	case <-r.Net.Done():
		return nil, r.Net.Err()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []device.Sighting
	for _, f := range r.found.Sightings {
		if asked[f.MAC] && f.By == device.ByService {
			out = append(out, f)
		}
	}
	return out, nil
}
