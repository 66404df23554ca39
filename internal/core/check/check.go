// Package check says what must be true of a file, a row or a delivery.
//
// It is pure: it is handed counts and values and returns verdicts. Constraints
// of a single column belong to core/tabular. Start at [Tolerance].
package check

import "fmt"

// Tolerance is the number or the share of a file's rows that may be rejects.
// Its zero value tolerates none.
type Tolerance struct {
	Rows  int64
	Share float64 // 0 to 1; used when IsShare
	// IsShare distinguishes a share of 0.5% from a number of rows.
	IsShare bool
}

// Refuse returns the reason to refuse an arrival, or "" when its rejects are
// tolerated.
func (t Tolerance) Refuse(read, rejected int64) string {
	allowed := t.Rows
	if t.IsShare {
		allowed = int64(t.Share * float64(read))
	}
	if rejected <= allowed {
		return ""
	}
	return fmt.Sprintf("%d of %d rows were rejected; the feed tolerates %s", rejected, read, t)
}

func (t Tolerance) String() string {
	switch {
	case t.IsShare:
		return fmt.Sprintf("%g%%", t.Share*100)
	case t.Rows == 0:
		return "none"
	}
	return fmt.Sprint(t.Rows)
}
