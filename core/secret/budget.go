package secret

import (
	"slices"
	"time"
)

// DefaultBudget is how many password tries a device is offered per hour, across runs.
const DefaultBudget = 2

// BudgetWindow is the time over which tries are counted.
const BudgetWindow = time.Hour

// Budget bounds the tries of passwords not yet known to open a device. Devices
// lock after as few as three wrong ones, so the default leaves one for a person.
type Budget struct{ PerHour int }

// Limit is how many tries a device is offered within BudgetWindow.
func (b Budget) Limit() int {
	if b.PerHour <= 0 {
		return DefaultBudget
	}
	return b.PerHour
}

// Wait says how long until another try is allowed, given the moments of
// earlier tries that were not known to succeed; 0 means now.
func (b Budget) Wait(spent []time.Time, now time.Time) time.Duration {
	limit := b.Limit()
	var recent []time.Time
	for _, at := range spent {
		if now.Sub(at) < BudgetWindow {
			recent = append(recent, at)
		}
	}
	if len(recent) < limit {
		return 0
	}
	slices.SortFunc(recent, time.Time.Compare)
	return recent[len(recent)-limit].Add(BudgetWindow).Sub(now)
}
