package act_test

import (
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/act"
)

func ExampleAct() {
	var a act.Act = act.Open{Site: uuid.Nil, Devices: []uuid.UUID{uuid.Nil}}
	about := a.About()
	fmt.Println(about.Name, about.Right, act.Viewer.May(about.Right))

	// Output: open-latches work false
}
