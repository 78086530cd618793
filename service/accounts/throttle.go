package accounts

import (
	"context"
	"sync"
	"time"

	"wraithology/core/fault"
)

// Limits of attempts to sign in. After freeAttempts wrong passwords for a name every further attempt waits for attemptWait, also one with the right
// password; from one address only attemptsAtOnce wait for the same name, so that whoever guesses gets no more than that many in attemptWait.
const (
	freeAttempts   = 5
	attemptWait    = 1500 * time.Millisecond
	attemptsAtOnce = 2
	forgetAfter    = 15 * time.Minute // without a wrong password
	mostNames      = 10_000           // names whose wrong passwords are counted
)

// throttle counts wrong passwords.
type throttle struct {
	mu      sync.Mutex
	names   map[string]*attempts
	waiting map[[2]string]int // attempts that are under way, by name and address
	turns   map[string]*turns // of addresses
}

// turns are the attempts of one address: only hashesOfAddress of them are hashed at once, so that others do not wait for all that one address sends.
type turns struct {
	place chan struct{}
	using int
}

// hashesOfAddress limits the hashes that one address has under way.
const hashesOfAddress = 1

// turn waits until an address has its turn to hash, and returns what ends that.
func (t *throttle) turn(ctx context.Context, address string) (end func(), err error) {
	t.mu.Lock()
	x := t.turns[address]
	if x == nil {
		x = &turns{place: make(chan struct{}, hashesOfAddress)}
		t.turns[address] = x
	}
	x.using++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if x.using--; x.using == 0 {
			delete(t.turns, address)
		}
	}
	select {
	case x.place <- struct{}{}:
		return func() { <-x.place; leave() }, nil
	case <-ctx.Done():
		leave()
		return nil, ctx.Err()
	}
}

type attempts struct {
	wrong int
	last  time.Time
}

// enter waits for the turn of an attempt, and returns what ends it. The error wraps fault.TooMany if too many attempts for the name come from the address.
func (t *throttle) enter(ctx context.Context, name, address string) (leave func(isWrong bool), err error) {
	at := [2]string{name, address}
	t.mu.Lock()
	if t.waiting[at] >= attemptsAtOnce {
		t.mu.Unlock()
		return nil, fault.TooMany.New("wait some seconds and try again", "too many attempts to sign in as %.64s", name)
	}
	t.waiting[at]++
	slow := false
	if x := t.names[name]; x != nil && time.Since(x.last) < forgetAfter {
		slow = x.wrong >= freeAttempts
	}
	t.mu.Unlock()
	leave = func(isWrong bool) {
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.waiting[at]--; t.waiting[at] == 0 {
			delete(t.waiting, at)
		}
		if isWrong {
			t.count(name)
		}
	}
	if !slow {
		return leave, nil
	}
	select {
	case <-time.After(attemptWait):
		return leave, nil
	case <-ctx.Done():
		leave(false)
		return nil, ctx.Err()
	}
}

// count counts a wrong password; t.mu is held.
func (t *throttle) count(name string) {
	x := t.names[name]
	if x == nil {
		if len(t.names) >= mostNames {
			t.forget()
		}
		x = &attempts{}
		t.names[name] = x
	}
	if time.Since(x.last) >= forgetAfter {
		x.wrong = 0
	}
	x.wrong, x.last = x.wrong+1, time.Now()
}

// forget forgets the names whose last wrong password is long ago, or else the one with the fewest of them.
func (t *throttle) forget() {
	least := ""
	for name, x := range t.names {
		if time.Since(x.last) >= forgetAfter {
			delete(t.names, name)
		} else if least == "" || x.wrong < t.names[least].wrong {
			least = name
		}
	}
	if len(t.names) >= mostNames {
		delete(t.names, least)
	}
}
