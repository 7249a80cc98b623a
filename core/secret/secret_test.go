package secret

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPasswordDoesNotPrintItself(t *testing.T) {
	p := New("Harbour-Light-42")
	var log strings.Builder
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "p", p)
	for _, text := range []string{fmt.Sprint(p), fmt.Sprintf("%v %+v %#v %s %q", p, p, p, p, p), fmt.Sprintf("%v", struct{ P Password }{p}), log.String()} {
		assert.NotContains(t, text, "Harbour")
	}
	_, err := json.Marshal(struct{ P Password }{p})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "Harbour")
}

func TestJudge(t *testing.T) {
	for _, c := range []struct {
		rules Rules
		plain string
		fails string
	}{
		{Rules{}, "x", ""},
		{Sane, "Quay-side7", ""},
		{Sane, "Quay7", "at least 8"},
		{Sane, "Quay-side-and-ramp-7", "at most 16"},
		{Sane, "quay-side7", "capital"},
		{Sane, "Quay-sides", "digit"},
		{Rules{Special: 2}, "Quay-side7", "2 special"},
		{Rules{NoSpecial: true}, "Quay-side7", "letters and digits only"},
		{Sane, "xAdmin12", "user name"},
		{Sane, "Nimda123", "user name"},
	} {
		err := c.rules.Judge(New(c.plain), "admin")
		if c.fails == "" {
			assert.NoError(t, err, c.plain)
			continue
		}
		assert.ErrorContains(t, err, c.fails, c.plain)
		assert.NotContains(t, err.Error(), c.plain)
	}
}

func TestGenerateMeetsEveryRule(t *testing.T) {
	const user = "admin"
	for _, r := range []Rules{
		{},
		Sane,
		{MinLen: 8, MaxLen: 8, Upper: 1, Digits: 1, Special: 1},
		{MinLen: 16, MaxLen: 16, Upper: 4, Digits: 4, Special: 4},
		{NoSpecial: true, MinLen: 12, Digits: 3},
		{MinLen: 32},
		{MaxLen: 7, Upper: 1, Digits: 1},
		{NoUser: true, MinLen: 8},
	} {
		seen := map[string]bool{}
		for range 200 {
			p, err := Generate(r, user, rand.Reader)
			require.NoError(t, err)
			require.NoError(t, r.Judge(p, user))
			require.False(t, strings.ContainsAny(p.Reveal(), "0Oo1lIi"), "look-alike signs in a generated password")
			seen[p.Reveal()] = true
		}
		assert.Greater(t, len(seen), 150, "%+v draws too few", r)
	}
}

func TestGenerateTellsWhenItCannot(t *testing.T) {
	_, err := Generate(Rules{Upper: 5, Digits: 5, MaxLen: 8}, "", rand.Reader)
	require.Error(t, err)
	_, err = Generate(Sane, "", strings.NewReader("short"))
	require.Error(t, err)
}

func TestAndTakesTheStricter(t *testing.T) {
	both, err := Rules{MinLen: 8, MaxLen: 20, Digits: 1}.And(Rules{MinLen: 10, MaxLen: 16, Upper: 2, NoUser: true})
	require.NoError(t, err)
	assert.Equal(t, Rules{MinLen: 10, MaxLen: 16, Digits: 1, Upper: 2, NoUser: true}, both)
	_, err = Rules{MinLen: 17}.And(Rules{MaxLen: 16})
	require.Error(t, err)
	_, err = Rules{NoSpecial: true}.And(Rules{Special: 1})
	require.Error(t, err)
}

func TestBudget(t *testing.T) {
	ago := func(minutes ...int) (out []time.Duration) {
		for _, m := range minutes {
			out = append(out, time.Duration(m)*time.Minute)
		}
		return out
	}
	for _, c := range []struct {
		perHour int
		ages    []time.Duration
		wait    time.Duration
		left    int
	}{
		{2, nil, 0, 2},
		{2, ago(10), 0, 1},
		{2, ago(10, 20), 40 * time.Minute, 0},
		{2, ago(20, 10), 40 * time.Minute, 0},
		{2, ago(10, 61), 0, 1},
		{0, ago(10, 20), 40 * time.Minute, 0}, // the default is 2
		{1, ago(10, 20, 30), 50 * time.Minute, 0},
		{2, ago(60), 0, 2},
		{2, ago(-600_000, -5), time.Hour, 0}, // in the future, by a clock that was set back: never longer than an hour
		{1, ago(-1), time.Hour, 0},
	} {
		assert.Equal(t, c.wait, Budget{c.perHour}.Wait(c.ages), "%d per hour after %v", c.perHour, c.ages)
		assert.Equal(t, c.left, Budget{c.perHour}.Left(c.ages), "%d per hour after %v", c.perHour, c.ages)
	}
}

