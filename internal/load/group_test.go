package load

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestNoKeyStandsInTwoFilesOfAGroup splits files into groups.
func TestNoKeyStandsInTwoFilesOfAGroup(t *testing.T) {
	files := func(hashes ...[]uint64) []*part {
		var out []*part
		for i, h := range hashes {
			p := &part{n: i}
			p.piece.Hashes = h
			out = append(out, p)
		}
		return out
	}
	sizes := func(divided [][]*part) (out []int) {
		for _, g := range divided {
			out = append(out, len(g))
		}
		return out
	}
	assert.Equal(t, []int{3}, sizes(groups(files([]uint64{1, 1}, []uint64{2}, []uint64{3}))),
		"a key twice in one file is its own business")
	assert.Equal(t, []int{2, 2}, sizes(groups(files([]uint64{1}, []uint64{2}, []uint64{1}, []uint64{2}))))
	assert.Equal(t, []int{1, 1}, sizes(eachAlone(files([]uint64{1}, []uint64{2}))), "where hashes do not tell")
	replaces := files([]uint64{1}, []uint64{2}, []uint64{3}, []uint64{4})
	replaces[1].replaces = []int64{9}
	assert.Equal(t, []int{1, 1, 2}, sizes(groups(replaces)), "one that replaces another stands alone")
	assert.Empty(t, groups(nil))
}
