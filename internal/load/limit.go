package load

import (
	"fmt"
	"time"
)

// TimeLimitError ends a run that takes too long. What it was at has failed, like after any
// other error: it is tried again after its pause, and not for ever.
type TimeLimitError struct{ Limit time.Duration }

func (e *TimeLimitError) Error() string {
	return fmt.Sprintf("the time limit of %s was reached", e.Limit)
}
