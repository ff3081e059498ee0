package live_test

import (
	"context"
	"fmt"

	"unlatch/core/work/live"
)

// Two people look at one stream: its source runs once.
func ExampleHub() {
	var hub live.Hub
	source := func(ctx context.Context, to *live.Room) error {
		<-ctx.Done() // here the camera is played into the room
		return ctx.Err()
	}
	for range 2 {
		v, err := hub.Watch("camera 7 main", live.Wish{}, source)
		if err != nil {
			return
		}
		defer v.Close()
	}
	fmt.Println(hub.Streams(), "stream is played")
	// Output: 1 stream is played
}
