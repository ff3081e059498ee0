package command_test

import (
	"encoding/json"
	"fmt"

	"github.com/google/uuid"

	"unlatch/core/decide/command"
)

func ExampleEach() {
	for _, c := range command.Each([]uuid.UUID{uuid.Nil}, command.Device{Open: &command.Open{Retry: true}}) {
		raw, _ := json.Marshal(c.Do)
		fmt.Println(string(raw))
	}
	// Output: {"open":{"retry":true}}
}
