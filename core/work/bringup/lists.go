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

// Lists shares the lists of slots that targets tell among all works of a process: a target is asked once for all who wait for its list,
// and not once for each camera. The zero Lists is ready.
type Lists struct {
	mu sync.Mutex
	of map[uuid.UUID]*toldList
}

// A toldList is the last list that a target told. turn is a lock that can be waited for with a context: it holds one value while somebody
// asks the target or reads the list.
type toldList struct {
	turn   chan struct{}
	asked  time.Time // when the target was asked for it; zero for never
	layout target.Layout
	err    error // of that asking
}

// askedAfter returns a list that the target was asked for later than since. If there is none, it calls ask and returns asked as true;
// others who want the list of this target wait for that answer.
func (l *Lists) askedAfter(ctx context.Context, id uuid.UUID, since time.Time, ask func() (target.Layout, error)) (_ target.Layout,
	asked bool, err error) {
	told := l.listOf(id)
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

// listOf returns the list of a target, and drops those of other targets that are older than listFresh and not in use.
func (l *Lists) listOf(id uuid.UUID) *toldList {
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
