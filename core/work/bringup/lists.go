package bringup

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"

	"unlatch/core/wire/target"
)

// listFresh is how long the slots that a target has told are good for work that changes nothing on it.
const listFresh = time.Minute

// Lists holds the slots that targets have told, for all works of a process: a target with many slots is asked for its list once by all who
// wait for it, one list at a time, and not once for each camera. The zero Lists is ready.
type Lists struct {
	mu sync.Mutex
	of map[uuid.UUID]*toldList
}

// A toldList is what a target has told. turn holds one value while somebody asks or reads it.
type toldList struct {
	turn   chan struct{}
	asked  time.Time // when the target was asked for it; zero for never
	layout target.Layout
	err    error // of that asking
}

// after returns the slots that a target has told when it was asked later than since. Where nobody has asked it since then, it is asked now,
// and asked is true; whoever else wants the slots of this target waits for the answer.
func (l *Lists) after(ctx context.Context, id uuid.UUID, since time.Time, ask func() (target.Layout, error)) (_ target.Layout, asked bool,
	err error) {
	told := l.told(id)
	select {
	case told.turn <- struct{}{}:
	case <-ctx.Done():
		return target.Layout{}, false, ctx.Err()
	}
	defer func() { <-told.turn }()
	if told.asked.After(since) {
		return told.layout, false, told.err
	}
	began := time.Now()
	layout, err := ask()
	if ctx.Err() == nil { // else it was this work that ended, and the target has not answered
		told.asked, told.layout, told.err = began, layout, err
	}
	return layout, true, err
}

// told returns what is held of a target, and lets go of what nobody takes any more.
func (l *Lists) told(id uuid.UUID) *toldList {
	l.mu.Lock()
	defer l.mu.Unlock()
	for other, t := range l.of {
		select {
		case t.turn <- struct{}{}:
			if time.Since(t.asked) > listFresh {
				delete(l.of, other)
			}
			<-t.turn
		default: // it is in use
		}
	}
	t := l.of[id]
	if t == nil {
		if t = (&toldList{turn: make(chan struct{}, 1)}); l.of == nil {
			l.of = map[uuid.UUID]*toldList{}
		}
		l.of[id] = t
	}
	return t
}
