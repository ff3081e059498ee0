package picture_test

import (
	"context"
	"fmt"
	"net"

	"unlatch/core/ground/signin"
	"unlatch/core/wire/picture"
)

func ExampleFetcher() {
	f := picture.Fetcher{Dial: &net.Dialer{}, SignIn: signin.SignIn{User: "viewer", Secret: signin.NewSecret("brass lamp")}}
	p, err := f.Fetch(context.Background(), "http://192.0.2.7/snapshot.jpg")
	if err != nil {
		fmt.Println("no picture:", err)
		return
	}
	fmt.Printf("%s of %d by %d pixels in %.0f ms", p.Kind, p.Width, p.Height, p.MS)
}
