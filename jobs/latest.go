package jobs

import (
	"sync"

	"github.com/google/uuid"
)

// latest tells what runs do now, while their jobs go on: nobody waits for that. Of one run only what was said last is told.
type latest struct {
	tell  func(run uuid.UUID, text string)
	mu    sync.Mutex
	texts map[uuid.UUID]string
	going bool // somebody tells what there is to tell
}

// say has a text of a run told soon.
func (l *latest) say(run uuid.UUID, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.texts == nil {
		l.texts = map[uuid.UUID]string{}
	}
	l.texts[run] = text
	if !l.going {
		l.going = true
		go l.run()
	}
}

// run tells what there is to tell, until there is nothing more.
func (l *latest) run() {
	for {
		texts := l.take()
		if texts == nil {
			return
		}
		for run, text := range texts {
			l.tell(run, text)
		}
	}
}

// take returns what there is to tell; nil for nothing.
func (l *latest) take() map[uuid.UUID]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	texts := l.texts
	l.texts = nil
	l.going = texts != nil
	return texts
}
