package command_test

import (
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"unlatch/core/decide/command"
	"unlatch/core/stream/camera"
)

func TestWhatIsDoneAlone(t *testing.T) {
	for _, c := range []struct {
		do   command.Device
		want bool
	}{
		{command.Device{Open: &command.Open{}}, true},
		{command.Device{Address: &camera.Network{}}, true},
		{command.Device{Claim: &command.Claim{}}, true},
		{command.Device{Fix: &command.Fix{}}, true},
		{command.Device{Mark: &command.Mark{}}, true},
		{command.Device{Cast: &command.Cast{}}, true},
		{command.Device{Tune: &command.Tune{}}, true},
		{command.Device{Place: &command.Place{Tune: &command.Tune{}}}, true},
		{command.Device{Place: &command.Place{}}, false},
		{command.Device{Move: &command.Move{}}, false},
		{command.Device{Remove: &command.Remove{}}, false},
		{command.Device{Wake: &command.Wake{}}, false},
	} {
		assert.Equal(t, c.want, c.do.Alone(), c.do.Name())
	}
}

// What is the same for many is said once, and each device keeps the order of its commands.
func TestGrouped(t *testing.T) {
	a, b := uuid.New(), uuid.New()
	on, off := uuid.New(), uuid.New()
	place := func(t uuid.UUID) command.Device { return command.Device{Place: &command.Place{Target: t}} }
	out, err := command.Grouped([]command.OnDevice{{a, place(on)}, {a, place(off)}, {b, place(on)}, {b, place(off)}})
	require.NoError(t, err)
	assert.Equal(t, []command.OnDevices{{[]uuid.UUID{a, b}, place(on)}, {[]uuid.UUID{a, b}, place(off)}}, out)
}
