package fanout_test

import (
	"context"
	"errors"
	"fmt"

	"unlatch/core/wire/player"
	"unlatch/core/work/fanout"
)

// A camera that does not play is everybody's error, and is asked again by the next.
func ExampleHub() {
	var hub fanout.Hub
	_, err := hub.Join(context.Background(), "footbridge main", func(context.Context) (*player.Session, error) {
		return nil, errors.New("no route to the camera")
	})
	fmt.Println(err, hub.Streams())
	// Output: no route to the camera 0
}
