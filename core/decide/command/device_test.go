package command_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

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
