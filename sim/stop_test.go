package sim_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unlatch/sim/simtest"
)

// A world ends whatever its devices do at that moment: one that comes up again just then ends with it.
func TestAWorldEndsWhileDevicesComeUp(t *testing.T) {
	for n := range 25 { // around the 500 ms after which the device is up again
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			world := simtest.Start(t, fmt.Sprintf(`
name: yard
devices:
  - {name: Clock, maker: corvane, model: V4, address: 127.41.61.%d, scene: platform-clock, streams: [{width: 320, height: 180,
       fps: 10, kbps: 200, gop: 5, profile: baseline}]}
`, n+10))
			world.Restart("Clock")
			time.Sleep(490*time.Millisecond + time.Duration(n)*time.Millisecond)
			ended := make(chan error, 1)
			go func() { ended <- world.Stop() }()
			select {
			case err := <-ended:
				require.NoError(t, err)
			case <-time.After(20 * time.Second):
				t.Fatal("it does not end")
			}
		})
	}
}
