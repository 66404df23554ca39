package engine

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/ledger"
	"mullein/internal/load"
)

// settled is a feed whose files are whole at the same time.
var settled = strings.Replace(gauges, "settle: 50ms", "settle: 1s", 1)

const (
	firstFiles = 4
	firstRows  = 8_000 // of each, some of them twice; with many digits, since it is bytes that count
)

// firstFile returns a file that has a key in common with no other, and its path.
func firstFile(n int) (path, content string) {
	var b strings.Builder
	b.WriteString(header)
	for i := range firstRows {
		fmt.Fprintf(&b, "SR%04d;2026-07-%02dT%02d:%02d:00Z;%d,%0130d;%d\n", n*1000+i%997, 1+i/997%28, n, 0, i%30, 5, i%7)
	}
	return fmt.Sprintf("G_K%d_20260701T%02d00.csv", n, n), b.String()
}

func (h *house) deliverFirst() (paths []string) {
	for n := range firstFiles {
		path, content := firstFile(n)
		h.drop(path, content)
		paths = append(paths, path)
	}
	return paths
}

const (
	// of which each load has another
	transactions = "SELECT count(DISTINCT xmin::text)::text FROM river.gauge"
	levelsOfAll  = "SELECT md5(string_agg((to_jsonb(g) - 'loaded_at' - 'loaded_run' - 'from_arrival')::text, '' ORDER BY station_id, " +
		"observed_at)) FROM river.gauge g"
)

// TestTheFirstFilesGoInTogether leaves several large files for a new feed. They come into the
// table as one, and each has its own balance; where something is wrong with one of them, each
// comes by itself, and the table is the same.
func TestTheFirstFilesGoInTogether(t *testing.T) {
	t.Parallel()
	together := newHouse(t, settled)
	paths := together.deliverFirst()
	together.start()
	var want []string
	for _, path := range paths {
		a := together.arrival(path)
		require.Equal(t, ledger.Loaded, a.State, a.Reason)
		assert.NoError(t, a.Balance.Err())
		assert.EqualValues(t, firstRows, a.Balance.Read)
		want = append(want, fmt.Sprint(a.Balance))
	}
	assert.Equal(t, []string{"1"}, together.lines(transactions))
	table := together.lines(levelsOfAll)
	_, first := firstFile(0)
	others := map[string]struct {
		path, content string
		state         ledger.State
	}{
		"a copy":     {"G_K0_20260701T0000b.csv", first, ledger.Skipped},
		"a bad file": {"G_K9_20260701T0900.csv", "station_id;observed_at\n", ledger.Refused},
		"a key that stands in another": {"G_K8_20260701T0800.csv", header + first[len(header):strings.Index(first, ";0,")] +
			";0,5;-1\n", ledger.Loaded},
	}
	for what, other := range others {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			h := newHouse(t, settled)
			h.deliverFirst()
			h.drop(other.path, other.content)
			h.start()
			for i, path := range paths {
				a := h.arrival(path)
				require.Equal(t, ledger.Loaded, a.State, a.Reason)
				assert.Equal(t, want[i], fmt.Sprint(a.Balance))
				assert.Equal(t, 1, a.Attempts)
			}
			a := h.arrival(other.path)
			assert.Equal(t, other.state, a.State, a.Reason)
			if other.state == ledger.Loaded {
				assert.EqualValues(t, 1, a.Balance.Outdated, "its row is older than the one that is there")
			}
			assert.Equal(t, table, h.lines(levelsOfAll))
			assert.NotEqual(t, []string{"1"}, h.lines(transactions), h.lines("SELECT concat(path, ' ', noticed_at, ' ', ready_at, ' ', opened_at, ' ', finished_at) FROM mullein_records.arrival"))
		})
	}
}

func TestAKillAtEachStepOfTheFirstFiles(t *testing.T) {
	t.Parallel()
	whole := newHouse(t, settled)
	paths := whole.deliverFirst()
	whole.start()
	for _, path := range paths {
		whole.arrival(path)
	}
	for _, step := range []load.Step{load.StepStaged, load.StepCommitted} {
		t.Run(string(step), func(t *testing.T) {
			h := newHouse(t, settled)
			h.deliverFirst()
			service := uuid.NewString()
			require.ErrorAs(t, h.process(service, step, 1).Wait(), new(*exec.ExitError))
			last := h.process(service, "", 0)
			for _, path := range paths {
				a := h.arrival(path)
				require.Equal(t, ledger.Loaded, a.State, a.Reason)
			}
			end(t, last)
			assert.Equal(t, whole.lines(levelsOfAll), h.lines(levelsOfAll))
			assert.Equal(t, []string{fmt.Sprint(firstFiles)}, h.lines("SELECT count(*)::text FROM mullein.load"))
		})
	}
}
