package cli

import (
	"fmt"
	"io"
	"os"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is said while a view is there goes through it, and the log does not write over it.
func TestTheLogDoesNotWriteOverAScreen(t *testing.T) {
	for _, c := range []struct {
		name          string
		hold          bool
		told, printed string
	}{
		{"a screen", true, "said\n", "log 1\r\nafter\r\n"},
		{"lines that are drawn anew", false, "log 1\nsaid\n", "after\r\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			person, terminal, err := pty.Open()
			require.NoError(t, err)
			defer person.Close()
			told := ""
			o := outletOf(terminal)
			require.Same(t, o, outletOf(o))
			log := logTo{o}
			back := o.through(func(line string) { told += line + "\n" }, c.hold)
			fmt.Fprint(o, "sa")
			fmt.Fprintln(log, "log 1")
			fmt.Fprint(o, "id\n")
			back()
			fmt.Fprintln(o, "after")
			require.NoError(t, terminal.Close())
			printed, _ := io.ReadAll(person) // its end is an error of its own
			assert.Equal(t, c.told, told)
			assert.Equal(t, c.printed, string(printed))
		})
	}
	// A file is nothing that a log could destroy.
	f, err := os.Create(t.TempDir() + "/log")
	require.NoError(t, err)
	defer f.Close()
	o := outletOf(f)
	back := o.through(func(string) {}, true)
	fmt.Fprintln(logTo{o}, "log")
	data, err := os.ReadFile(f.Name())
	require.NoError(t, err)
	assert.Equal(t, "log\n", string(data))
	back()
}

// What is said when a live view has just ended waits for nobody to draw it.
func TestWhatIsSaidAfterAViewHasEndedIsNotWaitedFor(t *testing.T) {
	person, terminal, err := pty.Open()
	require.NoError(t, err)
	defer person.Close()
	defer terminal.Close()
	go func() { _, _ = io.Copy(io.Discard, person) }()
	a := &App{Err: outletOf(terminal), Getenv: func(string) string { return "" }}
	v, ok := a.startView(nil, 0).(*liveView)
	require.True(t, ok)
	fmt.Fprintln(a.Err, "while it is there")
	v.program.Send(endMsg{})
	<-v.done
	said := make(chan struct{})
	go func() {
		defer close(said)
		fmt.Fprintln(a.Err, "after it")
	}()
	select {
	case <-said:
	case <-time.After(20 * time.Second):
		require.Fail(t, "it hangs")
	}
	v.stop() // twice is once
}
