package commission

// move is how far a device has come on its way to the address that it was given, by what it has
// said of that; where it is now is another matter. The zero value is a device that nothing was said to.
type move struct {
	given  addressSaid
	told   restartSaid
	waited bool // its restart was waited for once, and that is not done twice
}

// addressSaid is what a device has said to its address.
type addressSaid int

const (
	notGiven addressSaid = iota
	unsaid               // it was given one, and said nothing
	taken                // it has taken it, or said nothing twice, as some do that take it at their next restart
)

// restartSaid is what it has said to being restarted since then.
type restartSaid int

const (
	notTold restartSaid = iota
	lost                // its word was lost, and the question may have been as well
	agreed              // it has agreed, or its word was lost twice
)

// takes is a device that takes its address.
func (m move) takes() move { return move{given: taken, waited: m.waited} }

// silent is one that says nothing to it, and is where it was.
func (m move) silent() move {
	switch {
	case m.given == notGiven:
		m.given = unsaid
	case m.given == unsaid && m.told != agreed:
		m.given = taken
	}
	return m
}

// restarts is one that was told to restart; heard is whether its word of that was.
func (m move) restarts(heard bool) move {
	if heard || m.told == lost {
		m.told = agreed
	} else if m.told == notTold {
		m.told = lost
	}
	return m
}

// waits is one whose restart was waited for.
func (m move) waits() move {
	m.waited = true
	return m
}

// moveDue is what is to be tried with a device that is still where it was.
type moveDue int

const (
	dueNothing  moveDue = iota
	dueRestart          // some want one that they do not ask for
	duePatience         // some act on one minutes later
)

// due gives what is to be tried with one that is still where it was. stayed is whether it has been
// there all the time since it was told to go.
func (m move) due(stayed bool) moveDue {
	switch {
	case m.given != taken:
		return dueNothing
	case m.told != agreed:
		return dueRestart
	case stayed && !m.waited:
		return duePatience
	}
	return dueNothing
}
