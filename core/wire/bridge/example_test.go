package bridge_test

import (
	"context"
	"fmt"
	"net"

	"unlatch/core/wire/bridge"
)

func ExampleNew() {
	c, err := bridge.New("http://192.0.2.9:8080/", bridge.Options{Dial: &net.Dialer{}})
	if err != nil {
		return
	}
	if t, err := c.Target(context.Background()); err == nil {
		fmt.Println(t.Name)
	}
}
