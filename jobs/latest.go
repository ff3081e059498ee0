package jobs

import (
	"sync"

	"github.com/google/uuid"
)

// latest tells what runs do now, while their jobs go on: nobody waits for that. Of one run only what was said last is told. The zero value
// is ready.
type latest struct {
	mu    sync.Mutex
	texts map[uuid.UUID]string
	tells bool // somebody tells what there is to tell
}

// say has a text of a run told soon.
func (l *latest) say(run uuid.UUID, text string, tell func(run uuid.UUID, text string)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.texts == nil {
		l.texts = map[uuid.UUID]string{}
	}
	l.texts[run] = text
	if !l.tells {
		l.tells = true
		go l.tell(tell)
	}
}

// tell tells what there is to tell, until there is nothing more.
func (l *latest) tell(tell func(run uuid.UUID, text string)) {
	for {
		texts := l.take()
		if texts == nil {
			return
		}
		for run, text := range texts {
			tell(run, text)
		}
	}
}

// take returns what there is to tell; nil for nothing.
func (l *latest) take() map[uuid.UUID]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	texts := l.texts
	l.texts = nil
	l.tells = texts != nil
	return texts
}
