package bench

import (
	"fmt"
	"net/url"
	"strings"
	"unicode"
)

// judgePassword refuses a password by the model's rules. One that quotes refuses the first
// it is offered, with the password in the fault, and bears the next in its name.
func (d *Device) judgePassword(user, password string) *fault {
	reason := "Too weak password"
	if d.unit.model.Quotes {
		reason = fmt.Sprintf("The password <%s> of %s is too weak", password, user)
		if len(d.had) == 0 {
			d.had = append(d.had, password)
			return &fault{code: "Sender", sub: "OperationProhibited", subsub: "Password", reason: reason}
		}
		d.state.scopes = append(d.state.scopes, scopeRoot+"name/"+url.PathEscape("has "+password))
	}
	if r := d.unit.model.Rules; r != nil && r.Tells && r.Max > 0 && len(password) > r.Max {
		return &fault{code: "Sender", sub: "OperationProhibited", subsub: "PasswordTooLong", reason: fmt.Sprintf("The password has at most %d characters", r.Max)}
	}
	if r := d.unit.model.Rules; r != nil && r.Tells && r.NoSpecial && strings.ContainsFunc(password, func(c rune) bool { return !unicode.IsLetter(c) && !unicode.IsDigit(c) }) {
		return &fault{code: "Sender", sub: "InvalidArgVal", reason: "Letters and digits only"}
	}
	if !d.unit.model.Rules.allow(user, password) {
		return &fault{code: "Sender", sub: "OperationProhibited", subsub: "Password", reason: reason}
	}
	return nil
}

// runs reports whether three signs in a row are neighbours.
func runs(password string) bool {
	for i := 2; i < len(password); i++ {
		a, b, c := password[i-2], password[i-1], password[i]
		if b == a+1 && c == b+1 || b+1 == a && c+1 == b {
			return true
		}
	}
	return false
}

// allow applies the password rules, published or not.
func (r *Rules) allow(user, password string) bool {
	if r == nil {
		return len(password) >= 4
	}
	var upper, digits, special int
	classes, seen, repeated := map[string]bool{}, map[rune]bool{}, false
	for _, c := range password {
		repeated = repeated || seen[c]
		seen[c] = true
		switch {
		case unicode.IsLower(c):
			classes["lower"] = true
		case unicode.IsUpper(c):
			upper++
			classes["upper"] = true
		case unicode.IsDigit(c):
			digits++
			classes["digit"] = true
		case !unicode.IsLetter(c):
			special++
			classes["special"] = true
		}
	}
	if r.NoRun && runs(password) || r.NoRepeat && repeated || r.NoSpecial && special > 0 || len(classes) < r.Classes {
		return false
	}
	return len(password) >= r.Min && (r.Max == 0 || len(password) <= r.Max) &&
		upper >= r.Upper && digits >= r.Digits && special >= r.Special &&
		(!r.NoUser || !strings.Contains(strings.ToLower(password), strings.ToLower(user)))
}
