// Package answer is what commands say as JSON; docs/json.md describes it. Names are lower_snake_case. Sizes and places
// are bytes, times of day RFC 3339, lengths of time seconds. A list is never null, and what isn't known is absent. A
// part and a span of bytes have one shape everywhere (parts.go).
package answer

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode"

	"twinshelf/internal/shelf"
	"twinshelf/internal/span"
	"twinshelf/internal/startup"
	"twinshelf/internal/table"
)

// Encode writes a value as JSON, by the rules of this package whatever the tags of its types leave open.
func Encode(v any) ([]byte, error) {
	var b bytes.Buffer
	t, ok := plain(reflect.ValueOf(v))
	if !ok {
		t = nil
	}
	if err := json.NewEncoder(&b).Encode(t); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := json.Indent(&out, bytes.TrimSpace(b.Bytes()), "", "  "); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// object keeps its members in their order.
type object []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members one after the other.
func (o object) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		name, err := json.Marshal(m.name)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b.Write(name)
		b.WriteByte(':')
		b.Write(value)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

var (
	timeType     = reflect.TypeFor[time.Time]()
	durationType = reflect.TypeFor[time.Duration]()
	errorType    = reflect.TypeFor[error]()
	stringerType = reflect.TypeFor[fmt.Stringer]()
)

// plain gives a value as what JSON has; false for one that is absent.
func plain(v reflect.Value) (any, bool) {
	if v.IsValid() && v.Kind() == reflect.Interface {
		v = v.Elem() // it may hold a pointer to nothing
	}
	if !v.IsValid() {
		return nil, false
	}
	if (v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface) && v.IsNil() {
		return nil, false
	}
	if v.Type().Implements(errorType) {
		return v.Interface().(error).Error(), true
	}
	if out, ok := shaped(v); ok {
		return plain(reflect.ValueOf(out))
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		return plain(v.Elem())
	case reflect.Struct:
		return plainStruct(v)
	case reflect.Map:
		return plainMap(v), true
	case reflect.Slice, reflect.Array:
		return plainList(v), true
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8,
		reflect.Uint16, reflect.Uint32, reflect.Uint64:
		if v.Type() == durationType {
			return time.Duration(v.Int()).Seconds(), true
		}
		if v.Type().Implements(stringerType) {
			return v.Interface().(fmt.Stringer).String(), true
		}
	case reflect.Func, reflect.Chan, reflect.UnsafePointer:
		return nil, false
	}
	return v.Interface(), true
}

// shaped gives the shape that values of some types have everywhere.
func shaped(v reflect.Value) (any, bool) {
	switch x := v.Interface().(type) {
	case span.Span:
		return Span{x.Start, x.Len()}, true
	case span.Set:
		return spansOf(x), true
	case table.Part:
		return PartOf(x), true
	case shelf.Region:
		return partOfRegion(x), true
	case *shelf.Twin:
		return TwinOf(x), true
	case *shelf.Proof:
		return proofOf(x), true
	case *startup.Report:
		return startupOf(x), true
	case *table.Table:
		return tableOf(x), true
	}
	return nil, false
}

func plainStruct(v reflect.Value) (any, bool) {
	if v.Type() == timeType {
		t := v.Interface().(time.Time)
		return t, !t.IsZero()
	}
	out := object{}
	appendFields(&out, v)
	return out, true
}

func appendFields(out *object, v reflect.Value) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() && !f.Anonymous || name == "-" {
			continue
		}
		value := v.Field(i)
		if f.Anonymous && name == "" {
			for value.Kind() == reflect.Pointer && !value.IsNil() {
				value = value.Elem()
			}
			if value.Kind() == reflect.Struct {
				appendFields(out, value)
			}
			continue
		}
		if strings.Contains(options, "omitempty") && value.IsZero() && value.Kind() != reflect.Slice &&
			value.Kind() != reflect.Map {
			continue
		}
		if name == "" {
			name = Snake(f.Name)
		}
		if p, ok := plain(value); ok {
			out.set(name, p)
		}
	}
}

// set adds a member, or replaces the one of an embedded type.
func (o *object) set(name string, value any) {
	for i := range *o {
		if (*o)[i].name == name {
			(*o)[i].value = value
			return
		}
	}
	*o = append(*o, member{name, value})
}

func plainMap(v reflect.Value) any {
	keys := v.MapKeys()
	slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
	out := object{}
	for _, k := range keys {
		name := fmt.Sprint(k)
		if k.Type() != reflect.TypeFor[string]() { // a word of the program, not somebody's text
			name = strings.ReplaceAll(Snake(name), "-", "_")
		}
		if p, ok := plain(v.MapIndex(k)); ok {
			out.set(name, p)
		}
	}
	return out
}

func plainList(v reflect.Value) any {
	if v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.Uint8 {
		return base64.StdEncoding.EncodeToString(v.Bytes())
	}
	out := make([]any, 0, v.Len())
	for i := range v.Len() {
		if p, ok := plain(v.Index(i)); ok {
			out = append(out, p)
		}
	}
	return out
}

// Snake gives a Go name in lower_snake_case; initials stay together: "LBASize" is "lba_size".
func Snake(name string) string {
	r := []rune(name)
	var b strings.Builder
	for i, c := range r {
		if !unicode.IsUpper(c) {
			b.WriteRune(c)
			continue
		}
		after := i > 0 && !unicode.IsUpper(r[i-1])
		before := i > 0 && i+1 < len(r) && unicode.IsUpper(r[i-1]) && unicode.IsLower(r[i+1])
		if after || before {
			b.WriteByte('_')
		}
		b.WriteRune(unicode.ToLower(c))
	}
	return b.String()
}
