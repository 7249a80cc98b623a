// Package secret holds password rules, generation, judgement and the budget of
// attempts. It draws randomness and time from its caller and never prints a
// password: Password formats as a fixed mask.
package secret

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"slices"
	"strings"
	"unicode"
)

// Password is a password that does not print itself.
type Password struct{ plain string }

// New wraps a plain password.
func New(plain string) Password { return Password{plain} }

// Reveal gives the plain password, for the keyring and for the wire only.
func (p Password) Reveal() string { return p.plain }

// IsZero reports whether there is no password.
func (p Password) IsZero() bool { return p.plain == "" }

const mask = "(password)"

// String masks the password.
func (Password) String() string { return mask }

// GoString masks the password in %#v.
func (Password) GoString() string { return mask }

// LogValue masks the password in logs.
func (Password) LogValue() slog.Value { return slog.StringValue(mask) }

// MarshalText refuses: a password is stored by the keyring and nowhere else.
func (Password) MarshalText() ([]byte, error) {
	return nil, errors.New("a password is not to be written outside the keyring")
}

// Rules are what a device demands of a password, as published by the standard
// operation GetPasswordComplexityConfiguration (Core specification, security
// configuration), or assumed where it publishes none.
type Rules struct {
	MinLen    int  `json:"min_len,omitempty"` // characters; 0 is not said
	MaxLen    int  `json:"max_len,omitempty"` // characters; 0 is not said
	Upper     int  `json:"upper,omitempty"`   // at least this many
	Digits    int  `json:"digits,omitempty"`
	Special   int  `json:"special,omitempty"`
	NoUser    bool `json:"no_user,omitempty"`    // must not contain the user name nor its reverse
	NoSpecial bool `json:"no_special,omitempty"` // letters and digits only
}

// Sane is assumed where a device publishes nothing: 8 to 16 characters of at
// least three classes, not the user name nor its reverse.
var Sane = Rules{MinLen: 8, MaxLen: 16, Upper: 1, Digits: 1, NoUser: true}

// And gives the rules that satisfy both. It is an error when none can.
func (r Rules) And(o Rules) (Rules, error) {
	both := Rules{
		MinLen: max(r.MinLen, o.MinLen), MaxLen: minSaid(r.MaxLen, o.MaxLen),
		Upper: max(r.Upper, o.Upper), Digits: max(r.Digits, o.Digits), Special: max(r.Special, o.Special),
		NoUser: r.NoUser || o.NoUser, NoSpecial: r.NoSpecial || o.NoSpecial,
	}
	switch {
	case both.MaxLen > 0 && both.MinLen > both.MaxLen:
		return Rules{}, fmt.Errorf("no password has at least %d and at most %d characters", both.MinLen, both.MaxLen)
	case both.NoSpecial && both.Special > 0:
		return Rules{}, errors.New("no password both has and lacks special characters")
	case both.MaxLen > 0 && both.Upper+both.Digits+both.Special > both.MaxLen:
		return Rules{}, fmt.Errorf("the characters demanded do not fit into %d", both.MaxLen)
	}
	return both, nil
}

// Yielding gives the rules with a ceiling that lets a password in which others demand, as
// long as anybody will type it.
func (r Rules) Yielding(to Rules) Rules {
	need := max(to.MinLen, to.Upper+to.Digits+to.Special)
	if r.MaxLen > 0 && need > r.MaxLen && need <= longest {
		r.MaxLen = need
	}
	return r
}

func minSaid(a, b int) int {
	if a == 0 || b == 0 {
		return a + b
	}
	return min(a, b)
}

// Judge says why a password does not meet the rules for a user name, or nil.
func (r Rules) Judge(p Password, user string) error {
	n := len([]rune(p.plain))
	var upper, digits, special int
	for _, c := range p.plain {
		switch {
		case unicode.IsUpper(c):
			upper++
		case unicode.IsDigit(c):
			digits++
		case !unicode.IsLetter(c):
			special++
		}
	}
	switch {
	case r.MinLen > 0 && n < r.MinLen:
		return fmt.Errorf("it has %d characters; at least %d are needed", n, r.MinLen)
	case r.MaxLen > 0 && n > r.MaxLen:
		return fmt.Errorf("it has %d characters; at most %d are allowed", n, r.MaxLen)
	case upper < r.Upper:
		return fmt.Errorf("it needs at least %d capital letter(s)", r.Upper)
	case digits < r.Digits:
		return fmt.Errorf("it needs at least %d digit(s)", r.Digits)
	case special < r.Special:
		return fmt.Errorf("it needs at least %d special character(s)", r.Special)
	case r.NoSpecial && special > 0:
		return errors.New("it may hold letters and digits only")
	case r.NoUser && user != "" && containsUser(p.plain, user):
		return errors.New("it contains the user name, or the user name backwards")
	}
	return nil
}

func containsUser(plain, user string) bool {
	low, name := strings.ToLower(plain), strings.ToLower(user)
	back := []rune(name)
	for i, j := 0, len(back)-1; i < j; i, j = i+1, j-1 {
		back[i], back[j] = back[j], back[i]
	}
	return strings.Contains(low, name) || strings.Contains(low, string(back))
}

