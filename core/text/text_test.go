package text

import (
	"errors"
	"io/fs"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestHarmless(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"plain":                {"Ticket hall east", "Ticket hall east"},
		"accents":              {"Küche Façade Ω", "Küche Façade Ω"},
		"escape sequence":      {"cam\x1b[2Jera", "cam[2Jera"},
		"C1 control":           {"cam\u009b2Jera", "cam2Jera"},
		"clipboard":            {"a\x1b]52;c;aGk=\x07b", "a]52;c;aGk=b"},
		"line breaks":          {"one\r\ntwo\u2028three\u2029four\vfive", "one two three four five"},
		"direction":            {"\u202eevil\u2066x\u2069\u200f", "evilx"},
		"zero width":           {"a\u200bb\ufeffc\u00add", "abcd"},
		"tags":                 {"a\U000e0041b", "ab"},
		"invisible letters":    {"a\u3164\u115fb\u2800c", "abc"},
		"invalid UTF-8":        {"a\xff\xfeb", "a\ufffdb"},
		"a tower of marks":     {"e" + strings.Repeat("\u0301", 50), "e" + strings.Repeat("\u0301", maxMarks)},
		"marks on nothing":     {"\u0301\u0301x", "x"},
		"spaces":               {"  a \t\t b  ", "a b"},
		"delete and backspace": {"ab\b\b\x7fc", "abc"},
		"endless":              {strings.Repeat("x", 1<<20), strings.Repeat("x", Short-1) + "…"},
	} {
		assert.Equal(t, c.want, Harmless(c.in, Short, nil), name)
	}
}

// A secret is hidden whatever was put between its letters, and before the text is cut.
func TestHarmlessHidesBeforeItCuts(t *testing.T) {
	hide := func(s string) string { return strings.ReplaceAll(s, "Harbour-Light-42", "(password)") }
	assert.Equal(t, "was (password)", Harmless("was Harb\u200bour-Li\x1bght-42", Short, hide))
	long := Harmless(strings.Repeat("x", 55)+"Harbour-Light-42", Short, hide)
	assert.NotContains(t, long, "Harb")
}

func TestInert(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "Quay": "Quay", "=1+1": "'=1+1", "+x": "'+x", "-x": "'-x", "@x": "'@x", "\t=x": "'\t=x", "\r=x": "'\r=x", "\n=x": "'\n=x",
		"  =x": "'  =x", "＝x": "'＝x", "'x": "''x", "a=b": "a=b", "|cmd": "'|cmd",
	} {
		got, marked := Inert(in)
		assert.Equal(t, want, got, "%q", in)
		assert.Equal(t, in != want, marked, "%q", in)
	}
}

func TestError(t *testing.T) {
	err := Error(fs.ErrNotExist, func(s string) string { return "hidden " + s })
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.Equal(t, "hidden file does not exist", err.Error())
	assert.Equal(t, "a b", Error(errors.New("a\n\x1bb"), nil).Error())
	assert.NoError(t, Error(nil, nil))
}

func TestNatural(t *testing.T) {
	order := []string{"", "C1", "C01", "C9", "C10", "C100", "D2", "R01"}
	for i, a := range order[1:] {
		assert.LessOrEqual(t, Natural(order[i], a), 0, "%s before %s", order[i], a)
	}
	assert.Positive(t, Natural("C100", "C99"))
	assert.Zero(t, Natural("C07", "C07"))
}

func TestEach(t *testing.T) {
	type inner struct{ A string }
	v := struct {
		S    string
		List []string
		In   []inner
		P    *inner
		None *inner
		N    int
	}{"s", []string{"t"}, []inner{{"u"}}, &inner{"v"}, nil, 3}
	Each(&v, strings.ToUpper)
	assert.Equal(t, "S", v.S)
	assert.Equal(t, []string{"T"}, v.List)
	assert.Equal(t, "U", v.In[0].A)
	assert.Equal(t, "V", v.P.A)
}

func FuzzHarmless(f *testing.F) {
	f.Add("cam\x1b[2Jera\u202e\u0301", 10)
	f.Fuzz(func(t *testing.T, s string, most int) {
		most = 1 + (most&0xffff)%200
		out := Harmless(s, most, nil)
		assert.LessOrEqual(t, utf8.RuneCountInString(out), most)
		assert.True(t, utf8.ValidString(out))
		for _, r := range out {
			assert.True(t, unicode.IsPrint(r), "%q in %q", r, out)
		}
		assert.Equal(t, out, Harmless(out, most, nil), "made harmless once more it stays as it is")
	})
}
