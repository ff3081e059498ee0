package player_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/streamurl"
	"unlatch/core/wire/player"
)

func ExampleOpen() {
	u, _ := streamurl.Parse("rtsp://192.0.2.7/main")
	session, err := player.Open(context.Background(), player.Request{URL: u})
	if err != nil {
		fmt.Println("it does not play")
		return
	}
	defer session.Close()
}
