package driver

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Screen is a program on a terminal, with a person before it: what the person sees, and the
// keys that are pressed.
type Screen struct {
	t       testing.TB
	command *exec.Cmd
	master  *os.File
	look    *vt.Emulator
	changed chan struct{}
	ended   chan struct{}
	err     error // of the program, once it has ended

	mu     sync.Mutex
	all    strings.Builder // that was ever written
	keys   int
	before *unix.Termios
}

// NewScreen starts a program on a terminal of so many columns and rows.
func NewScreen(t testing.TB, c *exec.Cmd, columns, rows int) *Screen {
	t.Helper()
	master, slave, err := pty.Open()
	require.NoError(t, err)
	require.NoError(t, pty.Setsize(master, &pty.Winsize{Rows: uint16(rows), Cols: uint16(columns)}))
	before, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
	require.NoError(t, err)
	c.Stdin, c.Stdout, c.Stderr = slave, slave, slave
	c.SysProcAttr = &unix.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, c.Start())
	s := &Screen{t: t, command: c, master: master, look: vt.NewEmulator(columns, rows), changed: make(chan struct{}, 1), ended: make(chan struct{}), before: before}
	go func() { _, _ = io.Copy(master, s.look) }() // what the terminal answers; ends with it
	read := make(chan struct{})
	go func() {
		defer close(read)
		s.read()
	}()
	go func() {
		s.err = c.Wait()
		_, _ = slave.WriteString(theEnd) // comes after whatever the program wrote
		<-read
		slave.Close()
		close(s.ended)
	}()
	t.Cleanup(func() {
		select {
		case <-s.ended:
		default:
			_ = c.Process.Kill()
			<-s.ended
		}
		master.Close()
	})
	return s
}

// theEnd is written to the terminal when the program has ended: what was read before it is
// all that the program wrote. No program writes such a control string (ECMA-48, 8.3.2).
const theEnd = "\x1b_the program has ended\x1b\\"

// read shows what the program writes, until its end.
func (s *Screen) read() {
	buf := make([]byte, 32<<10)
	var held []byte // the beginning of what may be the end
	for {
		n, err := s.master.Read(buf)
		got := append(held, buf[:n]...)
		got, over := bytes.CutSuffix(got, []byte(theEnd))
		held = nil
		if k := begun(got); !over && k > 0 {
			got, held = got[:len(got)-k], bytes.Clone(got[len(got)-k:])
		}
		if len(got) > 0 {
			s.mu.Lock()
			s.all.Write(got)
			_, _ = s.look.Write(got)
			s.mu.Unlock()
			select {
			case s.changed <- struct{}{}:
			default:
			}
		}
		if over || err != nil {
			return
		}
	}
}

// begun is how many of the last octets may be the first ones of the end.
func begun(got []byte) int {
	for k := min(len(got), len(theEnd)-1); k > 0; k-- {
		if bytes.HasSuffix(got, []byte(theEnd[:k])) {
			return k
		}
	}
	return 0
}

// Text is what is seen, a line each, without the spaces at its end.
func (s *Screen) Text() string {
	s.mu.Lock()
	lines := strings.Split(s.look.String(), "\n")
	s.mu.Unlock()
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " \r")
	}
	return strings.TrimRight(strings.Join(lines, "\n"), "\n")
}

// All is everything that was ever written, with its control sequences.
func (s *Screen) All() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all.String()
}

// Patience is how long something that has to be seen may take.
const Patience = 2 * time.Minute

// Until waits until a condition of what is seen holds.
func (s *Screen) Until(what string, holds func(text string) bool) string {
	s.t.Helper()
	late := time.After(Patience)
	for {
		text := s.Text()
		if holds(text) {
			return text
		}
		select {
		case <-s.changed:
		case <-s.ended:
			if text = s.Text(); holds(text) {
				return text
			}
			s.t.Fatalf("the program ended (%v) without %s:\n%s", s.err, what, text)
		case <-late:
			s.t.Fatalf("never seen: %s. This is:\n%s", what, text)
		}
	}
}

// Sees waits until a text is seen.
func (s *Screen) Sees(text string) string {
	s.t.Helper()
	return s.Until(text, func(all string) bool { return strings.Contains(all, text) })
}

// Gone waits until a text is not seen any more.
func (s *Screen) Gone(text string) {
	s.t.Helper()
	s.Until("not "+text, func(all string) bool { return !strings.Contains(all, text) })
}

// Types presses keys, one for each character.
func (s *Screen) Types(keys string) {
	s.t.Helper()
	s.keys += len([]rune(keys))
	s.Press(keys)
}

// Press sends what one key sends, or what is not counted.
func (s *Screen) Press(sequence string) {
	s.t.Helper()
	_, err := s.master.WriteString(sequence)
	require.NoError(s.t, err)
}

// Keys is how many keys were pressed with Types.
func (s *Screen) Keys() int { return s.keys }

// Resize gives the terminal another size.
func (s *Screen) Resize(columns, rows int) {
	s.t.Helper()
	s.mu.Lock()
	s.look.Resize(columns, rows)
	s.mu.Unlock()
	require.NoError(s.t, pty.Setsize(s.master, &pty.Winsize{Rows: uint16(rows), Cols: uint16(columns)}))
}

// Ends waits until the program has ended, and gives its exit code.
func (s *Screen) Ends() int {
	s.t.Helper()
	select {
	case <-s.ended:
	case <-time.After(Patience):
		s.t.Fatalf("it does not end:\n%s", s.Text())
	}
	return s.command.ProcessState.ExitCode()
}

// AsItWas requires that the terminal is left as it was found: cooked, and echoing.
func (s *Screen) AsItWas() {
	s.t.Helper()
	now, err := unix.IoctlGetTermios(int(s.master.Fd()), unix.TCGETS)
	require.NoError(s.t, err)
	require.Equal(s.t, s.before.Lflag, now.Lflag, "how the terminal takes lines")
	require.Equal(s.t, s.before.Iflag, now.Iflag, "what the terminal takes")
	require.Equal(s.t, s.before.Oflag, now.Oflag, "what the terminal gives")
}
