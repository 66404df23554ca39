package ledger

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// extracted makes an extract that a living service holds.
func extracted(t *testing.T, l *Ledger, service string) *Extract {
	t.Helper()
	_, err := l.Serving(ctx, service, "here", "[]")
	require.NoError(t, err)
	_, _, err = l.PutExtract(ctx, "levels-out", "extract: levels-out\n", "ada")
	require.NoError(t, err)
	seen, err := l.Extract(ctx, "levels-out")
	require.NoError(t, err)
	x, ok, err := l.ClaimExtract(ctx, &seen, service, ExtractBegin{Anew: true})
	require.NoError(t, err)
	require.True(t, ok)
	return &x
}

func windowed(t *testing.T, l *Ledger, x *Extract, mark string) *ExtractWindow {
	t.Helper()
	w := &ExtractWindow{High: mark, Bounds: "]", MarkBefore: x.Mark, MarkAfter: mark, EndAt: time.Now(), Cause: "hand", State: RunRunning, Files: []ExtractFile{}}
	require.NoError(t, l.BeginWindow(ctx, x, w))
	return w
}

// TestAnExtractIsWorkedByOne claims it, and what is done by an earlier holder counts no more.
func TestAnExtractIsWorkedByOne(t *testing.T) {
	t.Parallel()
	l := open(t)
	first, second := uuid.NewString(), uuid.NewString()
	x := extracted(t, l, first)
	_, err := l.Serving(ctx, second, "there", "[]")
	require.NoError(t, err)
	seen, err := l.Extract(ctx, "levels-out")
	require.NoError(t, err)
	assert.True(t, seen.Working)
	_, ok, err := l.ClaimExtract(ctx, &seen, second, ExtractBegin{})
	require.NoError(t, err)
	assert.False(t, ok, "a living service has it")
	w := windowed(t, l, x, "10")
	assert.EqualValues(t, 1, w.Run)
	var conflict *ConflictError
	assert.ErrorAs(t, l.SetMark(ctx, "levels-out", "5"), &conflict, "it is at work")

	require.NoError(t, l.with(ctx).Exec("UPDATE service SET lease_until = now() - interval '1 second' WHERE id = ?", first).Error)
	seen, err = l.Extract(ctx, "levels-out")
	require.NoError(t, err)
	assert.False(t, seen.Working)
	assert.True(t, seen.Unfinished)
	again, ok, err := l.ClaimExtract(ctx, &seen, second, ExtractBegin{})
	require.NoError(t, err)
	assert.True(t, ok)
	for name, err := range map[string]error{"read": l.WindowRead(ctx, x, w), "placed": l.FilePlaced(ctx, x, w), "done": l.WindowDone(ctx, x, w),
		"failed": l.ExtractFailed(ctx, x, w, "x", nil), "begun": l.BeginWindow(ctx, x, &ExtractWindow{})} {
		assert.ErrorIs(t, err, ErrLost, name)
	}
	open, is, err := l.OpenWindow(ctx, "levels-out")
	require.NoError(t, err)
	require.True(t, is)
	require.NoError(t, l.CountAttempt(ctx, &again, &open))
	require.NoError(t, l.WindowDone(ctx, &again, &open))
	require.NoError(t, l.ReleaseExtract(ctx, &again))
	seen, err = l.Extract(ctx, "levels-out")
	require.NoError(t, err)
	assert.Equal(t, "10", seen.Mark)
	assert.False(t, seen.Working || seen.Unfinished)
	require.NoError(t, l.RemoveExtract(ctx, "levels-out"))
	_, err = l.Extract(ctx, "levels-out")
	assert.ErrorIs(t, err, ErrNotFound)
	assert.ErrorIs(t, l.PauseExtract(ctx, "levels-out", true), ErrNotFound)
	assert.ErrorIs(t, l.SetMark(ctx, "levels-out", ""), ErrNotFound)
}

// TestOldWindowsAreDropped keeps the last one.
func TestOldWindowsAreDropped(t *testing.T) {
	t.Parallel()
	l := open(t)
	x := extracted(t, l, uuid.NewString())
	for _, mark := range []string{"1", "2", "3"} {
		require.NoError(t, l.WindowDone(ctx, x, windowed(t, l, x, mark)))
	}
	for range 3 {
		_, err := l.Drop(ctx, usualKeep, time.Now().Add(500*day), 2)
		require.NoError(t, err)
	}
	left, err := l.Windows(ctx, "levels-out", 0, 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.EqualValues(t, 3, left[0].Run)
	last, err := l.LastWindows(ctx)
	require.NoError(t, err)
	assert.Equal(t, "3", last["levels-out"].MarkAfter)
}
