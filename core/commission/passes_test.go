package commission

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Whatever a device does, its passes come to an end: in every order of all that can become of one, with
// settings that get fewer or do not.
func TestPassesComeToAnEnd(t *testing.T) {
	ways := []passed{{}, {broke: true}, {moved: true}, {lost: true}, {moved: true, lost: true}}
	const most = maxPasses + maxBreaks + maxMoves + 4 // and as often as there are fewer settings than ever
	seen := map[passes]int{}                          // the longest way from there on
	var longest func(p passes, depth int) int
	longest = func(p passes, depth int) int {
		if p.over() {
			return 0
		}
		if n, ok := seen[p]; ok {
			return n
		}
		if !assert.Less(t, depth, 100, "%+v goes on for ever", p) {
			t.FailNow()
		}
		n := 0
		for due := 1; due <= 4; due++ {
			for _, e := range ways {
				if e.broke && !p.broken() {
					continue // that ends it
				}
				now := p
				if !e.broke {
					now = p.found(due)
				}
				n = max(n, 1+longest(now.next(e), depth+1))
			}
		}
		seen[p] = n
		return n
	}
	assert.LessOrEqual(t, longest(passes{}, 0), most)
	assert.Greater(t, len(seen), 200)
}

func TestWhatExcusesAPass(t *testing.T) {
	var p passes
	assert.True(t, p.first())
	p = p.found(5).next(passed{lost: true})
	assert.Equal(t, passes{least: 5}, p, "the first finds how many there are")
	p = p.found(5).next(passed{lost: true})
	assert.Equal(t, passes{least: 5, breaks: 1}, p, "it has not got on")
	p = p.found(3).next(passed{lost: true})
	assert.Equal(t, passes{least: 3, breaks: 1}, p, "it has")
	assert.True(t, p.first())
	p = p.found(3).next(passed{moved: true})
	assert.False(t, p.first())
	for range maxPasses {
		assert.False(t, p.over())
		p = p.found(3).next(passed{})
	}
	assert.True(t, p.over(), "it takes settings and does not keep them")
}
