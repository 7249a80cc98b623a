package commission

// Readings of one device after which something is still to be set, and how often what excuses one may
// do so: beyond that, a device counts as one that does not keep its settings.
const (
	maxPasses = 3 // readings until nothing differs
	maxBreaks = 8 // conversations that broke off and were taken up again
	maxMoves  = 6 // times that it moved or restarted, which is no failed reading
)

// passes is how far the passes of one device have come: each reads it, and writes what differs.
type passes struct {
	whole  int // that nothing excuses
	breaks int // that broke off, or of which it is not known whether a write was carried out
	moves  int // in which it moved or restarted
	least  int // settings that were due, when they were fewest
	gotOn  bool
}

// passed is how a pass ended that was not the last.
type passed struct {
	broke bool // the device fell silent in the middle
	moved bool // it moved or restarted
	lost  bool // whether a write was carried out is not known
}

// first reports whether nothing has come of the device yet.
func (p passes) first() bool { return p.whole == 0 && p.moves == 0 }

// over reports whether there were passes enough.
func (p passes) over() bool { return p.whole >= maxPasses }

// broken reports whether a conversation may break off once more.
func (p passes) broken() bool { return p.breaks < maxBreaks }

// found takes down how many settings a pass has found to be due. One that has fewer to be set than ever
// before gets on, however it answers.
func (p passes) found(due int) passes {
	if p.gotOn = p.least == 0 || due < p.least; p.gotOn {
		p.least = due
	}
	return p
}

// next is how far they have come after a pass.
func (p passes) next(e passed) passes {
	switch {
	case e.broke:
		p.breaks++
	case e.moved && p.moves < maxMoves: // one that has moved or restarted in between has been no further than that
		p.moves++
	case e.lost && p.gotOn:
		p.gotOn = false // it has to get on again
	case e.lost && p.broken(): // a write that got lost says nothing of whether the device keeps what it takes
		p.breaks++
	default:
		p.whole++
	}
	return p
}
