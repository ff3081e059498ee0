package redact_test

import (
	"fmt"

	"unlatch/core/ground/redact"
	"unlatch/core/ground/signin"
)

func ExampleRedactor() {
	var r redact.Redactor
	r.Know(signin.SignIn{User: "fitter", Secret: signin.NewSecret("brass lamp")})
	fmt.Println(r.Text("GET /?pwd=anything and /brass%20lamp"))
	// Output: GET /?pwd=••• and /•••
}
