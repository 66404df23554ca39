package server

import (
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

const (
	// How many sign-ins may fail before there is a wait: from an address, and under a name.
	addressTries = 10
	nameTries    = 5
	// firstWait doubles with each failure that follows, up to longestWait.
	firstWait   = time.Minute
	longestWait = time.Hour
	// mostGuarded bounds the addresses and names that are remembered. When there are more, all
	// others wait.
	mostGuarded = 10_000
)

// guard slows down those who guess.
type guard struct {
	mu     sync.Mutex
	failed map[string]*failures
}

// failures are those of an address or a name.
type failures struct {
	count int
	last  time.Time
	until time.Time // they wait
}

// wait returns how long a sign-in has to wait.
func (g *guard) wait(of string, now time.Time) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	f := g.failed[of]
	if f == nil {
		if len(g.failed) >= mostGuarded {
			g.forget(now)
		}
		if len(g.failed) >= mostGuarded {
			return firstWait
		}
		return 0
	}
	return max(0, f.until.Sub(now))
}

// fail notes that a sign-in failed, of which so many are free.
func (g *guard) fail(of string, free int, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	f := g.failed[of]
	if f == nil || now.Sub(f.last) > longestWait {
		f = &failures{}
		if g.failed == nil {
			g.failed = map[string]*failures{}
		}
		g.failed[of] = f
	}
	f.count++
	f.last = now
	if f.count >= free {
		f.until = now.Add(min(longestWait, firstWait<<min(f.count-free, 6)))
	}
}

// succeed forgets the failures of a name.
func (g *guard) succeed(of string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.failed, of)
}

// forget drops what is long ago.
func (g *guard) forget(now time.Time) {
	for of, f := range g.failed {
		if now.Sub(f.last) > longestWait {
			delete(g.failed, of)
		}
	}
}

// guarded lets an address fail to sign in a few times, and writes it into the log.
func (s *Server) guarded(c *gin.Context) {
	if c.Request.URL.Path != sessionPath || c.Request.Method != http.MethodPost {
		return
	}
	from := c.ClientIP()
	if wait := s.guard.wait("from "+from, time.Now()); wait > 0 {
		c.Header("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
		problem(c, http.StatusTooManyRequests, "too many sign-ins have failed; wait "+words(wait.Round(time.Second)))
		return
	}
	c.Next()
	if c.Writer.Status() == http.StatusUnauthorized {
		s.guard.fail("from "+from, addressTries, time.Now())
		s.log.Warn("a sign-in failed", "from", from)
	}
}
