// Package trace tells what is said to devices and what they answer, for those who look for
// a fault: which operation, to whom, how it ended and how long it took. What was said in it
// is not told, since there may be passwords in it.
package trace

import (
	"context"
	"log/slog"
	"time"
)

type key struct{}

// With gives a context in which operations are told to a log.
func With(ctx context.Context, log *slog.Logger) context.Context {
	return context.WithValue(ctx, key{}, log)
}

// Begin tells, once it is ended, of an operation of a protocol at a device.
func Begin(ctx context.Context, protocol, operation, at string) (end func(outcome any)) {
	log, ok := ctx.Value(key{}).(*slog.Logger)
	if !ok || !log.Enabled(ctx, slog.LevelDebug) {
		return func(any) {}
	}
	begun := time.Now()
	return func(outcome any) {
		log.Debug(protocol, "operation", operation, "at", at, "outcome", outcome, "took", time.Since(begun).Round(time.Millisecond))
	}
}
