package evidence

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the golden bodies of the present version")

// fill sets every field of v to a value other than its zero value, the same at each run.
func fill(v reflect.Value, name string) {
	switch x := v.Addr().Interface().(type) {
	case *netip.Addr:
		*x = netip.MustParseAddr("192.0.2.7")
		return
	case *netip.AddrPort:
		*x = netip.MustParseAddrPort("239.255.0.7:50000")
		return
	case *netip.Prefix:
		*x = netip.MustParsePrefix("192.0.2.0/24")
		return
	case *uuid.UUID:
		*x = uuid.MustParse("01900000-0000-7000-8000-000000000001")
		return
	case *time.Time:
		*x = time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
		return
	}
	switch v.Kind() {
	case reflect.String:
		v.SetString(strings.ToLower(name))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		v.SetInt(7)
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		v.SetUint(7)
	case reflect.Float32, reflect.Float64:
		v.SetFloat(1.5)
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), name)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		fill(v.Index(0), name)
	case reflect.Array:
		for i := range v.Len() {
			fill(v.Index(i), name)
		}
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, name)
		fill(value, name)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && f.Tag.Get("json") != "-" {
				tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
				fill(v.Field(i), cmp.Or(tag, f.Name)) // what a field is called in Go is not what is fixed
			}
		}
	default:
		panic(fmt.Sprintf("%s: no value for a %s", name, v.Kind()))
	}
}

// full returns a body of a kind with every field set.
func full(t *testing.T, k Kind) Body {
	empty, err := readers[k](Record{Kind: k, Body: []byte("{}")})
	require.NoError(t, err, k)
	v := reflect.New(reflect.TypeOf(empty)).Elem()
	fill(v, string(k))
	return v.Interface().(Body)
}

func indented(t *testing.T, raw []byte) string {
	var out bytes.Buffer
	require.NoError(t, json.Indent(&out, raw, "", "  "))
	return out.String() + "\n"
}

// The present form of each body is the one that the golden file of its version holds. When this fails, another package has changed what
// stands in people's databases: add a field to the file of the present version, or raise the version and add an upgrade.
func TestTheFormOfEachBodyIsFixed(t *testing.T) {
	for k := range readers {
		raw, err := Encode(full(t, k))
		require.NoError(t, err)
		file := filepath.Join("testdata", fmt.Sprintf("v%d", version), string(k)+".json")
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(indented(t, raw)), 0o644))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err, "a new kind needs a golden file: run with -update")
		assert.Equal(t, string(want), indented(t, raw), k)
	}
}

// What any version has written is read, and loses nothing: written again it is the golden file of the present version, or, where words have
// changed, what stands beside it for that kind.
func TestEveryVersionIsRead(t *testing.T) {
	files, err := filepath.Glob("testdata/v[0-9]*/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		name := strings.TrimSuffix(filepath.Base(file), ".json")
		body, err := Record{Kind: Kind(name), Body: raw}.Read()
		require.NoError(t, err, file)
		again, err := Encode(body)
		require.NoError(t, err)
		changed := filepath.Join(filepath.Dir(file), "now", name+".json")
		want, err := os.ReadFile(filepath.Join("testdata", fmt.Sprintf("v%d", version), name+".json"))
		require.NoError(t, err)
		if *update && string(want) != indented(t, again) {
			require.NoError(t, os.MkdirAll(filepath.Dir(changed), 0o755))
			require.NoError(t, os.WriteFile(changed, []byte(indented(t, again)), 0o644))
		}
		if other, err := os.ReadFile(changed); err == nil {
			want = other
		}
		assert.Equal(t, string(want), indented(t, again), file)
	}
}

func TestWhatCannotBeReadIsAnError(t *testing.T) {
	for name, c := range map[string]struct {
		kind Kind
		body string
		want string
	}{
		"of a later version": {KindPlaced, `{"v":3,"slot":"slot_01"}`, `a record of the kind "placed" cannot be read: a newer version`},
		"no object":          {KindPlaced, `"slot_01"`, "cannot unmarshal"},
		"another type":       {KindPlaced, `{"v":1,"slot":1}`, "cannot unmarshal"},
		"no JSON":            {KindPlaced, `{`, "unexpected end"},
		"an unknown kind":    {"blessed", `{"v":1}`, "there is no such kind"},
	} {
		r := Record{Kind: c.kind, Body: []byte(c.body)}
		_, err := r.Read()
		var unreadable *Unreadable
		require.ErrorAs(t, err, &unreadable, name)
		assert.Equal(t, c.kind, unreadable.Kind)
		assert.ErrorContains(t, err, c.want, name)
		assert.True(t, r.Failed(), name)
		assert.Equal(t, err.Error(), r.Sum(), name)
	}
	_, err := Decode[Placed](Record{Kind: KindPin, Body: []byte(`{}`)})
	assert.ErrorContains(t, err, `it was read as "placed"`)
	_, err = Decode[Placed](Record{Kind: KindPlaced, Body: []byte(`{"v":3}`)})
	assert.True(t, errors.Is(err, ErrNewer))
}

// An old body is brought up step by step.
func TestUpgradesAreStepByStep(t *testing.T) {
	was := upgrades
	t.Cleanup(func() { upgrades = was })
	upgrades = map[int]map[Kind]func(json.RawMessage) (json.RawMessage, error){0: {KindPlaced: func(json.RawMessage) (json.RawMessage, error) {
		return nil, errors.New("a body without a version is of version 1")
	}}}
	got, err := Decode[Placed](Record{Kind: KindPlaced, Body: []byte(`{"slot":"slot_01"}`)})
	require.NoError(t, err)
	assert.Equal(t, Placed{Slot: "slot_01"}, got)
}

func TestRewriteKeepsTheKind(t *testing.T) {
	got, err := Rewrite(Placed{Slot: "hush"}, func(raw []byte) []byte { return bytes.ReplaceAll(raw, []byte("hush"), []byte("•••")) })
	require.NoError(t, err)
	assert.Equal(t, Placed{Slot: "•••"}, got)
	_, err = Rewrite(Placed{}, func([]byte) []byte { return []byte("{") })
	assert.Error(t, err)
}
