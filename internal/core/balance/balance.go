// Package balance says where every row of an arrival went.
//
// It holds one type and its arithmetic. Who counts what is said where the
// counting is done: reading counts rejected rows, the target counts the rest.
package balance

import (
	"fmt"
	"strings"
)

// Balance counts the rows of one arrival, or the sum over several. Every row
// that was read is in exactly one of the other counts; Removed stands beside
// the sum, because those rows were never in the file.
type Balance struct {
	Read      int64 `json:"read"`      // rows found in the file
	Inserted  int64 `json:"inserted"`  // rows with a key that the target did not have
	Updated   int64 `json:"updated"`   // rows that changed an existing row of the target
	Unchanged int64 `json:"unchanged"` // rows that the target held already, alike in every column
	Outdated  int64 `json:"outdated"`  // rows older than what the target holds for their key
	Kept      int64 `json:"kept"`      // rows whose key exists and is left alone by the feed's mode
	Deleted   int64 `json:"deleted"`   // rows of the target that are gone because rows said so
	Duplicate int64 `json:"duplicate"` // rows that lost against another row of the delivery with the same key
	Rejected  int64 `json:"rejected"`  // rows that could not be read or broke a row check
	LeftOut   int64 `json:"left_out"`  // rows that the feed leaves out
	Withheld  int64 `json:"withheld"`  // good rows of an arrival that was refused
	Removed   int64 `json:"removed"`   // rows of the target that went because of this load; not part of the sum
}

// Accounted is the sum of all places a row can have gone to.
func (b Balance) Accounted() int64 {
	return b.Inserted + b.Updated + b.Unchanged + b.Outdated + b.Kept + b.Deleted +
		b.Duplicate + b.Rejected + b.LeftOut + b.Withheld
}

// Err is nil when every row read is accounted for.
func (b Balance) Err() error {
	if b.Read != b.Accounted() {
		return fmt.Errorf("the balance does not add up: %d rows read, %d accounted for (%+v)", b.Read, b.Accounted(), b)
	}
	return nil
}

// Plus adds two balances count by count.
func (b Balance) Plus(o Balance) Balance {
	return Balance{
		Read: b.Read + o.Read, Inserted: b.Inserted + o.Inserted, Updated: b.Updated + o.Updated,
		Unchanged: b.Unchanged + o.Unchanged, Outdated: b.Outdated + o.Outdated, Kept: b.Kept + o.Kept,
		Deleted: b.Deleted + o.Deleted, Duplicate: b.Duplicate + o.Duplicate, Rejected: b.Rejected + o.Rejected,
		LeftOut: b.LeftOut + o.LeftOut, Withheld: b.Withheld + o.Withheld, Removed: b.Removed + o.Removed,
	}
}

// Refuse returns the balance of a refused arrival: rejects stay rejects, rows
// left out stay left out, and every other row read is withheld.
func Refuse(read, rejected, leftOut int64) Balance {
	return Balance{Read: read, Rejected: rejected, LeftOut: leftOut, Withheld: read - rejected - leftOut}
}

// String returns the balance as people are shown it: "5 read = 3 inserted + 2 rejected".
func (b Balance) String() string {
	var parts []string
	for _, p := range []struct {
		n    int64
		name string
	}{{b.Inserted, "inserted"}, {b.Updated, "updated"}, {b.Unchanged, "unchanged"}, {b.Outdated, "outdated"},
		{b.Kept, "kept"},
		{b.Deleted, "deleted"}, {b.Duplicate, "duplicate"}, {b.Rejected, "rejected"}, {b.LeftOut, "left out"},
		{b.Withheld, "withheld"}} {
		if p.n != 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.name))
		}
	}
	line := fmt.Sprintf("%d read", b.Read)
	if len(parts) > 0 {
		line += " = " + strings.Join(parts, " + ")
	}
	if b.Removed > 0 {
		line += fmt.Sprintf("; %d removed from the table", b.Removed)
	}
	return line
}
