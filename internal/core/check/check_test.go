package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTolerance(t *testing.T) {
	for _, c := range []struct {
		tolerance      Tolerance
		read, rejected int64
		want           string
	}{
		{Tolerance{}, 10, 0, ""},
		{Tolerance{}, 10, 1, "1 of 10 rows were rejected; the feed tolerates none"},
		{Tolerance{Rows: 2}, 10, 2, ""},
		{Tolerance{Rows: 2}, 10, 3, "3 of 10 rows were rejected; the feed tolerates 2"},
		{Tolerance{IsShare: true, Share: 0.1}, 10, 1, ""},
		{Tolerance{IsShare: true, Share: 0.1}, 9, 1, "1 of 9 rows were rejected; the feed tolerates 10%"},
		{Tolerance{IsShare: true, Share: 0.005}, 1000, 5, ""},
		{Tolerance{IsShare: true, Share: 1}, 3, 3, ""},
	} {
		assert.Equal(t, c.want, c.tolerance.Refuse(c.read, c.rejected))
	}
}
