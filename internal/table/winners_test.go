package table

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/tabular"
)

// TestWinners holds the register of winners against a map, over random rows of
// few and of many keys, with nulls and ties.
func TestWinners(t *testing.T) {
	for _, c := range []struct {
		name   string
		newest string
		keys   int
	}{{"few keys", "revision", 50}, {"many keys", "revision", 200_000}, {"the later wins", "", 1000}} {
		t.Run(c.name, func(t *testing.T) {
			table := gauge(standard)
			table.Newest = c.newest
			w := newWinners(table, 10)
			type best struct {
				line   int64
				newest int64
			}
			want := map[uint64]best{}
			lost := map[int64]bool{}
			var never int64
			random := rand.New(rand.NewPCG(3, uint64(c.keys)))
			key := make([]byte, 8)
			for line := int64(2); line < 100_000; line++ {
				k := random.Uint64N(uint64(c.keys))
				for i := range key {
					key[i] = byte(k >> (8 * i))
				}
				newest := random.Int64N(5) - 1
				values := []tabular.Value{{}, {}, {}, {Kind: tabular.Integer, I: newest}}
				if newest < 0 {
					values[3] = tabular.Value{}
				}
				wins, ok := w.enter(w.hash(key), values, line, 0)
				old, has := want[k]
				loses := has && c.newest != "" && newest < old.newest
				if !ok || wins == loses {
					t.Fatalf("line %d: open %t, wins %t", line, ok, wins)
				}
				if loses {
					never++
					continue
				}
				if has {
					lost[old.line] = true
				}
				want[k] = best{line, newest}
			}
			assert.Equal(t, never, w.never)
			assert.Equal(t, len(want), w.used)
			require.Len(t, w.lost, len(lost))
			for _, line := range w.lost {
				require.True(t, lost[line])
			}
			hash := w.hash(key)
			_, ok := w.enter(hash, []tabular.Value{{}, {}, {}, {}}, 100_000, 1)
			assert.False(t, ok, "two rows of one line cannot be told apart")
			assert.True(t, w.closed)
			assert.True(t, w.filter(10).mark(hash.Hi), "the filter knows what came before")
		})
	}
	text := gauge(standard)
	text.Newest = "station"
	assert.True(t, newWinners(text, 10).closed, "texts are not compared")
	assert.True(t, newWinners(gauge(standard), 20_000_000).closed, "too many keys for memory")
}

// TestRowsAreTakenBackBeforeTheyAreSent puts rows through chunks and takes some
// back: what is sent is the others, in their order, and a row can be taken back
// while it is near.
func TestRowsAreTakenBackBeforeTheyAreSent(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	d, b := &directForm{}, &Batch{buf: []byte("header")}
	var sent []byte
	var want []int64
	gone := map[int64]bool{}
	const rows = 20_000
	for line := int64(1); line <= rows; line++ {
		d.recent = append(d.recent, recentRow{place: line, at: len(b.buf)})
		b.buf = append(b.buf, fmt.Sprintf("<%d%*s>", line, random.IntN(60), "")...)
		if random.IntN(4) == 0 {
			back := max(1, line-random.Int64N(400))
			if !gone[back] {
				require.True(t, d.cut(back), "line %d is near line %d", back, line)
				gone[back] = true
			}
		}
		var send []byte
		switch {
		case line == rows:
			send = d.release(b, nil)
		case len(b.buf) > chunkSize:
			send = d.release(b, make([]byte, 0, chunkSize))
			require.LessOrEqual(t, len(b.buf), keptBack)
			assert.False(t, d.cut(1), "it is long gone")
		}
		sent = append(sent, send...)
	}
	for line := int64(1); line <= rows; line++ {
		if !gone[line] {
			want = append(want, line)
		}
	}
	text := strings.TrimPrefix(string(sent), "header")
	require.Len(t, text, len(sent)-len("header"), "the header goes first")
	var got []int64
	for _, row := range strings.Split(strings.TrimSuffix(strings.TrimPrefix(text, "<"), ">"), "><") {
		line, err := strconv.ParseInt(strings.TrimSpace(row), 10, 64)
		require.NoError(t, err)
		got = append(got, line)
	}
	assert.Equal(t, want, got)
}

