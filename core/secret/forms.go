package secret

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
)

// Form is one sort of password that can be made for a device.
type Form struct {
	Rules
	// Name tells it from the others: its length and what it is made of. It says nothing of
	// the password.
	Name string
}

func formOf(r Rules) Form {
	name := fmt.Sprintf("%d characters", r.length())
	switch special := r.specials(r.length()); {
	case special == 0:
		name += ", letters and digits"
	case special > 1 || r.Upper > 1 || r.Digits > 1:
		name += ", several of every class"
	}
	return Form{r, name}
}

// Forms gives what may be made for a device that refuses a password without publishing why,
// the usual one first: as its rules are, then letters and digits alone, of the usual length,
// of twelve and of eight, as short as may be, and as long as may be with several of every
// class. No two are alike.
func Forms(r Rules) []Form {
	plain, short, long := r, r, r
	plain.NoSpecial, plain.Special = true, 0
	// Fields of twelve and of eight, as old firmware has them, with letters and digits alone.
	twelve, eight := plain, plain
	twelve.MaxLen, eight.MaxLen = max(r.MinLen, 12), max(r.MinLen, 8)
	short.MaxLen = max(r.MinLen, 8)
	// What a device wants without saying so is rarely more than two of each class.
	long.MinLen, long.Special = max(r.MinLen, 16), max(r.Special, 2)
	long.Upper, long.Digits = max(r.Upper, 3), max(r.Digits, 3)
	if r.MaxLen > 0 {
		short.MaxLen, long.MinLen = min(short.MaxLen, r.MaxLen), min(long.MinLen, r.MaxLen)
		twelve.MaxLen, eight.MaxLen = min(twelve.MaxLen, r.MaxLen), min(eight.MaxLen, r.MaxLen)
	}
	all := []Rules{r}
	if r.Special == 0 {
		all = append(all, plain, twelve, eight)
	}
	all = append(all, short)
	if !r.NoSpecial {
		all = append(all, long)
	}
	var out []Form
	for _, rules := range all {
		if f := formOf(rules); !slices.ContainsFunc(out, func(o Form) bool { return o.Name == f.Name }) {
			out = append(out, f)
		}
	}
	return out
}

// FormOf gives the form that a password was made by; one without a name is none of them.
func FormOf(forms []Form, p Password) Form {
	n, special := len([]rune(p.plain)), 0
	for _, c := range p.plain {
		if !unicode.IsLetter(c) && !unicode.IsDigit(c) {
			special++
		}
	}
	for _, f := range forms {
		if f.length() == n && f.specials(n) == special {
			return f
		}
	}
	return Form{Rules: Rules{MinLen: n, MaxLen: n, Special: special}}
}

// Objection is what a device has against a password, as far as it says.
type Objection struct {
	What Wrong
	Most int // characters that it takes at most; 0 is not said
	// User is what it wants its user to be called; "" is not said.
	User string
}

// Wrong is what is wrong with a password, or with the name that it is for.
type Wrong string

// What may be wrong.
const (
	Unsaid   Wrong = ""
	TooLong  Wrong = "too long"
	TooWeak  Wrong = "too weak"
	BadSigns Wrong = "signs"
	BadName  Wrong = "name"
)

// Suits reports whether a form answers an objection to another one.
func (f Form) Suits(o Objection, was Form) bool {
	n, before := f.length(), was.length()
	switch o.What {
	case TooLong:
		return n < before && (o.Most == 0 || n <= o.Most)
	case TooWeak:
		return n > before || n == before && f.specials(n) > was.specials(before)
	case BadSigns:
		return f.specials(n) == 0
	}
	return true
}

// Next gives the form to offer after one that was refused: of those that are left, the first
// that answers the objection; where none does, the first, since devices name the wrong reason
// too. ok is false when none is left.
func Next(forms []Form, refused func(name string) bool, o Objection, was Form) (next Form, ok bool) {
	left := slices.DeleteFunc(slices.Clone(forms), func(f Form) bool { return refused(f.Name) })
	if len(left) == 0 {
		return Form{}, false
	}
	if at := slices.IndexFunc(left, func(f Form) bool { return f.Suits(o, was) }); at >= 0 {
		return left[at], true
	}
	return left[0], true
}

// What a device says is wrong: the subcodes of the standard (Core Specification, CreateUsers),
// and words that are used for them.
var (
	wrongCodes = map[string]Wrong{
		"PasswordTooLong": TooLong, "PasswordTooShort": TooWeak, "PasswordTooWeak": TooWeak, "Password": TooWeak,
		"UsernameTooLong": BadName, "UsernameTooShort": BadName, "UsernameClash": BadName, "AnonymousNotAllowed": BadName,
	}
	tooLong = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)too long|at most|no more than|not exceed|maximum|up to \d`)
	})
	badSigns = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)alphanumeric|letters and (digits|numbers) only|only letters and|(special|other) (characters|signs|symbols) are not|invalid (character|sign)|illegal (character|sign)`)
	})
	badName = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)user ?name|first user|name of the user|account name|administrator (must|has to|is to|shall)`)
	})
	most = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)(?:at most|no more than|not exceed|maximum(?: length)?(?: of| is|:)?|up to|\d+ ?(?:-|–|to)) ?(\d{1,2})\b`)
	})
	// A name is read where it stands in quotes, or ends the clause after "called": what else
	// follows "must be" is more often a rule than a name.
	called = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)(?:(?:called|named|be|use|only)(?: user ?name)? ["'“‘«]([A-Za-z][A-Za-z0-9._-]{0,30})["'”’»]|(?:called|named) ([A-Za-z][A-Za-z0-9_-]{0,30})(?:[.,;:!]|$))`)
	})
)

// leastField is the shortest field that a device is believed to have.
const leastField = 6

// Heard reads an objection out of a fault's subcodes and its words.
func Heard(subcodes []string, words string) (o Objection) {
	for _, s := range subcodes {
		if w := wrongCodes[s]; w != Unsaid {
			o.What = w
		}
	}
	switch { // the words are more exact than "too weak", which stands for all
	case o.What != Unsaid && o.What != TooWeak:
	case tooLong().MatchString(words):
		o.What = TooLong
	case badSigns().MatchString(words):
		o.What = BadSigns
	case badName().MatchString(words):
		o.What = BadName
	}
	if m := most().FindStringSubmatch(words); m != nil && o.What == TooLong {
		if n, err := strconv.Atoi(m[1]); err == nil && n >= leastField {
			o.Most = n
		}
	}
	if m := called().FindStringSubmatch(strings.TrimSpace(words)); m != nil && o.What == BadName {
		o.User = m[1] + m[2] // one of them is empty
	}
	return o
}
