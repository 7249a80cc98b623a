package commission

import (
	"context"
	"fmt"
	"time"
)

func (r *run) setName(ctx context.Context, w Write) error {
	a, err := able[Namer](r.session, "name")
	if err != nil {
		return err
	}
	return a.SetName(ctx, w.Intent)
}

func (r *run) setDNS(ctx context.Context, _ Write) error {
	a, err := able[ServerSetter](r.session, "DNS servers")
	if err != nil {
		return err
	}
	return a.SetDNS(ctx, r.plan.Target.DNS)
}

func (r *run) setNTP(ctx context.Context, _ Write) error {
	a, err := able[ServerSetter](r.session, "NTP servers")
	if err != nil {
		return err
	}
	return a.SetNTP(ctx, r.plan.Target.NTP)
}

func (r *run) setGateway(ctx context.Context, _ Write) error {
	a, err := able[Addresser](r.session, "gateway")
	if err != nil {
		return err
	}
	return a.SetGateway(ctx, r.plan.Target.Gateway)
}

func (r *run) setClock(ctx context.Context, _ Write) error {
	a, err := able[ClockSetter](r.session, "time")
	if err != nil {
		return err
	}
	late, err := a.SetClock(ctx)
	if late > 0 {
		r.detail = fmt.Sprintf("up to %s late: the answer took that long", late.Round(100*time.Millisecond))
	}
	return err
}
