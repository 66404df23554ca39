package fate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestAfter(t *testing.T) {
	first := Attempt{Number: 1, Most: 3, Pause: 30 * time.Second}
	third := Attempt{Number: 3, Most: 3, Pause: 30 * time.Second}
	again := Attempt{Number: 1, Most: 3, Pause: 30 * time.Second, Again: true}
	for name, c := range map[string]struct {
		mishap  Mishap
		attempt Attempt
		want    Fate
	}{
		"the first error":               {Error, first, Fate{Outcome: Retry, Wait: 30 * time.Second, Blocks: true}},
		"the last error":                {Error, third, Fate{Outcome: Fail}},
		"an error of one loaded before": {Error, again, Fate{Outcome: Retry, Wait: 30 * time.Second, Blocks: true}},
		"unfit":                         {Unfit, first, Fate{Outcome: Refuse}},
		"unfit, loaded before":          {Unfit, again, Fate{Outcome: Stay}},
		"another kind":                  {OtherKind, first, Fate{Outcome: Skip}},
		"changed":                       {Changed, third, Fate{Outcome: Settle}},
		"changed, loaded before":        {Changed, again, Fate{Outcome: Stay}},
		"overtaken":                     {Overtaken, first, Fate{Outcome: Gone}},
		"vanished":                      {Vanished, first, Fate{Outcome: Gone}},
		"vanished, loaded before":       {Vanished, again, Fate{Outcome: Stay}},
		"another's fault":               {NotItsOwn, third, Fate{Outcome: Ready}},
		"broken off":                    {BrokenOff, third, Fate{Outcome: Ready}},
		"the landing is away":           {Away, third, Fate{Outcome: Ready}},
		"not allowed":                   {NotAllowed, third, Fate{Outcome: Ready}},
	} {
		assert.Equal(t, c.want, After(c.mishap, c.attempt), name)
	}
}

func TestWait(t *testing.T) {
	assert.Equal(t, 30*time.Second, Wait(30*time.Second, 0))
	assert.Equal(t, 30*time.Second, Wait(30*time.Second, 1))
	assert.Equal(t, 2*time.Minute, Wait(30*time.Second, 3))
	assert.Equal(t, time.Hour, Wait(30*time.Second, 9))
	assert.Equal(t, time.Hour, Wait(30*time.Second, 100_000), "a shift would have overflowed")
	assert.Equal(t, time.Duration(0), Wait(0, 100))
}

func TestAfterCrash(t *testing.T) {
	f, count := AfterCrash(true, 1)
	assert.Equal(t, Fate{Outcome: Ready}, f)
	assert.Equal(t, 1, count, "the file may be what ended the service")
	f, count = AfterCrash(false, 50)
	assert.Equal(t, Fate{Outcome: Ready}, f)
	assert.Zero(t, count)
	f, _ = AfterCrash(true, KillLimit)
	assert.Equal(t, Fate{Outcome: Hold}, f)
}
