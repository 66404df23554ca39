package server

import (
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

const (
	// signInTries is how many sign-ins of an address may fail in a span.
	signInTries = 10
	signInSpan  = time.Minute
	// mostGuarded bounds the addresses that are remembered. When there are more, all
	// wait for the next span.
	mostGuarded = 10_000
)

// guard slows down those who guess.
type guard struct {
	mu     sync.Mutex
	began  time.Time
	failed map[string]int
}

// tries reports whether an address may try to sign in at a time.
func (g *guard) tries(from string, now time.Time) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if now.Sub(g.began) > signInSpan {
		g.began, g.failed = now, map[string]int{}
	}
	return g.failed[from] < signInTries && len(g.failed) < mostGuarded
}

func (g *guard) fail(from string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.failed[from]++
}

// guarded lets an address fail to sign in a few times a minute, and writes it into the
// log.
func (s *Server) guarded(c *gin.Context) {
	if c.Request.URL.Path != sessionPath || c.Request.Method != http.MethodPost {
		return
	}
	from := c.RemoteIP()
	if !s.guard.tries(from, time.Now()) {
		c.Header("Retry-After", "60")
		problem(c, http.StatusTooManyRequests, "too many sign-ins have failed; wait a minute")
		return
	}
	c.Next()
	if c.Writer.Status() == http.StatusUnauthorized {
		s.guard.fail(from)
		s.log.Warn("a sign-in failed", "from", from)
	}
}
