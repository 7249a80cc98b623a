package onvif

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Clock gives the device's clock minus ours (GetSystemDateAndTime), and how far off
// that may be for the time the answer was on its way. The answer has whole
// seconds; half of one is added as the best guess.
func (c *Client) Clock(ctx context.Context) (offset, doubt time.Duration, err error) {
	offset, took, err := c.readClock(ctx)
	if err != nil {
		return 0, 0, err
	}
	// An answer that was long on its way tells little: the quickest of a few counts, as long as
	// they get quicker.
	for range clockTries - 1 {
		if took <= clockPatience {
			break
		}
		again, less, err := c.readClock(ctx)
		slow := err == nil && less > took*3/4
		if err == nil && less < took {
			offset, took = again, less
		}
		if slow {
			break
		}
	}
	c.offset, c.doubt, c.clockKnown, c.clockRough = offset, took/2, true, false
	return offset, c.doubt, nil
}

// Greet reads the clock once, which every device tells everyone, however long its answer was on its way.
func (c *Client) Greet(ctx context.Context) error {
	offset, took, err := c.readClock(ctx)
	if err == nil {
		c.offset, c.doubt, c.clockKnown, c.clockRough = offset, took/2, true, took > clockPatience
	}
	return err
}

// ClockNow gives the clock as it was read last in this conversation, or reads it where it was set
// since, or an answer was long on its way.
func (c *Client) ClockNow(ctx context.Context) (offset, doubt time.Duration, err error) {
	if !c.clockKnown {
		return c.Clock(ctx)
	}
	if c.clockRough {
		c.clockRough = false
		if offset, took, err := c.readClock(ctx); err == nil && took/2 < c.doubt {
			c.offset, c.doubt = offset, took/2
		}
	}
	return c.offset, c.doubt, nil
}

const (
	// clockPatience is how long the clock may be on its way, either way, before it is
	// read or set once more.
	clockPatience = time.Second / 2
	clockTries    = 3
)

// dateXML is a moment (tt:DateTime).
type dateXML struct {
	Time struct{ Hour, Minute, Second number }
	Date struct{ Year, Month, Day number }
}

func (d dateXML) moment() time.Time {
	if d.Date.Year == 0 {
		return time.Time{}
	}
	return time.Date(int(d.Date.Year), time.Month(d.Date.Month), int(d.Date.Day), int(d.Time.Hour), int(d.Time.Minute), int(d.Time.Second), 0, time.UTC)
}

type clockXML struct {
	Kind     string  `xml:"SystemDateAndTime>DateTimeType"`
	Zone     string  `xml:"SystemDateAndTime>TimeZone>TZ"`
	Daylight string  `xml:"SystemDateAndTime>DaylightSavings"`
	UTC      dateXML `xml:"SystemDateAndTime>UTCDateTime"`
	Local    dateXML `xml:"SystemDateAndTime>LocalDateTime"`
}

// utc gives the device's time: as it says, or by the Date of its answer (RFC 9110,
// 6.6.1), or its local time where its zone is none.
func (a clockXML) utc(date time.Time) (time.Time, bool) {
	if t := a.UTC.moment(); !t.IsZero() {
		return t, true
	}
	if !date.IsZero() {
		return date, true
	}
	zone := strings.ToUpper(strings.TrimSpace(a.Zone))
	plain := zone == "" || strings.HasPrefix(zone, "UTC") && strings.Trim(zone, "UTC0+-:") == "" || strings.HasPrefix(zone, "GMT") && strings.Trim(zone, "GMT0+-:") == ""
	t := a.Local.moment()
	return t, plain && !t.IsZero()
}

// readClock reads the clock once, and tells how long the answer took.
func (c *Client) readClock(ctx context.Context) (offset, took time.Duration, err error) {
	var a clockXML
	// This operation is open to everyone (access class PRE_AUTH), and a token could not be
	// right yet. Some devices want the password all the same, once it is known to fit.
	was := c.scheme
	if was == byToken {
		c.scheme = anonymous
	}
	err = c.call(ctx, "GetSystemDateAndTime", "", &a)
	c.scheme = was
	if errors.Is(err, ErrRefused) && was == byToken && c.proven {
		err = c.call(ctx, "GetSystemDateAndTime", "", &a)
	}
	if err != nil {
		return 0, 0, err
	}
	told, ok := a.utc(c.date)
	if !ok {
		return 0, 0, fmt.Errorf("GetSystemDateAndTime: no UTC time in the answer")
	}
	took = c.answered.Sub(c.asked)
	c.byNTP = strings.TrimSpace(a.Kind) == "NTP"
	c.zone, c.daylight = strings.TrimSpace(a.Zone), strings.TrimSpace(a.Daylight)
	return told.Add(500 * time.Millisecond).Sub(c.asked.Add(took / 2)), took, nil
}

// ByNTP reports whether the clock followed NTP when it was last read.
func (c *Client) ByNTP() bool { return c.byNTP }

// Zone gives the time zone as it was last read, and false where the device tells none.
func (c *Client) Zone() (zone string, told bool) { return c.said(c.zone), c.zone != "" }
