package prove_test

import (
	"context"
	"fmt"

	"unlatch/core/ground/streamurl"
	"unlatch/core/work/prove"
)

func ExampleProver() {
	u, _ := streamurl.Parse("rtsp://192.0.2.7/main")
	proof := (&prove.Prover{}).Prove(context.Background(), prove.Request{URL: u})
	fmt.Println(proof.OK)
}
