package certificate_test

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"unlatch/core/ground/certificate"
)

// A client whose connections show the certificate that the device is known by, or fail.
func ExampleDialer() {
	pinned := certificate.Dialer{Dial: (&net.Dialer{}).DialContext, Pin: "6f1d…", Timeout: 5 * time.Second}
	client := http.Client{Transport: &http.Transport{DialTLSContext: pinned.DialTLS}}
	_, err := client.Get("https://192.0.2.7/")
	if changed := new(certificate.ChangedError); errors.As(err, &changed) {
		fmt.Println("another certificate:", changed.Shown.SHA256)
	}
}
