package evidence

import (
	"fmt"

	"unlatch/core/decide/diagnose"
	"unlatch/core/stream/recipe"
)

// Commanded is what a device was told on its maker's own page, by a command recipe. Its subject is the command's name.
type Commanded struct {
	Pending bool           `json:"pending,omitempty" doc:"recorded before it was sent; what came of it is not known yet"`
	Command recipe.Command `json:"command" doc:"as it was then: undo needs it"`
	// Partners are the commands that it must not be on with, of which some may have been switched first.
	Partners  []recipe.Command             `json:"partners,omitempty"`
	Wanted    map[string]string            `json:"wanted"`
	Before    map[string]string            `json:"before" doc:"what undo puts back"`
	After     map[string]string            `json:"after,omitempty" doc:"as it was read back"`
	Switched  map[string]map[string]string `json:"switched,omitempty" doc:"by partner, what it was before it was switched"`
	Undone    bool                         `json:"undone,omitempty"`
	Diagnosis *diagnose.Diagnosis          `json:"diagnosis,omitempty"`
}

func (Commanded) kind() Kind { return KindCommanded }

func (b Commanded) failure() *diagnose.Diagnosis { return b.Diagnosis }

func (b Commanded) sum(_ string) string {
	switch {
	case b.Pending:
		return fmt.Sprintf("%s: about to be set to %s, before %s", b.Command.Name, b.Command.InWords(b.Wanted), b.Command.InWords(b.Before))
	case b.Undone:
		return fmt.Sprintf("%s put back: %s", b.Command.Name, b.Command.InWords(b.After))
	}
	return fmt.Sprintf("%s: %s, before %s", b.Command.Name, b.Command.InWords(b.After), b.Command.InWords(b.Before))
}
