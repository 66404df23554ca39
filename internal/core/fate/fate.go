// Package fate says what becomes of an arrival after an attempt to load it went
// wrong: tried again and when, settled anew, refused, held, failed, or given back
// as if nothing had been. It asks nobody: start at [After].
package fate

import (
	"math"
	"time"
)

// Mishap is what went wrong with an attempt.
type Mishap int

// The mishaps.
const (
	Error      Mishap = iota // something that may pass by itself: the network, a lock, the disk
	Unfit                    // its content cannot be loaded, or broke a check
	OtherKind                // it is of a kind that the feed does not take
	Changed                  // it changed while it was read
	Overtaken                // another version of it came meanwhile
	Vanished                 // it is not there any more
	NotItsOwn                // another file of its load is to blame
	BrokenOff                // the service stopped, lost the feed, or was told to end
	NotAllowed               // the target denies what is needed: people have to grant it
	Away                     // the landing is away, so that no file of it can be read
)

// Attempt is what is known of an attempt.
type Attempt struct {
	Number int           // 1 for the first
	Most   int           // how many the feed allows
	Pause  time.Duration // before the second; it doubles
	Again  bool          // the file was loaded before, and its rows are still there
}

// Outcome is what becomes of an arrival.
type Outcome int

// The outcomes.
const (
	Ready  Outcome = iota // as before the attempt, which does not count
	Settle                // it settles anew; the attempt does not count
	Retry                 // it is tried again after a pause
	Fail                  // it needs a person
	Refuse
	Skip
	Gone
	Stay // the rows that it had loaded stay as they are
	Hold
)

// Fate is what becomes of an arrival.
type Fate struct {
	Outcome Outcome
	Wait    time.Duration // of Retry
	// Blocks reports whether those behind it wait, too.
	Blocks bool
}

// After says what becomes of an arrival after a mishap.
func After(m Mishap, a Attempt) Fate {
	switch m {
	case Unfit:
		if a.Again {
			return Fate{Outcome: Stay}
		}
		return Fate{Outcome: Refuse}
	case OtherKind:
		return Fate{Outcome: Skip}
	case Changed, Overtaken, Vanished:
		switch {
		case a.Again:
			return Fate{Outcome: Stay}
		case m == Changed:
			return Fate{Outcome: Settle}
		}
		return Fate{Outcome: Gone}
	case NotItsOwn, BrokenOff, NotAllowed, Away:
		return Fate{Outcome: Ready}
	}
	if a.Number >= a.Most {
		return Fate{Outcome: Fail}
	}
	return Fate{Outcome: Retry, Wait: Wait(a.Pause, a.Number), Blocks: true}
}

// longestWait bounds the pause before another attempt.
const longestWait = time.Hour

// Wait returns the pause before the attempt that follows the given one: it doubles
// with each, up to an hour.
func Wait(pause time.Duration, attempt int) time.Duration {
	factor := math.Pow(2, float64(max(attempt, 1)-1))
	if float64(pause)*factor >= float64(longestWait) {
		return longestWait
	}
	return time.Duration(float64(pause) * factor)
}

// KillLimit is how often in a row a service may end while it reads a file,
// before the file is taken to be the cause and held for a person.
const KillLimit = 7

// AfterCrash says what becomes of an arrival whose service ended while it was being
// loaded, in an attempt from 1, and how many attempts count from now on. reading says
// that the service ended while it read the file, which may be the cause; else none do.
func AfterCrash(reading bool, attempt int) (f Fate, count int) {
	switch {
	case !reading:
		return Fate{Outcome: Ready}, 0
	case attempt >= KillLimit:
		return Fate{Outcome: Hold}, attempt
	}
	return Fate{Outcome: Ready}, attempt
}
