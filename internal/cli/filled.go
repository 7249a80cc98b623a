package cli

import (
	"encoding"
	"encoding/json"
	"reflect"
)

// filled gives v with an empty list in the place of each that is nil, however deep, so that
// scripts meet a list where the schema says one. What writes itself is left as it is.
func filled(v any) any {
	if v == nil {
		return nil
	}
	return fill(reflect.ValueOf(v)).Interface()
}

var (
	writesJSON = reflect.TypeFor[json.Marshaler]()
	writesText = reflect.TypeFor[encoding.TextMarshaler]()
)

func fill(v reflect.Value) reflect.Value {
	t := v.Type()
	if t.Implements(writesJSON) || t.Implements(writesText) {
		return v
	}
	switch v.Kind() {
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return v
		}
		out := reflect.MakeSlice(t, v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(fill(v.Index(i)))
		}
		return out
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(t.Elem())
		out.Elem().Set(fill(v.Elem()))
		return out
	case reflect.Struct:
		out := reflect.New(t).Elem()
		out.Set(v)
		for i := range t.NumField() {
			if t.Field(i).IsExported() {
				out.Field(i).Set(fill(v.Field(i)))
			}
		}
		return out
	}
	return v
}