// TestKnownDigests asks for digests in the order of the table, in disorder, of
// rows that are new, and of rows that come twice, and holds the answers against a
// map.
func TestKnownDigests(t *testing.T) {
	const held = 30_000
	digest := func(i int) []byte {
		return tabular.AppendDigest(nil, fmt.Appendf(nil, "row %d", i))
	}
	orders := map[string]func(random *rand.Rand, i int) int{
		"in order":  func(_ *rand.Rand, i int) int { return i },
		"backwards": func(_ *rand.Rand, i int) int { return held - 1 - i },
		"one in twenty elsewhere": func(_ *rand.Rand, i int) int {
			return map[bool]int{true: held - 1 - i,
				false: i}[i%20 == 3]
		},
		"at random": func(random *rand.Rand, i int) int { return random.IntN(held) },
		"one in five is new": func(_ *rand.Rand, i int) int {
			if i%5 == 0 {
				return held + i
			}
			return i
		},
		"all are new": func(_ *rand.Rand, i int) int { return held + i },
	}
	for name, order := range orders {
		for _, late := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, on their way: %t", name, late), func(t *testing.T) {
				k, err := newKnown(held)
				require.NoError(t, err)
				send := func() {
					defer close(k.reading.done)
					defer k.all.flush()
					for from := 0; from < held; from += digestsAtOnce {
						var some [][2]uint64
						for i := from; i < min(from+digestsAtOnce, held); i++ {
							some = append(some, halves(digest(i)))
						}
						k.all.add(some)
					}
				}
				if late {
					go send()
				} else {
					send()
				}
				b := NewBatch(&Table{}, held, true)
				form, err := newSkippingForm(k)
				require.NoError(t, err)
				defer form.held.close()
				random := rand.New(rand.NewPCG(9, 9))
				asked := map[int]int64{} // rows that were asked for, how often
				rowBytes := len(b.appendStaged(nil, batchRow{digest: digest(0)}, false))
				var sent int64
				flush := func(last bool) {
					for more := true; more; {
						var err error
						more, err = form.flush(b, 1000, last)
						require.NoError(t, err)
						sent += int64(len(b.buf) / rowBytes)
						b.buf = b.buf[:0]
					}
				}
				for i := range 2 * tryKnown {
					row := order(random, i%held)
					if k.over { // it has given up: that is always right
						form.add(b, batchRow{digest: digest(row)})
						require.Len(t, b.buf, rowBytes)
						b.buf = b.buf[:0]
						continue
					}
					form.add(b, batchRow{digest: digest(row)})
					asked[row]++
					if b.Len() > 1000 { // as who fills a batch does
						require.LessOrEqual(t, form.held.n, tryKnown)
						flush(false)
						require.Less(t, b.Len(), 1000, "it takes rows again")
					}
				}
				flush(true)
				var skipped, repeats, unknown int64
				for row, n := range asked {
					if row >= held {
						unknown += n
						continue
					}
					skipped++
					repeats += n - 1
				}
				assert.Equal(t, skipped, k.skipped)
				assert.Equal(t, repeats, k.repeats)
				assert.Equal(t, unknown, sent, "of rows that are not known each is sent once")
				form.add(b, batchRow{digest: tabular.Deletes})
				assert.Len(t, b.buf, rowBytes-tabular.DigestSize+len(tabular.Deletes), "a deletion is no row")
				met := map[[2]uint64]bool{}
				require.NoError(t, k.all.each(func(at int, some [][2]uint64) error {
					for i, d := range some {
						met[d] = k.wasMet(at + i)
					}
					return nil
				}))
				for row := range asked {
					if row < held && !met[halves(digest(row))] {
						t.Fatalf("row %d was not met", row)
					}
				}
			})
		}
	}
}
