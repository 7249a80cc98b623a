package onvif

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"janustat/internal/speak/soap"
)

// media finds the media service (Media Service Specification, 5); false where the device
// has none.
func (c *Client) media(ctx context.Context) (service, bool, error) {
	list, err := c.services(ctx)
	if err != nil {
		return service{}, false, err
	}
	at, has := c.serviceIn(list, mediaNS, "trt")
	return at, has, nil
}

// Picture is a picture source of a device, as one of its configurations, and what it shows.
type Picture struct {
	Name  string // of the configuration
	Text  string // on the screen: that which tells what the picture is of; "" for none
	Named bool   // it can be named without changing anything else
	Shows bool   // text can be shown

	config configXML
	osd    osdXML // that shows Text; zero where one has to be made
}

// configXML is a video source configuration (tt:VideoSourceConfiguration).
type configXML struct {
	Token       string `xml:"token,attr"`
	ViewMode    string `xml:"ViewMode,attr"`
	Name        string
	UseCount    number
	SourceToken string
	Bounds      struct {
		X      string `xml:"x,attr"`
		Y      string `xml:"y,attr"`
		Width  string `xml:"width,attr"`
		Height string `xml:"height,attr"`
	}
	Extension *struct{}
	More      []struct{} `xml:",any"`
}

// osdXML is text or a picture on the screen (tt:OSDConfiguration).
type osdXML struct {
	Token  string `xml:"token,attr"`
	Source string `xml:"VideoSourceConfigurationToken"`
	Type   string
	Place  struct {
		Type string
		Pos  *struct {
			X string `xml:"x,attr"`
			Y string `xml:"y,attr"`
		}
	} `xml:"Position"`
	Text struct {
		Type       string
		FontSize   string
		FontColor  *colourXML
		Background *colourXML `xml:"BackgroundColor"`
		PlainText  string
	} `xml:"TextString"`
}

type colourXML struct {
	Transparent string `xml:"Transparent,attr"`
	Color       struct {
		X     string `xml:"X,attr"`
		Y     string `xml:"Y,attr"`
		Z     string `xml:"Z,attr"`
		Space string `xml:"Colorspace,attr"`
	}
}

// Pictures reads the picture sources of a device and the text they show
// (GetVideoSourceConfigurations and GetOSDs of the media service); none where it has no
// such service. names are what the device is known by: of several texts on one screen, the
// one that is among them tells what the picture is of.
func (c *Client) Pictures(ctx context.Context, names ...string) ([]Picture, error) {
	media, has, err := c.media(ctx)
	if err != nil || !has {
		return nil, unlessFault(err)
	}
	var configs struct{ Configurations []configXML }
	if err := c.callOf(ctx, media, "GetVideoSourceConfigurations", "", &configs); err != nil {
		return nil, unlessFault(err)
	}
	var osds struct{ OSDs []osdXML }
	err = c.callOf(ctx, media, "GetOSDs", "", &osds)
	shows := err == nil
	if err := unlessFault(err); err != nil {
		return nil, err
	}
	var out []Picture
	for _, k := range configs.Configurations {
		p := Picture{Name: c.said(k.Name), Named: k.ViewMode == "" && k.Extension == nil && len(k.More) == 0, Shows: shows, config: k}
		if at := telling(osds.OSDs, k.Token, append(names, p.Name)); at != nil {
			p.osd, p.Text = *at, c.said(at.Text.PlainText)
		}
		out = append(out, p)
	}
	return out, nil
}

// telling gives the text on a source's screen that tells what the picture is of: one that
// is among the names, else the only one there is. Date, time and what somebody put there
// beside it are not touched.
func telling(all []osdXML, source string, names []string) *osdXML {
	var plain []*osdXML
	for i := range all {
		o := &all[i]
		if o.Source == source && o.Type == "Text" && o.Text.Type == "Plain" {
			plain = append(plain, o)
		}
	}
	for _, o := range plain {
		for _, name := range names {
			if name != "" && o.Text.PlainText == name {
				return o
			}
		}
	}
	if len(plain) == 1 {
		return plain[0]
	}
	return nil
}

// Declined reports whether an error is a device's refusal to do something, or to do it for
// everybody: it answers, and does not offer it.
func Declined(err error) bool { return err != nil && unlessFault(err) == nil }

