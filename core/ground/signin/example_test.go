package signin_test

import (
	"encoding/json"
	"fmt"

	"unlatch/core/ground/signin"
)

// A secret shows itself to nobody who does not ask for it by name.
func ExampleSecret() {
	s := signin.NewSecret("brass-lamp-41")
	fmt.Println(s)
	fmt.Printf("%v %+v %#v %q\n", s, s, s, s)
	raw, err := json.Marshal(signin.SignIn{User: "fitter", Secret: s})
	fmt.Println(string(raw), err)
	fmt.Println(s.Reveal())
	// Output:
	// •••
	// ••• ••• ••• •••
	// {"ID":"","User":"fitter","Secret":"•••"} <nil>
	// brass-lamp-41
}
