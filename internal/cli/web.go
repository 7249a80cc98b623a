package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/proving"
	"janustat/core/secret"
	"janustat/internal/reach"
	"janustat/internal/site"
	"janustat/internal/web"
)

// opening is one port to be opened on each device.
type opening struct {
	web.Port
	tcp bool // as plain TCP
}

// usualOpenings are tried in turn when no port is named.
var usualOpenings = []web.Port{{Number: 80}, {Number: 443, TLS: true}, {Number: 8080}, {Number: 8443, TLS: true}}

func (a *App) webCommand() *cobra.Command {
	var ports []string
	var open, unproven bool
	c := &cobra.Command{
		Use:   "web DEVICE …",
		Short: "Open devices' own pages in the browser, wherever they are",
		Long: `Serves the web pages of devices on a loopback port of this laptop, carried by
Janustat's own way to each device: a stray, a clashing or an adrift device opens
too, several on one address side by side, and the laptop's settings stay as they
are. Each device has a link of its own that nobody can guess; nothing but this laptop
can use it. No password is filled in. Ctrl-C ends it.

--port names other ports: 8080, 8443/https, or 554/tcp for a plain TCP forward, which
every user of this laptop can use as long as it is open. A device that was opened before
and does not prove to be what it was is not shown, since nobody is to type its password
there; of one whose certificate is on record, only what is shown under that is. To look
at a page all the same, and to type no password there, say --unproven.`,
		Example: "  janustat web C01 --wire eth0 --open\n  janustat web C01 C02\n  janustat web C01 --port 8080 --port 554/tcp",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usagef("web which device? Name one or several: `janustat web C01`")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			openings, err := parseOpenings(ports)
			if err != nil {
				return err
			}
			return a.web(c.Context(), args, openings, open, unproven)
		},
	}
	c.Flags().StringSliceVar(&ports, "port", nil, "a `PORT` of the device: 8080, 8443/https or 554/tcp; its usual page if left out")
	c.Flags().BoolVar(&open, "open", false, "start the browser too")
	c.Flags().BoolVar(&unproven, "unproven", false, "show it though it does not prove who it is: type no password there")
	return c
}

func parseOpenings(list []string) ([]opening, error) {
	var out []opening
	for _, s := range list {
		number, kind, _ := strings.Cut(s, "/")
		n, err := strconv.ParseUint(number, 10, 16)
		if err != nil || n == 0 || !slices.Contains([]string{"", "http", "https", "tcp"}, kind) {
			return nil, usagef("--port %s: use a number, with /https or /tcp after it if it is not HTTP", s)
		}
		p := web.Port{Number: uint16(n), TLS: kind == "https" || kind == "" && (n == 443 || n == 8443)}
		out = append(out, opening{p, kind == "tcp"})
	}
	return out, nil
}

func (a *App) web(ctx context.Context, refs []string, openings []opening, open, unproven bool) error {
	j, devices, err := a.open(ctx)
	if err != nil {
		return err
	}
	defer j.Close()
	var chosen []*device.Device
	for _, ref := range refs {
		d, err := device.Find(devices, ref)
		if err != nil {
			return err
		}
		if d.NotOurs || d.InJob == device.Left {
			return usagef("%s is left alone by this job: `janustat take %s` first, if it is yours", d.Label(), ref)
		}
		chosen = append(chosen, d)
	}
	desk, err := a.desk(j, devices)
	if err != nil {
		return err
	}
	return a.withNet(ctx, desk, longPatience, func(ctx context.Context, n *reach.Net) error {
		site, err := desk.Site(ctx, n)
		if err != nil {
			return err
		}
		v := webView{app: a, site: site, log: desk.Log, openings: openings, unproven: unproven}
		if v.server, err = web.Listen(desk.Log); err != nil {
			return err
		}
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		links, err := v.openAll(ctx, chosen)
		if err != nil {
			return err
		}
		if err := a.printLinks(links); err != nil {
			return err
		}
		for _, l := range links {
			if l.tcp {
				a.say("note: %s takes connections of every user of this laptop", l.Link)
			}
		}
		if open {
			for _, l := range links {
				defer a.browse(l)()
			}
		}
		a.say("Ctrl-C ends")
		return v.server.Serve(ctx)
	})
}

// webLink is one link in the --json document of web.
type webLink struct {
	Device  string     `json:"device"`
	MAC     device.MAC `json:"mac"`
	Address netip.Addr `json:"address"`
	Port    uint16     `json:"port"`
	Link    string     `json:"link"` // a URL, or a loopback address for plain TCP
	tcp     bool
}

func (a *App) printLinks(links []webLink) error {
	if a.json {
		return a.emit(orEmpty(links))
	}
	for _, l := range links {
		if _, err := fmt.Fprintf(a.Out, "%-5s %s port %d\n      %s\n", l.Device, l.Address, l.Port, a.paint(a.Out, headStyle, l.Link)); err != nil {
			return err
		}
	}
	return nil
}

type webView struct {
	app      *App
	site     *site.Site
	server   *web.Server
	log      *slog.Logger
	openings []opening
	unproven bool // shown though it does not prove who it is
}

