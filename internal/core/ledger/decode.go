package ledger

import (
	"encoding/json"
	"errors"
	"reflect"
)

// Decode reads what the ledger keeps as JSON. Somebody may have changed it: a list with nothing
// in one of its places is an error here, before anybody looks into that place.
func Decode(data []byte, into any) error {
	if err := json.Unmarshal(data, into); err != nil {
		return err
	}
	if gaps(reflect.ValueOf(into)) {
		return errors.New("a place in a list holds nothing")
	}
	return nil
}

var unmarshaler = reflect.TypeFor[json.Unmarshaler]()

// gaps reports whether a list or a map somewhere in a value holds a nil pointer.
func gaps(v reflect.Value) bool {
	if v.Kind() != reflect.Pointer && reflect.PointerTo(v.Type()).Implements(unmarshaler) {
		return false // it reads itself
	}
	switch v.Kind() {
	case reflect.Pointer:
		return !v.IsNil() && gaps(v.Elem())
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && gaps(v.Field(i)) {
				return true
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			if missing(v.Index(i)) {
				return true
			}
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			if missing(v.MapIndex(k)) {
				return true
			}
		}
	}
	return false
}

func missing(v reflect.Value) bool {
	return v.Kind() == reflect.Pointer && v.IsNil() || gaps(v)
}
