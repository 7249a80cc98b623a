package secret

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
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
		{MaxLen: 4, Upper: 1, Digits: 1},
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
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	ago := func(minutes ...int) (out []time.Time) {
		for _, m := range minutes {
			out = append(out, now.Add(-time.Duration(m)*time.Minute))
		}
		return out
	}
	for _, c := range []struct {
		perHour int
		spent   []time.Time
		want    time.Duration
	}{
		{2, nil, 0},
		{2, ago(10), 0},
		{2, ago(10, 20), 40 * time.Minute},
		{2, ago(20, 10), 40 * time.Minute},
		{2, ago(10, 61), 0},
		{0, ago(10, 20), 40 * time.Minute}, // the default is 2
		{1, ago(10, 20, 30), 50 * time.Minute},
		{2, ago(60), 0},
	} {
		assert.Equal(t, c.want, Budget{c.perHour}.Wait(c.spent, now), "%d per hour after %v", c.perHour, c.spent)
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
	require.Len(t, forms, 4)
	for i, f := range forms {
		p, err := Generate(f, "admin", rand.Reader)
		require.NoError(t, err)
		require.NoError(t, Sane.Judge(p, "admin"), "form %d still fits the rules", i)
	}
	plain, err := Generate(forms[1], "admin", rand.Reader)
	require.NoError(t, err)
	assert.Error(t, Rules{Special: 1}.Judge(plain, ""), "the second has no special sign")
	assert.Len(t, Forms(Rules{Special: 1}), 3, "where one is demanded, there is no form without")
	assert.Len(t, Forms(Rules{NoSpecial: true}), 3)
}
