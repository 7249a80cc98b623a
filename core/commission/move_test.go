package commission

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Every state that a device can come to on its way to an address, by every word of it, is one of
// those below, and what is tried with it comes to an end.
func TestEveryMoveComesToAnEnd(t *testing.T) {
	words := map[string]func(move) move{
		"takes": move.takes, "silent": move.silent, "waits": move.waits,
		"restarts": func(m move) move { return m.restarts(true) }, "restarts, unheard": func(m move) move { return m.restarts(false) },
	}
	reached := map[move]bool{{}: true}
	for todo := []move{{}}; len(todo) > 0; {
		m := todo[0]
		todo = todo[1:]
		for name, word := range words {
			next := word(m)
			assert.GreaterOrEqual(t, next.given, m.given, "%s takes back what was said of the address: %+v", name, m)
			assert.False(t, m.waited && !next.waited, "%s forgets that it was waited for: %+v", name, m)
			if !reached[next] {
				reached[next] = true
				todo = append(todo, next)
			}
		}
	}
	assert.Len(t, reached, 3*3*2, "by its address, its restart, and whether it was waited for")
	for m := range reached {
		for _, stayed := range []bool{false, true} {
			// What is due is done, and each time the device says the least it may.
			tried := 0
			for m := m; m.due(stayed) != dueNothing; tried++ {
				if m.due(stayed) == dueRestart {
					m = m.restarts(false)
				} else {
					m = m.waits()
				}
				if tried > 3 {
					break
				}
			}
			assert.LessOrEqual(t, tried, 3, "%+v: two restarts whose word is lost, and one wait", m)
			if m.given != taken {
				assert.Zero(t, tried, "%+v has taken nothing", m)
			}
		}
	}
}

// What is tried with a device that is still where it was, by how far it has come.
func TestWhatIsTriedWithOneThatHasNotMoved(t *testing.T) {
	for _, c := range []struct {
		name   string
		m      move
		stayed bool
		due    moveDue
	}{
		{"nothing was said to it", move{}, true, dueNothing},
		{"it said nothing once", move{}.silent(), true, dueNothing},
		{"it said nothing twice", move{}.silent().silent(), true, dueRestart},
		{"it said nothing twice, and was restarted between", move{}.silent().restarts(true).silent(), true, dueNothing},
		{"it took it", move{}.takes(), true, dueRestart},
		{"it took it, and its word of the restart was lost", move{}.takes().restarts(false), true, dueRestart},
		{"the same twice", move{}.takes().restarts(false).restarts(false), true, duePatience},
		{"it took it, and agreed to restart", move{}.takes().restarts(true), true, duePatience},
		{"it took it, restarted, and came back where it was", move{}.takes().restarts(true), false, dueNothing},
		{"it was waited for", move{}.takes().restarts(true).waits(), true, dueNothing},
		{"it took it once more after that", move{}.takes().restarts(true).waits().takes(), true, dueRestart},
		{"and was restarted", move{}.takes().restarts(true).waits().takes().restarts(true), true, dueNothing},
	} {
		assert.Equal(t, c.due, c.m.due(c.stayed), c.name)
	}
}
