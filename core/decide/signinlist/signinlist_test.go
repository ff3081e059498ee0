package signinlist_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/signinlist"
	"unlatch/core/ground/table"
)

func TestKeysAsSpreadsheetsWriteThem(t *testing.T) {
	for name, text := range map[string]string{
		"commas":      "Name,User name,Password,Maker,For,Factory\nFitter,fitter,\" Brass,Lamp \",Corvane,streams,x\n",
		"semicolons":  "name;user;password;maker;purpose;default\nFitter;fitter;\" Brass,Lamp \";Corvane;rtsp;yes\n",
		"other order": "password\tlogin\tlabel\tvendor\tuse\tfactory\r\n Brass,Lamp \tfitter\tFitter\tCorvane\tstream\t1\r\n",
	} {
		keys, warnings, err := signinlist.ParseCSV([]byte(text))
		require.NoError(t, err, name)
		require.Len(t, keys, 1, name)
		assert.Empty(t, warnings, name)
		k := keys[0]
		assert.Equal(t, " Brass,Lamp ", k.Secret.Reveal(), "%s: blanks may belong to a password", name)
		assert.Equal(t, []any{"Fitter", "fitter", "Corvane", "stream", true}, []any{k.Label, k.User, k.Maker, k.Purpose, k.Factory}, name)
	}
}

func TestBadKeyLists(t *testing.T) {
	keys, warnings, err := signinlist.ParseCSV([]byte("user,password,purpose\na,tarn-1,\n,tarn-2,\na,tarn-1,\nb,tarn-3,juggling\n" +
		strings.Repeat("c", 300) + ",tarn-4,\n=1+1,tarn-5,\n"))
	require.NoError(t, err)
	assert.Len(t, keys, 3)
	assert.Len(t, warnings, 4)
	assert.NotContains(t, strings.Join(warnings, ""), "tarn-", "no warning tells a password")
	assert.NotContains(t, fmt.Sprint(keys), "tarn-")
	for name, in := range map[string]string{
		"empty": "", "no headings": "fitter,tarn-1\n", "no password": "name,user\na,b\n", "no lines": "user,password\n",
		"too many": "user,password\n" + many(501), "binary": "\x00\xff\xfe",
	} {
		_, _, err := signinlist.ParseCSV([]byte(in))
		var e *table.Error
		require.ErrorAs(t, err, &e, name)
		assert.NotContains(t, err.Error(), "tarn-", name)
		assert.NotEmpty(t, e.Fix, name)
	}
}

func many(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "user%d,tarn-%d\n", i, i)
	}
	return b.String()
}

func FuzzParseCSV(f *testing.F) {
	f.Add([]byte("user,password\na,b\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		keys, _, err := signinlist.ParseCSV(raw)
		if (err == nil) != (len(keys) > 0) {
			t.Fatal(len(keys), err)
		}
	})
}
