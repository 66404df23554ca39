package server

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhoGuessesIsSlowedDown(t *testing.T) {
	var g guard
	now := time.Now()
	for range signInTries {
		assert.True(t, g.tries("127.0.0.1", now))
		g.fail("127.0.0.1")
	}
	assert.False(t, g.tries("127.0.0.1", now.Add(signInSpan/2)))
	assert.True(t, g.tries("127.0.0.2", now), "others are not")
	assert.True(t, g.tries("127.0.0.1", now.Add(2*signInSpan)))
}