// openAll finds the devices side by side and opens their ports, in the order asked for.
func (v *webView) openAll(ctx context.Context, chosen []*device.Device) ([]webLink, error) {
	links, errs := make([][]webLink, len(chosen)), make([]error, len(chosen))
	done := make(chan struct{})
	for i, d := range chosen {
		go func() {
			links[i], errs[i] = v.openOne(ctx, d)
			done <- struct{}{}
		}()
	}
	for range chosen {
		<-done
	}
	return slices.Concat(links...), errors.Join(errs...)
}

func (v *webView) openOne(ctx context.Context, d *device.Device) ([]webLink, error) {
	at, err := v.find(ctx, d)
	if err != nil {
		return nil, err
	}
	if err := v.recognise(ctx, d, at); err != nil {
		if !v.unproven {
			return nil, err
		}
		v.app.say("note: %s is shown, and does not prove who it is: type no password there", d.Label())
	}
	dial, err := v.site.Dialer(ctx, d.MAC, at)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.Label(), err)
	}
	shown := &web.Device{Label: d.Label(), Address: at, Dial: dial}
	usual := usualOpenings
	if port := d.ServicePort(); port != 0 {
		usual = append([]web.Port{{Number: port}}, usual...)
	}
	if d.TLS != nil && !d.OpenedAt.IsZero() && !v.unproven {
		shown.Pin, usual = d.TLS.Fingerprint, []web.Port{{Number: d.TLS.Port, TLS: true}}
	}
	openings := v.openings
	for _, o := range openings {
		if shown.Pin != "" && !o.TLS && !o.tcp {
			return nil, needsError{fmt.Sprintf("%s is known by its certificate, and port %d shows none, so nothing there proves who answers. --unproven shows it: type no password there", d.Label(), o.Number)}
		}
	}
	if len(openings) == 0 {
		p, err := usualPort(ctx, dial, usual)
		if err != nil {
			return nil, fmt.Errorf("%s at %s: %w", d.Label(), at, err)
		}
		openings = []opening{{Port: p}}
	}
	var out []webLink
	for _, o := range openings {
		l := webLink{Device: d.Label(), MAC: d.MAC, Address: at, Port: o.Number, tcp: o.tcp}
		if o.tcp {
			local, err := web.Forward(ctx, shown, o.Number, v.log)
			if err != nil {
				return nil, err
			}
			l.Link = local.String()
		} else {
			l.Link = v.server.Open(shown, o.Port)
		}
		out = append(out, l)
	}
	return out, nil
}

// recognise makes sure that a device which was opened before is what it was.
func (v *webView) recognise(ctx context.Context, d *device.Device, at netip.Addr) error {
	err := proving.Itself(ctx, v.site, d, policy.KeyPlan(d, "", secret.Password{}), at)
	var x *proving.DoubtError
	if !errors.As(err, &x) {
		return err
	}
	const nobody = "Its page is not shown, since nobody is to type its password there"
	switch x.Doubt {
	case proving.Alarmed:
		return needsError{fmt.Sprintf("%s is not what it was: it %s. %s; `janustat prove %[1]s` finds out whether it is itself again", d.Label(), strings.TrimPrefix(x.Why, "it "), nobody)}
	case proving.Stranger:
		return needsError{fmt.Sprintf("%s is not what it was: %s. %s", d.Label(), x.Why, nobody)}
	case proving.Changed:
		return needsError{fmt.Sprintf("%s is not what it was: %s. %s; `janustat restore %[1]s` takes it back in, if it was reset on purpose", d.Label(), x.Why, nobody)}
	case proving.Silent:
		return needsError{fmt.Sprintf("%s has not proved who it is (%s), so its page is not shown: another device may answer there. --unproven shows it; do not type a password there", d.Label(), x.Why)}
	}
	return needsError{fmt.Sprintf("%s does not say who it is (%s), so its page is not shown. --unproven shows it: type no password there", d.Label(), x.Why)}
}

// find meets the device where it is now.
func (v *webView) find(ctx context.Context, d *device.Device) (netip.Addr, error) {
	places := slices.Clone(d.Addresses)
	if d.Allotted != nil && !slices.Contains(places, d.Allotted.Address) {
		places = append(places, d.Allotted.Address)
	}
	if len(places) == 0 {
		return netip.Addr{}, usagef("%s has no address: `janustat lease` gives it one", d.Label())
	}
	v.app.say("looking for %s …", d.Label())
	ctx, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+visitLimit, errors.New("no answer"))
	defer cancel()
	at, err := v.site.Find(ctx, commission.Plan{MAC: d.MAC}, places)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("%s does not answer: %w: check its cable and power, or run `janustat survey`", d.Label(), err)
	}
	return at, nil
}

// visitLimit is the longest that taking a visitor address takes.
const visitLimit = 8 * time.Second

const connectLimit = 4 * time.Second

// usualPort finds where the device's page is.
func usualPort(ctx context.Context, dial web.Dial, usual []web.Port) (web.Port, error) {
	for _, p := range usual {
		c, err := dialFor(ctx, dial, p.Number)
		if err == nil {
			c.Close()
			return p, nil
		}
	}
	var tried []string
	for _, p := range usual {
		tried = append(tried, strconv.Itoa(int(p.Number)))
	}
	return web.Port{}, fmt.Errorf("no page on port %s: name another with --port", strings.Join(tried, ", "))
}

func dialFor(ctx context.Context, dial web.Dial, port uint16) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, connectLimit)
	defer cancel()
	return dial(ctx, port)
}
