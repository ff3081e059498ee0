package relay_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/signin"
	"unlatch/core/work/fanout"
	"unlatch/core/work/relay"
)

// A server with one relay, whose camera does not play.
func ExampleServer() {
	s := &relay.Server{}
	defer s.Close()
	s.Set([]relay.Relay{{ID: "1", Path: "footbridge/main", User: "desk", Secret: signin.NewSecret("oak-door-52"),
		Take: func(context.Context) (*fanout.Consumer, error) { return nil, context.Canceled }}})
	fmt.Println(s.Statuses()[0].Takers)
	// Output: 0
}
