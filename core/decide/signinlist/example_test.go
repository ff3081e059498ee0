package signinlist_test

import (
	"fmt"

	"unlatch/core/decide/signinlist"
)

func ExampleParseCSV() {
	keys, warnings, err := signinlist.ParseCSV([]byte("label,user,password\nFitter,fitter,brass lamp\n"))
	fmt.Println(keys[0].Label, keys[0].User, keys[0].Secret, len(warnings), err)
	// Output: Fitter fitter ••• 0 <nil>
}
