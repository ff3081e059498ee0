package wiretext

import "reflect"

// MostField is the length in bytes to which Every cuts a text. The longest that means something are URLs.
const MostField = 2048

// Every makes every text of a decoded answer safe to keep and to show, as Line does: of structs, lists and maps, however they are nested.
// It is the one door for answers that come as JSON, so that no field is forgotten when one is added. v is a pointer.
func Every(v any) { every(reflect.ValueOf(v)) }

func every(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			every(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				every(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			every(v.Index(i))
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			clean := reflect.New(v.Type().Elem()).Elem()
			clean.Set(v.MapIndex(k))
			every(clean)
			key := reflect.New(k.Type()).Elem()
			key.Set(k)
			every(key)
			v.SetMapIndex(k, reflect.Value{})
			v.SetMapIndex(key, clean)
		}
	case reflect.String:
		if v.CanSet() {
			v.SetString(Line(v.String(), MostField))
		}
	}
}
