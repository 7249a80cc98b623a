package store

import (
	"fmt"
	"regexp"
	"sync"
)

// The fields that the documents know; others are kept as they are.
const (
	Place  = "place"
	Port   = "port" // of the switch
	Remark = "remark"
)

// fieldForm is that of a field's name.
var fieldForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[\pL][\pL\d _.-]{0,31}$`) })

// CheckField reports whether a name will do for a field.
func CheckField(name string) error {
	if !fieldForm().MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a field: take a letter, then letters, digits, spaces and hyphens, 32 at most", name)
	}
	return nil
}
