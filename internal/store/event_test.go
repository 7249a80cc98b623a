package store

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Changes are merge patches (RFC 7396): what an author has not seen is not in them.
func TestAChangeSaysWhatItsAuthorChanged(t *testing.T) {
	for _, c := range []struct{ name, before, after, change, meanwhile, then string }{
		{"nothing", `{"a":1}`, `{"a":1}`, ``, `{"a":2}`, `{"a":2}`},
		{"the same, in another order", `{"a":1,"b":2}`, `{"b":2,"a":1}`, ``, `{"a":2}`, `{"a":2}`},
		{"one field", `{"a":1,"b":2}`, `{"a":1,"b":3}`, `{"b":3}`, `{"a":9,"b":2}`, `{"a":9,"b":3}`},
		{"a field that goes", `{"a":1,"b":2}`, `{"a":1}`, `{"b":null}`, `{"a":9,"b":2,"c":3}`, `{"a":9,"c":3}`},
		{"inside", `{"f":{"x":1,"y":2}}`, `{"f":{"x":1,"y":5}}`, `{"f":{"y":5}}`, `{"f":{"x":7,"y":2}}`, `{"f":{"x":7,"y":5}}`},
		{"a list, whole", `{"l":[1,2]}`, `{"l":[1,2,3]}`, `{"l":[1,2,3]}`, `{"l":[9]}`, `{"l":[1,2,3]}`},
		{"a beginning", ``, `{"a":1}`, `{"a":1}`, ``, `{"a":1}`},
		{"a large number and a fraction", `{"n":9007199254740993,"s":0.1}`, `{"n":9007199254740993,"s":0.30000000000000004}`, `{"s":0.30000000000000004}`, `{"n":9007199254740993}`, `{"n":9007199254740993,"s":0.30000000000000004}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			change, err := Change(json.RawMessage(c.before), json.RawMessage(c.after))
			require.NoError(t, err)
			if c.change == "" {
				assert.Empty(t, change)
			} else {
				assert.JSONEq(t, c.change, string(change))
			}
			then, err := Changed(json.RawMessage(c.meanwhile), change)
			require.NoError(t, err)
			assert.JSONEq(t, c.then, string(then))
			if c.before != "" {
				again, err := Fold([]Event{{Change: json.RawMessage(c.before)}, {Change: change}})
				require.NoError(t, err)
				assert.JSONEq(t, c.after, string(again))
			}
		})
	}
	_, err := Changed(json.RawMessage(`{"a":`), json.RawMessage(`{"b":1}`))
	require.Error(t, err, "a damaged register")
}
