package allowance

import (
	"sync"
	"time"
)

// Limiter bounds how often sign-in may fail, for each key such as an address or
// a member: a number of failures at once, then one more after each pause.
type Limiter struct {
	Burst int           // failures that are free
	Pause time.Duration // how long until one of them is forgiven

	mu   sync.Mutex
	keys map[string]bucket
}

type bucket struct {
	failures float64
	at       time.Time
}

// maxKeys bounds the memory that strangers can make us use.
const maxKeys = 10000

// Wait says how long a key has to wait before it may try again; 0 for at once.
func (l *Limiter) Wait(key string, now time.Time) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.now(key, now)
	if over := b.failures - float64(l.Burst) + 1; over > 0 {
		return time.Duration(over * float64(l.Pause))
	}
	return 0
}

// Fail notes a failure.
func (l *Limiter) Fail(key string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.now(key, now)
	if l.keys == nil {
		l.keys = map[string]bucket{}
	}
	if len(l.keys) >= maxKeys {
		l.forget(now)
	}
	l.keys[key] = bucket{b.failures + 1, now}
}

// Forgive forgets the failures of a key.
func (l *Limiter) Forgive(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.keys, key)
}

func (l *Limiter) now(key string, now time.Time) bucket {
	b := l.keys[key]
	if passed := now.Sub(b.at); passed > 0 {
		b.failures = max(0, b.failures-float64(passed)/float64(l.Pause))
	}
	return b
}

// forget drops keys without failures; should that not be enough, any.
func (l *Limiter) forget(now time.Time) {
	for k := range l.keys {
		if l.now(k, now).failures == 0 {
			delete(l.keys, k)
		}
	}
	for k := range l.keys {
		if len(l.keys) < maxKeys*9/10 { // some room, not to do this each time
			break
		}
		delete(l.keys, k)
	}
}
