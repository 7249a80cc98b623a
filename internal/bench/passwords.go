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
	if !d.unit.model.Rules.allow(user, password) {
		return &fault{code: "Sender", sub: "OperationProhibited", subsub: "Password", reason: reason}
	}
	return nil
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
	if r.NoRepeat && repeated || r.NoSpecial && special > 0 || len(classes) < r.Classes {
		return false
	}
	return len(password) >= r.Min && (r.Max == 0 || len(password) <= r.Max) &&
		upper >= r.Upper && digits >= r.Digits && special >= r.Special &&
		(!r.NoUser || !strings.Contains(strings.ToLower(password), strings.ToLower(user)))
}