// The signs of generated passwords: none that is mistaken for another on paper
// or on a phone, none that shells, URLs or XML treat specially.
const (
	lowerSigns   = "abcdefghjkmnpqrstuvwxyz"
	upperSigns   = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	digitSigns   = "23456789"
	specialSigns = "-_.+="
)

// generatedLen is the length aimed at: about 80 bits, and typeable on a ladder.
const generatedLen = 14

// Generate draws a password that meets the rules for the user name. It reads
// random bytes from random, normally crypto/rand.Reader.
func Generate(r Rules, user string, random io.Reader) (Password, error) {
	if _, err := r.And(Rules{}); err != nil {
		return Password{}, err
	}
	n := r.length()
	if n > longest {
		return Password{}, fmt.Errorf("these rules demand a password longer than %d characters", longest)
	}
	if bits := r.bits(n); bits < leastBits {
		return Password{}, fmt.Errorf("these rules leave so little to chance that the password could be guessed (about %.0f bits; at least %d are needed)", bits, leastBits)
	}
	const tries = 100 // a draw holds a short user name by chance now and then
	for range tries {
		p, err := draw(r, n, random)
		if err != nil {
			return Password{}, err
		}
		if r.Judge(p, user) == nil {
			return p, nil
		}
	}
	return Password{}, errors.New("no password meets these rules")
}

// length is how long a password is made by the rules.
func (r Rules) length() int {
	n := max(generatedLen, r.MinLen, r.Upper+r.Digits+r.Special+1)
	if r.MaxLen > 0 {
		n = min(n, r.MaxLen)
	}
	return n
}

// specials is how many special characters a password of n characters is made with.
func (r Rules) specials(n int) int {
	if r.Special == 0 && !r.NoSpecial && r.Upper+r.Digits+1 < n {
		return 1
	}
	return r.Special
}

const (
	longest   = 48 // characters that anybody will type
	leastBits = 40 // of chance: a billion guesses a second need a quarter of an hour, a device years
)

// bits is about how much of a password of n characters is left to chance, as draw has it.
func (r Rules) bits(n int) float64 {
	chance, left := lnFactorial(n), n // the order of the signs
	for _, part := range []struct{ from, count int }{
		{len(upperSigns), max(r.Upper, 1)}, {len(digitSigns), max(r.Digits, 1)}, {len(specialSigns), r.Special},
	} {
		count := min(part.count, left, part.from)
		chance += lnChoose(part.from, count)
		left -= count
	}
	return (chance + lnChoose(len(lowerSigns+upperSigns+digitSigns)-(n-left), left)) / math.Ln2
}

func lnFactorial(n int) float64 {
	v, _ := math.Lgamma(float64(n) + 1)
	return v
}

// lnChoose is the logarithm of the number of ways to choose k of n.
func lnChoose(n, k int) float64 {
	if k <= 0 || k >= n {
		return 0
	}
	return lnFactorial(n) - lnFactorial(k) - lnFactorial(n-k)
}

func draw(r Rules, n int, random io.Reader) (Password, error) {
	all := lowerSigns + upperSigns + digitSigns
	signs := make([]byte, 0, n)
	// No sign comes twice: some devices refuse repetitions. The longest that can be
	// asked for has fewer signs than there are to choose from.
	take := func(from string, count int) error {
		for range count {
			var left []byte
			for _, c := range []byte(from) {
				if !slices.Contains(signs, c) {
					left = append(left, c)
				}
			}
			if len(left) == 0 {
				return errors.New("no password meets these rules")
			}
			i, err := below(len(left), random)
			if err != nil {
				return err
			}
			signs = append(signs, left[i])
		}
		return nil
	}
	special := r.specials(n)
	for _, part := range []struct {
		from  string
		count int
	}{{upperSigns, max(r.Upper, 1)}, {digitSigns, max(r.Digits, 1)}, {specialSigns, special}} {
		if err := take(part.from, min(part.count, n-len(signs))); err != nil {
			return Password{}, err
		}
	}
	if err := take(all, n-len(signs)); err != nil {
		return Password{}, err
	}
	for i := len(signs) - 1; i > 0; i-- {
		j, err := below(i+1, random)
		if err != nil {
			return Password{}, err
		}
		signs[i], signs[j] = signs[j], signs[i]
	}
	// A spreadsheet would run what begins with some of the special signs.
	if at := slices.IndexFunc(signs, func(c byte) bool { return !strings.ContainsRune(specialSigns, rune(c)) }); at > 0 {
		signs[0], signs[at] = signs[at], signs[0]
	}
	return New(string(signs)), nil
}

// below draws a number in [0, n) without bias, n at most 256.
func below(n int, random io.Reader) (int, error) {
	limit := 256 - 256%n
	var b [1]byte
	for {
		if _, err := io.ReadFull(random, b[:]); err != nil {
			return 0, fmt.Errorf("draw random bytes: %w", err)
		}
		if int(b[0]) < limit {
			return int(b[0]) % n, nil
		}
	}
}
