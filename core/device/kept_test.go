package device

import (
	"encoding/json"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every field of a device is kept, but those of which their comments say otherwise.
func TestEverythingOfADeviceIsKept(t *testing.T) {
	not := map[string]bool{"ID": true, "Version": true, "NotOurs": true, "SetUpBy": true}
	kept := reflect.TypeOf(Kept{})
	for f := range reflect.TypeOf(Device{}).Fields() {
		_, is := kept.FieldByName(f.Name)
		assert.Equal(t, !not[f.Name], is, f.Name)
	}
	var full Device
	fill(reflect.ValueOf(&full).Elem())
	full.ID, full.Version, full.NotOurs, full.SetUpBy = 0, 0, false, ""
	var again Device
	again.Be(full.Kept())
	assert.Equal(t, full, again)
	one, err := json.Marshal(full.Kept())
	require.NoError(t, err)
	var k Kept
	require.NoError(t, json.Unmarshal(one, &k))
	again = Device{}
	again.Be(k)
	two, err := json.Marshal(again.Kept())
	require.NoError(t, err)
	assert.Equal(t, string(one), string(two))
}

// fill gives every simple field of a device something.
func fill(v reflect.Value) {
	for i := range v.NumField() {
		switch f := v.Field(i); f.Kind() {
		case reflect.String:
			f.SetString("x" + v.Type().Field(i).Name)
		case reflect.Bool:
			f.SetBool(true)
		case reflect.Pointer:
			if f.Type().Elem().Kind() == reflect.Struct {
				f.Set(reflect.New(f.Type().Elem()))
			}
		case reflect.Struct:
			if f.Type() == reflect.TypeFor[Facts]() {
				fill(f)
			}
		}
	}
}
