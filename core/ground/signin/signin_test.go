package signin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSecretNeverShowsItsText(t *testing.T) {
	const text = "tarn-water-7"
	in := SignIn{User: "steward", Secret: NewSecret(text)}
	var out bytes.Buffer
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%d"} {
		fmt.Fprintf(&out, verb+" "+verb+"\n", in, &in.Secret)
	}
	fmt.Fprint(&out, in, in.Secret, []any{in.Secret}, map[string]any{"a": in})
	slog.New(slog.NewJSONHandler(&out, nil)).Info("x", "secret", in.Secret, "in", in)
	slog.New(slog.NewTextHandler(&out, nil)).Info("x", "secret", in.Secret, "in", in)
	b, err := json.Marshal(map[string]any{"in": in, "p": &in.Secret})
	require.NoError(t, err)
	out.Write(b)
	fmt.Fprint(&out, fmt.Errorf("failed: %v %w", in, assert.AnError))
	assert.NotContains(t, out.String(), text)
	assert.NotContains(t, out.String(), fmt.Sprintf("%x", text))
	assert.Equal(t, text, in.Secret.Reveal())
}

func TestGuardHoldsBackBeforeTheDeviceLocks(t *testing.T) {
	now := time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)
	ago := func(m ...int) (out []time.Time) {
		for _, x := range m {
			out = append(out, now.Add(-time.Duration(x)*time.Minute))
		}
		return out
	}
	assert.NoError(t, Allow(nil, 0, now))
	assert.NoError(t, Allow(ago(1, 2), 0, now))
	assert.NoError(t, Allow(ago(1, 2, 20, 30, 40), 0, now), "old tries do not count")
	var held *HeldBackError
	require.ErrorAs(t, Allow(ago(1, 5), 1, now), &held)
	assert.True(t, held.Spacing, "what is under way may be the third: that is waited for")
	require.ErrorAs(t, Allow(ago(1, 5, 9), 0, now), &held)
	assert.False(t, held.Spacing)
	assert.Equal(t, 3, held.Wrong)
	assert.Equal(t, now.Add(6*time.Minute), held.Until)
	assert.NoError(t, Allow(ago(1, 5, 9), 0, held.Until), "the shown time is the time at which it is allowed again")
}
