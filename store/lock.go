package store

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// A locker holds the locks of this process on one connection of its own: who holds a lock talks to a device meanwhile, for as long as that
// takes, and no connection of the pool waits for it.
type locker struct {
	connect *pgx.ConnConfig
	queue   sync.Mutex // guards asks and local
	asks    []*lockAsk
	local   map[uuid.UUID]*keyLock
	mu      sync.Mutex // guards conn and held; whoever has it may be asking the database
	conn    *pgx.Conn  // nil until the first lock
	held    map[uuid.UUID]context.CancelCauseFunc
}

// A keyLock is who waits for a lock in this process. Locks of one connection do not keep each other out.
type keyLock struct {
	taken chan struct{} // one place
	users int
}

func newLocker(c *pgx.ConnConfig) *locker {
	return &locker{connect: c, held: map[uuid.UUID]context.CancelCauseFunc{}, local: map[uuid.UUID]*keyLock{}}
}

// ErrLockLost means that the connection which held a lock was lost, so that somebody else may have it now.
var ErrLockLost = errors.New("the lock was lost with its connection to the database")

// lockAgain is after how long a lock that another process holds is asked for again.
const lockAgain = 50 * time.Millisecond

// Locked runs fn while no other worker, in this process or another, runs one for the same key. Its context ends when the lock is lost.
func (s *Store) Locked(ctx context.Context, key uuid.UUID, fn func(context.Context) error) error {
	done, err := s.locks.waitTurn(ctx, key)
	if err != nil {
		return err
	}
	defer done()
	for {
		if free, err := s.locks.run(ctx, key, fn); free || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lockAgain):
		}
	}
}

// run runs fn if no other process holds the key.
func (l *locker) run(ctx context.Context, key uuid.UUID, fn func(context.Context) error) (free bool, err error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	held, end := context.WithCancelCause(ctx)
	defer end(nil)
	if free, err = l.try(key, end); !free || err != nil {
		return free, err
	}
	defer l.release(key)
	err = fn(held)
	if errors.Is(context.Cause(held), ErrLockLost) {
		return true, errors.Join(ErrLockLost, err)
	}
	return true, err
}

// TryLocked runs fn as Locked does if nobody holds the key; otherwise it does nothing and reports false.
func (s *Store) TryLocked(ctx context.Context, key uuid.UUID, fn func(context.Context) error) (free bool, err error) {
	done, ok := s.locks.tryTurn(key)
	if !ok {
		return false, nil
	}
	defer done()
	return s.locks.run(ctx, key, fn)
}

// waitTurn waits until nobody else in this process has or wants the key before.
func (l *locker) waitTurn(ctx context.Context, key uuid.UUID) (done func(), err error) {
	t, leave := l.queueFor(key)
	select {
	case t.taken <- struct{}{}:
		return func() { <-t.taken; leave() }, nil
	case <-ctx.Done():
		leave()
		return nil, ctx.Err()
	}
}

// tryTurn takes the key if nobody else in this process has it.
func (l *locker) tryTurn(key uuid.UUID) (done func(), ok bool) {
	t, leave := l.queueFor(key)
	select {
	case t.taken <- struct{}{}:
		return func() { <-t.taken; leave() }, true
	default:
		leave()
		return nil, false
	}
}

// queueFor returns the lock of a key within this process, which is kept until each user has left it.
func (l *locker) queueFor(key uuid.UUID) (t *keyLock, leave func()) {
	l.queue.Lock()
	defer l.queue.Unlock()
	if t = l.local[key]; t == nil {
		t = &keyLock{taken: make(chan struct{}, 1)}
		l.local[key] = t
	}
	t.users++
	return t, func() {
		l.queue.Lock()
		defer l.queue.Unlock()
		if t.users--; t.users == 0 {
			delete(l.local, key)
		}
	}
}

// A lockAsk is a lock that is asked for, or given back.
type lockAsk struct {
	key  uuid.UUID
	end  context.CancelCauseFunc // is called when the lock is lost; nil gives it back
	done bool
	got  bool
	err  error
}

// lockTime bounds one way to the database and back. It is nobody's own time: a question that is broken off ends the connection, and all
// locks with it.
const lockTime = 10 * time.Second

// try asks for the lock once. The connection is made where there is none. end is called when a lock that was got is lost.
func (l *locker) try(key uuid.UUID, end context.CancelCauseFunc) (got bool, err error) {
	a := &lockAsk{key: key, end: end}
	l.ask(a)
	return a.got, a.err
}

// release gives a lock back. One that cannot be given back goes with the connection.
func (l *locker) release(key uuid.UUID) { l.ask(&lockAsk{key: key}) }

// ask asks one thing. What others wait to ask meanwhile goes along with it: far from the database many devices at work would otherwise wait
// for each other's ways there and back.
func (l *locker) ask(a *lockAsk) {
	l.queue.Lock()
	l.asks = append(l.asks, a)
	l.queue.Unlock()
	l.mu.Lock()
	defer l.mu.Unlock()
	if a.done { // whoever was here before has asked it along
		return
	}
	l.queue.Lock()
	asks := l.asks
	l.asks = nil
	l.queue.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), lockTime)
	defer cancel()
	err := l.send(ctx, asks)
	for _, a := range asks {
		switch a.done = true; {
		case err != nil && a.end != nil:
			a.got, a.err = false, err
		case a.got:
			l.held[a.key] = a.end
		}
	}
}

// send asks everything in one go. The lock on mu is held.
func (l *locker) send(ctx context.Context, asks []*lockAsk) (err error) {
	if l.conn == nil || l.conn.IsClosed() {
		l.lose()
		if l.conn, err = pgx.ConnectConfig(ctx, l.connect); err != nil {
			l.conn = nil
			return err
		}
		go l.watch(l.conn)
	}
	var b pgx.Batch
	for _, a := range asks {
		if a.end != nil {
			b.Queue("SELECT pg_try_advisory_lock(hashtextextended($1, 0))", a.key.String()).QueryRow(scan(&a.got))
		} else if _, ok := l.held[a.key]; ok { // else it was lost, and the connection that held it is gone
			delete(l.held, a.key)
			b.Queue("SELECT pg_advisory_unlock(hashtextextended($1, 0))", a.key.String())
		}
	}
	if err = l.conn.SendBatch(ctx, &b).Close(); err != nil {
		l.conn.Close(ctx)
		l.lose()
	}
	return err
}

// lose ends the work of all who hold locks. The lock on mu is held.
func (l *locker) lose() {
	for key, end := range l.held {
		end(ErrLockLost)
		delete(l.held, key)
	}
}

// watch notices that the connection is lost while locks are held and nothing else is asked of it.
func (l *locker) watch(conn *pgx.Conn) {
	for {
		time.Sleep(2 * time.Second)
		l.mu.Lock()
		if l.conn != conn {
			l.mu.Unlock()
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		err := conn.Ping(ctx)
		cancel()
		if err != nil {
			conn.Close(context.Background())
			l.conn = nil
			l.lose()
		}
		l.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// close gives the connection back, and all locks with it.
func (l *locker) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		l.conn.Close(ctx)
		l.conn = nil
	}
	l.lose()
}
