package balance

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBalance(t *testing.T) {
	b := Balance{Read: 10, Inserted: 1, Updated: 1, Unchanged: 1, Outdated: 1, Kept: 1, Deleted: 1, Duplicate: 1,
		Rejected: 1, LeftOut: 1, Withheld: 1, Removed: 7}
	assert.NoError(t, b.Err(), "removed rows are not part of the sum")
	assert.NoError(t, b.Plus(b).Err())
	assert.EqualValues(t, 14, b.Plus(b).Removed)
	b.Inserted++
	assert.ErrorContains(t, b.Err(), "10 rows read, 11 accounted for")
	assert.Equal(t, Balance{Read: 10, Rejected: 2, LeftOut: 1, Withheld: 7}, Refuse(10, 2, 1))
	assert.NoError(t, Refuse(10, 2, 1).Err())
	text, err := json.Marshal(Balance{})
	require.NoError(t, err)
	assert.Equal(t, `{"read":0,"inserted":0,"updated":0,"unchanged":0,"outdated":0,"kept":0,"deleted":0,"duplicate":0,"rejected":0,"left_out":0,"withheld":0,"removed":0}`, string(text))
}
