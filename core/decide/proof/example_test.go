package proof_test

import (
	"encoding/json"
	"fmt"

	"unlatch/core/decide/proof"
)

func ExampleProof() {
	var p proof.Proof
	err := json.Unmarshal([]byte(`{"url": "rtsp://192.0.2.7/main", "ok": true, "transport": "tcp"}`), &p)
	fmt.Println(p.URL, p.OK, p.Transport, err)
	// Output: rtsp://192.0.2.7/main true tcp <nil>
}
