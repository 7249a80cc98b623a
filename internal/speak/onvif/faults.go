package onvif

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/text"
	"janustat/internal/speak/soap"
)

// maxSubcodes bounds the subcodes of a fault that are kept; the standard nests two.
const maxSubcodes = 4

// quieten makes what a device says in a fault fit to be kept.
func (c *Client) quieten(f *soap.Fault) {
	f.Code, f.Subcodes = c.said(f.Code), f.Subcodes[:min(len(f.Subcodes), maxSubcodes)]
	for i, s := range f.Subcodes {
		f.Subcodes[i] = c.said(s)
	}
	f.Reason = text.Harmless(f.Reason, text.Long, c.veil.Text)
}

// setsPassword tells the operations that carry a new password, and whose
// prohibition may as well mean that it is too weak.
func setsPassword(operation string) bool {
	return operation == "CreateUsers" || operation == "SetUser"
}

// carriesPassword tells the operations whose question or answer has a password in it.
func carriesPassword(operation string) bool {
	switch operation {
	case "CreateReceiver", "ConfigureReceiver", "GetReceivers", "GetSystemBackup":
		return true
	}
	return setsPassword(operation)
}

type confidentialKey struct{}

// confidential marks what a request carries, or what comes of it, as one that is to be kept out of a capture.
func confidential(ctx context.Context) context.Context {
	return context.WithValue(ctx, confidentialKey{}, true)
}

// Confidential reports whether what a request carries is to be kept out of a
// capture: it sets a password. The context is that of the connection too.
func Confidential(ctx context.Context) bool {
	yes, _ := ctx.Value(confidentialKey{}).(bool)
	return yes
}

// lockedOut tells a refusal for too many wrong passwords from one for a wrong one:
// by the status (RFC 4918, 11.3; RFC 6585, 4), or by what the device says, since
// the standard has no fault of its own for it.
func lockedOut(status int, header http.Header, f *soap.Fault) (wait time.Duration, locked bool) {
	words := strings.ToLower(f.Reason + " " + strings.Join(f.Subcodes, " "))
	refused := status == http.StatusUnauthorized || f.RefusesAccess()
	switch {
	case status == http.StatusLocked, status == http.StatusTooManyRequests:
	case refused && (strings.Contains(words, "locked") || strings.Contains(words, "lockout") || strings.Contains(words, "too many")):
	default:
		return 0, false
	}
	return retryAfter(header.Get("Retry-After"), time.Now()), true
}

// maxLockOut bounds what a device may say of how long it is locked.
const maxLockOut = 24 * time.Hour

// retryAfter reads the header of that name (RFC 9110, 10.2.3); 0 when it says nothing useful.
func retryAfter(text string, now time.Time) time.Duration {
	wait := time.Duration(0)
	if seconds, err := strconv.Atoi(text); err == nil {
		wait = time.Duration(min(seconds, int(maxLockOut/time.Second))) * time.Second
	} else if at, err := http.ParseTime(text); err == nil {
		wait = at.Sub(now)
	}
	return min(max(wait, 0), maxLockOut)
}

func saysPower(reason string) bool {
	low := strings.ToLower(reason)
	return slices.ContainsFunc([]string{"power", "restart", "reboot", "boot", "start-up", "startup", "minutes after", "window", "closed"}, func(w string) bool { return strings.Contains(low, w) })
}
