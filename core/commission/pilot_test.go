package commission

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Of a model that the job has not met one goes first; what becomes of it decides about the others.
func TestTheFirstOfAModelGoesAlone(t *testing.T) {
	dome := func(id int64) Plan { return Plan{ID: id, Tag: "C0" + string(rune('0'+id)), Model: "dome"} }
	plans := []Plan{dome(1), dome(2), dome(3), {ID: 4, Model: "cube"}, {ID: 5}, {ID: 6, Model: "met", Met: true}, {ID: 7, Model: "met"}}
	may := func(p *Pilots, plan Plan) bool { now, _, _ := p.may(plan); return now }

	p := NewPilots(plans)
	for i, now := range []bool{true, false, false, true, true, true, true} {
		assert.Equal(t, now, may(p, plans[i]), "%+v", plans[i])
	}
	_, later, _ := p.may(plans[1])
	p.end(plans[1], false, false, 0) // one that waits and gives up changes nothing
	assert.False(t, may(p, plans[2]))
	p.end(plans[0], true, false, 12)
	<-later
	assert.True(t, may(p, plans[1]))
	assert.Equal(t, 12, p.cut("dome"))

	p = NewPilots(plans)
	assert.True(t, may(p, plans[0]))
	p.end(plans[0], false, false, 0) // it could not be reached: the next takes its turn
	assert.True(t, may(p, plans[1]))
	p.end(plans[1], false, true, 0) // and this one is lost: nobody else is given a password
	now, _, lost := p.may(plans[2])
	assert.False(t, now)
	assert.Equal(t, "C02", lost)

	// One that an earlier run has sent a password is under way already.
	plans[2].Unconfirmed = true
	p = NewPilots(plans)
	assert.False(t, may(p, plans[0]))
	assert.True(t, may(p, plans[2]))
}