// unlessFault gives an error that is no refusal: what a device does not offer, or not to
// everybody, is not there.
func unlessFault(err error) error {
	if Untold(err) {
		return nil
	}
	return err
}

// Untold reports whether a device has answered and has not told what it was asked: it refuses
// that, or says nothing that can be read. Whether it has the setting is then not known.
func Untold(err error) bool {
	var locked *LockedError
	if errors.As(err, &locked) || errors.Is(err, ErrShut) {
		return false
	}
	var fault *soap.Fault
	return errors.As(err, &fault) || errors.Is(err, ErrNoSense)
}

// Caption names a picture source and shows the name in its picture, where it can: what is
// so already is not written (SetVideoSourceConfiguration; SetOSD or CreateOSD).
func (c *Client) Caption(ctx context.Context, p Picture, name string) error {
	media, has, err := c.media(ctx)
	if err != nil || !has {
		return cmp.Or(err, errors.New("it has no media service any more"))
	}
	if p.Named && p.Name != name {
		k := p.config
		inner := fmt.Sprintf(`<trt:Configuration token="%s"><tt:Name>%s</tt:Name><tt:UseCount>%d</tt:UseCount><tt:SourceToken>%s</tt:SourceToken>`+
			`<tt:Bounds x="%s" y="%s" width="%s" height="%s"/></trt:Configuration><trt:ForcePersistence>true</trt:ForcePersistence>`,
			soap.Text(k.Token), soap.Text(name), k.UseCount, soap.Text(k.SourceToken),
			soap.Text(k.Bounds.X), soap.Text(k.Bounds.Y), soap.Text(k.Bounds.Width), soap.Text(k.Bounds.Height))
		if err := c.callOf(ctx, media, "SetVideoSourceConfiguration", inner, nil); err != nil {
			return err
		}
	}
	if !p.Shows || p.Text == name {
		return nil
	}
	operation, o := "SetOSD", p.osd
	if o.Token == "" {
		operation = "CreateOSD"
		o.Source, o.Type, o.Text.Type = p.config.Token, "Text", "Plain"
		o.Place.Type = "UpperLeft"
	}
	o.Text.PlainText = name
	return c.callOf(ctx, media, operation, o.inner(), nil)
}

// inner gives the OSD as it is sent, in the order of the schema; what is not set is left out.
func (o *osdXML) inner() string {
	var b strings.Builder
	fmt.Fprintf(&b, `<trt:OSD token="%s"><tt:VideoSourceConfigurationToken>%s</tt:VideoSourceConfigurationToken><tt:Type>Text</tt:Type><tt:Position><tt:Type>%s</tt:Type>`,
		soap.Text(o.Token), soap.Text(o.Source), soap.Text(o.Place.Type))
	if at := o.Place.Pos; at != nil {
		fmt.Fprintf(&b, `<tt:Pos x="%s" y="%s"/>`, soap.Text(at.X), soap.Text(at.Y))
	}
	b.WriteString("</tt:Position><tt:TextString><tt:Type>Plain</tt:Type>")
	if o.Text.FontSize != "" {
		fmt.Fprintf(&b, "<tt:FontSize>%s</tt:FontSize>", soap.Text(o.Text.FontSize))
	}
	b.WriteString(o.Text.FontColor.inner("FontColor"))
	b.WriteString(o.Text.Background.inner("BackgroundColor"))
	fmt.Fprintf(&b, "<tt:PlainText>%s</tt:PlainText></tt:TextString></trt:OSD>", soap.Text(o.Text.PlainText))
	return b.String()
}

func (k *colourXML) inner(element string) string {
	if k == nil {
		return ""
	}
	attr := func(name, value string) string {
		if value == "" {
			return ""
		}
		return fmt.Sprintf(` %s="%s"`, name, soap.Text(value))
	}
	return fmt.Sprintf("<tt:%s%s><tt:Color%s%s%s%s/></tt:%[1]s>", element, attr("Transparent", k.Transparent),
		attr("X", k.Color.X), attr("Y", k.Color.Y), attr("Z", k.Color.Z), attr("Colorspace", k.Color.Space))
}
