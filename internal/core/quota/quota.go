// Package quota is how much of something may be used: accounts that earn so much a second and pay
// for what is used, and how nodes divide what is allowed for all of them. It is arithmetic; the
// time of day is handed in.
package quota

import (
	"math"
	"sync"
	"time"
)

// Saved is for how long an account saves up what it earns and does not pay: so much more than its
// rate may come at once.
const Saved = 2 * time.Second

// Account earns so much a second. Whatever is paid may be more than there is: then nothing more is
// allowed until the debt is paid off, so that something large is let through whole, and is followed
// by silence. It may be used at once by many. The zero Account has no bound.
type Account struct {
	mu      sync.Mutex
	rate    float64 // a second; 0: no bound
	balance float64
	at      time.Time // of the balance
	asked   float64   // since Told was called, whether it was allowed or not
	used    float64   // the part of it that was allowed
}

// Set makes the rate another one; 0 takes the bound away. What is owed is owed still.
func (a *Account) Set(rate float64, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.earn(now)
	if a.rate == 0 {
		a.balance = rate * Saved.Seconds()
	}
	a.rate = rate
	a.balance = min(a.balance, rate*Saved.Seconds())
}

func (a *Account) earn(now time.Time) {
	if span := now.Sub(a.at).Seconds(); span > 0 {
		a.balance = min(a.balance+a.rate*span, a.rate*Saved.Seconds())
	}
	a.at = now
}

// Pay takes an amount, if nothing is owed, and returns 0; else it takes nothing, and returns after
// how long nothing will be.
func (a *Account) Pay(amount float64, now time.Time) (after time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked += amount
	if after = a.owed(now); after == 0 {
		a.take(amount)
	}
	return after
}

// Owe takes an amount whatever there is: what was used is paid afterwards.
func (a *Account) Owe(amount float64, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked += amount
	a.earn(now)
	a.take(amount)
}

func (a *Account) take(amount float64) {
	a.used += amount
	if a.rate > 0 {
		a.balance -= amount
	}
}

// Back gives back what was paid for something that was not done in the end.
func (a *Account) Back(amount float64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked -= amount
	a.take(-amount)
}

// Owed is for how long nothing is allowed; 0: something is now.
func (a *Account) Owed(now time.Time) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.owed(now)
}

func (a *Account) owed(now time.Time) time.Duration {
	if a.rate == 0 {
		return 0
	}
	if a.earn(now); a.balance > 0 {
		return 0
	}
	return time.Duration(-a.balance/a.rate*float64(time.Second)) + time.Millisecond
}

// Told returns what was asked for, and what of it was allowed, since it was called last.
func (a *Account) Told() (asked, used float64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	asked, used = a.asked, a.used
	a.asked, a.used = 0, 0
	return asked, used
}

// Share is what a node may give out a second of what is allowed for all nodes together, when so
// much a second is asked of it and so much of the others. While all that is asked is allowed, each
// has room for all that the others leave; else each gets its part by what is asked of it, and no
// less than a tenth of an even part, so that a node that was idle need not wait to be heard.
func Share(allowed, own float64, others []float64) float64 {
	if len(others) == 0 {
		return allowed
	}
	sum := 0.0
	for _, o := range others {
		sum += o
	}
	part := 0.0
	if own+sum > 0 {
		part = allowed * own / (own + sum)
	}
	least := allowed / float64(len(others)+1) / 10
	return math.Max(math.Max(part, allowed-sum), least)
}
