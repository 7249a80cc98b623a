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

// Wait says how long until another try is allowed, given how long ago each earlier
// try was that is not known to have fitted; 0 means now. A try that lies in the future,
// by a clock that was set back since, counts as made just now.
func (b Budget) Wait(ages []time.Duration) time.Duration {
	recent := b.recent(ages)
	limit := b.Limit()
	if len(recent) < limit {
		return 0
	}
	return BudgetWindow - recent[limit-1]
}

// Left counts the tries that are allowed now.
func (b Budget) Left(ages []time.Duration) int { return max(b.Limit()-len(b.recent(ages)), 0) }

// recent gives the ages within the window, the youngest first.
func (b Budget) recent(ages []time.Duration) (out []time.Duration) {
	for _, age := range ages {
		if age = max(age, 0); age < BudgetWindow {
			out = append(out, age)
		}
	}
	slices.Sort(out)
	return out
}
