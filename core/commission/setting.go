package commission

import (
	"context"

	"janustat/core/setting"
	"janustat/core/settings"
	"janustat/core/text"
)

// ofSetting makes the step of a setting that is a folder of its own. A device may refuse it, and is
// left without.
func ofSetting(s setting.Setting) step {
	name := Step(s.Name)
	wanted := func(p Plan, f Found) (want, got string, is bool) {
		want, is = p.Wants[s.Name]
		got, told := f.Values[s.Name]
		return want, got, is && (told || !s.Optional)
	}
	return step{
		name: name, title: s.Title, while: speaking, told: s.Told, soft: true, opens: s.Opens, first: s.Opens && !s.Last,
		due: func(p Plan, f Found) bool {
			want, got, is := wanted(p, f)
			return is && want != got
		},
		intent: func(p Plan, _ Found) string { return p.Wants[s.Name] },
		do: func(r *run, ctx context.Context, w Write) error {
			if s.Settles > 0 {
				r.playsBy = r.Site.Now().Add(s.Settles)
			}
			return s.Set(ctx, r.session, w.Intent)
		},
		proofs: func(p Plan, f Found) []Check {
			want, got, is := wanted(p, f)
			return only(is, Check{string(s.Name), want == got, want, got})
		},
	}
}

// ReadAll reads a device, and of the settings that are folders of their own those that it is to have.
func ReadAll(ctx context.Context, s Session, p Plan) (Found, error) {
	f, err := s.Read(ctx)
	if err != nil {
		return f, err
	}
	for _, x := range settings.All {
		if _, wanted := p.Wants[x.Name]; !wanted && !(x.Watched && (p.Whole || p.Was[x.Name] != "")) {
			continue
		}
		value, told, err := x.Read(ctx, s)
		if err != nil {
			return f, err
		}
		if !told {
			if !x.Optional { // it is written once at most, and not proved
				f.Untold(Step(x.Name))
			}
			continue
		}
		if f.Values == nil {
			f.Values = setting.Values{}
		}
		f.Values[x.Name] = text.Harmless(value, text.Long, nil)
	}
	f.Settings.Keep(f.Values)
	return f, nil
}
