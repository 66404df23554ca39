package server

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhoGuessesIsSlowedDown(t *testing.T) {
	var g guard
	now := time.Now()
	for range addressTries {
		assert.Zero(t, g.wait("127.0.0.1", now))
		g.fail("127.0.0.1", addressTries, now)
	}
	assert.Equal(t, firstWait, g.wait("127.0.0.1", now))
	assert.Zero(t, g.wait("127.0.0.2", now), "others do not wait")
	assert.Zero(t, g.wait("127.0.0.1", now.Add(firstWait)))
	g.fail("127.0.0.1", addressTries, now)
	assert.Equal(t, 2*firstWait, g.wait("127.0.0.1", now), "the next wait is longer")
	for range 20 {
		g.fail("127.0.0.1", addressTries, now)
	}
	assert.Equal(t, longestWait, g.wait("127.0.0.1", now))
	g.succeed("127.0.0.1")
	assert.Zero(t, g.wait("127.0.0.1", now))
	for n := range mostGuarded {
		g.fail(strconv.Itoa(n), addressTries, now)
	}
	assert.Equal(t, firstWait, g.wait("one more", now), "what is remembered is bounded")
	assert.Zero(t, g.wait("one more", now.Add(2*longestWait)), "and forgotten")
}