// What a device demands of a password must leave enough to chance.
func TestRulesThatMakePasswordsWeakAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		rules Rules
		fails string
	}{
		"sane":                       {Sane, ""},
		"eight signs":                {Rules{MinLen: 8, MaxLen: 8}, ""},
		"every special sign":         {Rules{MinLen: 8, MaxLen: 8, Special: 5}, "guess"},
		"all but one sign fixed":     {Rules{MaxLen: 9, Special: 5, Digits: 3}, "guess"},
		"four signs":                 {Rules{MaxLen: 4}, "guess"},
		"endless":                    {Rules{MinLen: 1 << 30}, "longer than"},
		"more digits than there are": {Rules{Digits: 30}, "no password meets"},
	} {
		p, err := Generate(c.rules, "admin", rand.Reader)
		if c.fails == "" {
			require.NoError(t, err, name)
			assert.Regexp(t, "^[A-Za-z0-9]", p.Reveal(), name)
			continue
		}
		assert.ErrorContains(t, err, c.fails, name)
	}
}

// A spreadsheet that reads a generated password takes it for text.
func TestGeneratedPasswordsBeginWithALetterOrDigit(t *testing.T) {
	for range 500 {
		p, err := Generate(Rules{MinLen: 12, Special: 3}, "admin", rand.Reader)
		require.NoError(t, err)
		assert.Regexp(t, "^[A-Za-z0-9]", p.Reveal())
	}
}

func TestGeneratedPasswordsRepeatNoSign(t *testing.T) {
	for range 200 {
		p, err := Generate(Sane, "admin", rand.Reader)
		require.NoError(t, err)
		seen := map[rune]bool{}
		for _, c := range p.Reveal() {
			assert.False(t, seen[c], p.Reveal())
			seen[c] = true
		}
	}
}

func TestForms(t *testing.T) {
	forms := Forms(Sane)
	var names []string
	for i, f := range forms {
		names = append(names, f.Name)
		p, err := Generate(f.Rules, "admin", rand.Reader)
		require.NoError(t, err)
		require.NoError(t, Sane.Judge(p, "admin"), "form %d still fits the rules", i)
		assert.Equal(t, f.Name, FormOf(forms, p).Name, "what it was made by is seen by it")
	}
	assert.Equal(t, []string{
		"14 characters", "14 characters, letters and digits", "12 characters, letters and digits",
		"8 characters, letters and digits", "8 characters", "16 characters, several of every class",
	}, names)
	for i, longest := range map[int]int{1: 14, 2: 12, 3: 8} {
		p, err := Generate(forms[i].Rules, "admin", rand.Reader)
		require.NoError(t, err)
		assert.Len(t, p.Reveal(), longest)
		assert.Error(t, Rules{Special: 1}.Judge(p, ""))
	}
	for _, rules := range []Rules{Sane, {}, {Special: 1}, {NoSpecial: true}, {MinLen: 24}, {MaxLen: 8}} {
		forms := Forms(rules)
		for i, f := range forms {
			for _, o := range forms[i+1:] {
				assert.NotEqual(t, f.Name, o.Name, "%+v", rules)
			}
			if rules.Special > 0 {
				assert.False(t, f.NoSpecial, "where one is demanded, there is no form without")
			}
		}
	}
	assert.Empty(t, FormOf(forms, New("a typed one")).Name)
}

// What a device says is wrong steers what it is offered next, and keeps nothing from it: each
// form comes once, whatever it says.
func TestWhatADeviceSaysIsWrongSteers(t *testing.T) {
	forms := Forms(Sane)
	next := func(o Objection, refused ...string) string {
		f, ok := Next(forms, func(name string) bool { return slices.Contains(refused, name) }, o, FormOf(forms, New(strings.Repeat("a", 13)+"-")))
		if !ok {
			return ""
		}
		return f.Name
	}
	const usual = "14 characters"
	assert.Equal(t, "14 characters, letters and digits", next(Objection{}, usual))
	assert.Equal(t, "12 characters, letters and digits", next(Objection{What: TooLong}, usual))
	assert.Equal(t, "8 characters, letters and digits", next(Objection{What: TooLong, Most: 10}, usual))
	assert.Equal(t, "16 characters, several of every class", next(Objection{What: TooWeak}, usual))
	assert.Equal(t, "14 characters, letters and digits", next(Objection{What: BadSigns}, usual))
	for _, o := range []Objection{{}, {What: TooLong}, {What: TooWeak}, {What: BadSigns}, {What: BadName}} {
		refused := []string{usual}
		for range len(forms) - 1 {
			name := next(o, refused...)
			assert.NotContains(t, refused, name)
			refused = append(refused, name)
		}
		assert.Len(t, refused, len(forms), "%s", o.What)
		assert.Empty(t, next(o, refused...))
	}
}

func TestHeard(t *testing.T) {
	for words, want := range map[string]Objection{
		"":                                             {},
		"Too weak password":                            {},
		"The password is too long":                     {What: TooLong},
		"Passwords have at most 12 signs":              {What: TooLong, Most: 12},
		"maximum length is 10":                         {What: TooLong, Most: 10},
		"up to 8 characters":                           {What: TooLong, Most: 8},
		"at most 2 repetitions":                        {What: TooLong}, // no field is that short
		"Letters and digits only":                      {What: BadSigns},
		"alphanumeric passwords are accepted":          {What: BadSigns},
		"special characters are not allowed":           {What: BadSigns},
		`The first user must be called "root"`:         {What: BadName, User: "root"},
		"The first user is called supervisor.":         {What: BadName, User: "supervisor"},
		"Username must be at least 5 characters":       {What: BadName},
		"The user name must be unique.":                {What: BadName},
		"Please use another username":                  {What: BadName},
		`Use username "installer", please`:             {What: BadName, User: "installer"},
		"The administrator must be named 'operator-1'": {What: BadName, User: "operator-1"},
		"Username already exists":                      {What: BadName},
	} {
		assert.Equal(t, want, Heard(nil, words), words)
	}
	assert.Equal(t, Objection{What: TooLong}, Heard([]string{"OperationProhibited", "PasswordTooLong"}, "refused"))
	assert.Equal(t, Objection{What: TooLong, Most: 10}, Heard([]string{"OperationProhibited", "Password"}, "at most 10"), "words are more exact than what stands for all")
	assert.Equal(t, Objection{What: TooWeak}, Heard([]string{"OperationProhibited", "Password"}, "Too weak password"))
	assert.Equal(t, Objection{What: BadName}, Heard([]string{"OperationProhibited", "UsernameClash"}, ""))
}

func FuzzHeard(f *testing.F) {
	f.Add("Password", `The first user must be called "root", at most 12 signs`)
	f.Fuzz(func(t *testing.T, code, words string) {
		o := Heard([]string{code}, words)
		assert.True(t, o.Most == 0 || o.Most >= leastField && o.Most < 100)
		assert.LessOrEqual(t, len(o.User), 31)
	})
}

// The ceiling that nobody asked for gives way to who asks for longer passwords.
func TestTheUsualCeilingYields(t *testing.T) {
	for _, demand := range []Rules{{MinLen: 24}, {MinLen: 20, MaxLen: 32}, {MinLen: 18, Upper: 2, Digits: 2, Special: 2}} {
		_, err := Sane.And(demand)
		require.Error(t, err, "%+v", demand)
		rules, err := Sane.Yielding(demand).And(demand)
		require.NoError(t, err, "%+v", demand)
		p, err := Generate(rules, "admin", rand.Reader)
		require.NoError(t, err)
		assert.NoError(t, demand.Judge(p, "admin"))
	}
	assert.Equal(t, Sane, Sane.Yielding(Rules{MinLen: 12, MaxLen: 64}))
}

// The kinds of signs stand in no order, and every sign is drawn now and then.
func TestGeneratedPasswordsHaveNoOrder(t *testing.T) {
	seen, small := map[rune]bool{}, 0
	for range 4000 {
		p, err := Generate(Rules{MinLen: 12, Upper: 3, Digits: 3}, "admin", rand.Reader)
		require.NoError(t, err)
		text := p.Reveal()
		for _, c := range text {
			seen[c] = true
		}
		if strings.ContainsAny(text[:1], lowerSigns) {
			small++
		}
	}
	for _, c := range lowerSigns + upperSigns + digitSigns {
		assert.True(t, seen[c], "%c is never drawn", c)
	}
	assert.Greater(t, small, 400, "small letters begin one as well")
}
