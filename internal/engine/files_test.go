package engine

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/balance"
	"mullein/internal/ledger"
	"mullein/internal/reading"
)

// TestAGrowingFileIsLoadedWhole writes a file piece by piece, each piece well
// within settle of the last.
func TestAGrowingFileIsLoadedWhole(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "settle: 50ms", "settle: 3s", 1)).start()
	file, err := os.Create(filepath.Join(h.root, "in", "G_K1_20260701T1200.csv"))
	require.NoError(t, err)
	_, err = io.WriteString(file, header)
	require.NoError(t, err)
	ticks := time.NewTicker(100 * time.Millisecond)
	defer ticks.Stop()
	const rows = 20
	for n := range rows {
		<-ticks.C
		_, err = fmt.Fprintf(file, "SR%04d;2026-07-01T12:00:00Z;1;1\n", n)
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
	closed := time.Now()
	a := h.arrival("G_K1_20260701T1200.csv")
	require.Equal(t, ledger.Loaded, a.State, a.Reason)
	assert.Equal(t, balance.Balance{Read: rows, Inserted: rows}, a.Balance)
	assert.False(t, a.ReadyAt.Before(closed.Add(2900*time.Millisecond)), "still for as long as settle says")
	list, _, err := h.ledger.Arrivals(context.Background(), ledger.Filter{Most: 10})
	require.NoError(t, err)
	assert.Len(t, list, 1, "one arrival, however often it was seen")
}

// TestTextsAsSuppliersWriteThem reads byte order marks, gzip, other line ends,
// quotes, and columns in another order.
func TestTextsAsSuppliersWriteThem(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "schema:\n", "schema:\n  fieldsMatch: subset\n", 1)).start()
	n := 0
	for name, c := range map[string]struct{ end, content string }{
		"byte order mark":  {".csv", "\xEF\xBB\xBF" + one},
		"gzip":             {".csv.gz", zipped(one)},
		"CRLF":             {".csv", strings.ReplaceAll(one, "\n", "\r\n")},
		"no last line end": {".csv", strings.TrimSpace(one)},
		"quotes": {".csv", `"station_id";"observed_at";level_m;revised` + "\n" +
			`"SR0001";"2026-07-01T12:00:00Z";"1";1` + "\n"},
		"another order": {".csv",
			"revised;level_m;note;observed_at;station_id\n1;1;\"a;\nb\";2026-07-01T12:00:00Z;SR0001\n"},
	} {
		n++
		path := fmt.Sprintf("G_K1_20260701T12%02d%s", n, c.end)
		h.drop(path, c.content)
		a := h.arrival(path)
		require.Equal(t, ledger.Loaded, a.State, "%s: %s", name, a.Reason)
		assert.EqualValues(t, 1, a.Balance.Read, name)
		if n > 1 {
			assert.EqualValues(t, 1, a.Balance.Unchanged, "%s: the same row, however it is written", name)
		}
	}
	assert.Equal(t, []string{"SR0001|12:00|1|1|K1|f"}, h.lines(contents))
}

func TestDerivedColumns(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.NewReplacer(
		"  flood: row.level_m > 4.5\n", "  flood: row.level_m > 4.5\n  per: 100 / row.revised\n  origin: file.name + "+
			"' ' + string(file.size) + ' ' + file.digest\n  at: file.captures.slot\n  by: run.cause + string(run.id)\n",
	).Replace(gauges)).start()
	h.drop("deep/G_K1_20260701T1200.csv", header+
		"SR0001;2026-07-01T12:00:00Z;5;4\n"+ // all can be computed
		"SR0002;2026-07-01T12:00:00Z;;\n"+ // null in, null out
		"SR0003;2026-07-01T12:00:00Z;1;0\n") // cannot be computed: a reject
	a := h.arrival("G_K1_20260701T1200.csv")
	require.Equal(t, ledger.Loaded, a.State, a.Reason)
	assert.Equal(t, balance.Balance{Read: 3, Inserted: 2, Rejected: 1}, a.Balance)
	assert.Equal(t, []string{
		fmt.Sprintf("SR0001|true|25|G_K1_20260701T1200.csv %d %s|2026-07-01 12:00:00+00|arrival%d", a.Size, a.SHA256,
			*a.RunID),
		fmt.Sprintf("SR0002||-|G_K1_20260701T1200.csv %d %s|2026-07-01 12:00:00+00|arrival%d", a.Size, a.SHA256,
			*a.RunID),
	}, h.lines(`SELECT concat_ws('|', station_id, coalesce(flood::text, ''), coalesce(per::text, '-'), origin,
		"at" AT TIME ZONE 'UTC' || '+00', "by") FROM river.gauge ORDER BY 1`))
	rejects, err := h.ledger.Rejects(context.Background(), ledger.RejectFilter{Feed: "gauges", Most: 10})
	require.NoError(t, err)
	assert.Equal(t, "per", rejects[0].ColumnName)
	assert.Contains(t, rejects[0].Reason, "division by zero")

	// What comes from the run is not part of the digest: the same rows in a
	// later run are unchanged. What comes from the file is.
	h.drop("deep/G_K1_20260701T1200.csv", header+"SR0001;2026-07-01T12:00:00Z;5;4\nSR0002;2026-07-01T12:00:00Z;;\n\n")
	b := h.arrival("G_K1_20260701T1200.csv", a.ID)
	assert.Equal(t, balance.Balance{Read: 2, Updated: 1, Outdated: 1},
		b.Balance.Plus(balance.Balance{Updated: 1 - b.Balance.Updated, Outdated: 1 - b.Balance.Outdated}),
		"both rows carry another digest of the file")
	assert.EqualValues(t, 2, b.Balance.Updated+b.Balance.Outdated)
}

func TestRowsOfALaterRunAreUnchanged(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "  flood: row.level_m > 4.5\n",
		"  by: string(run.id)\n  version: feed.version\n", 1)).start()
	h.drop("G_K1_20260701T1200.csv", one)
	h.arrival("G_K1_20260701T1200.csv")
	h.drop("G_K1_20260701T1300.csv", one+"SR0002;2026-07-01T12:00:00Z;1;1\n")
	b := h.arrival("G_K1_20260701T1300.csv")
	assert.Equal(t, balance.Balance{Read: 2, Inserted: 1, Unchanged: 1}, b.Balance)
}

func TestRejectsAreBoundedAndCounted(t *testing.T) {
	t.Parallel()
	h := newHouse(t, strings.Replace(gauges, "rejects: 1", "rejects: 100%", 1)).start()
	const bad = reading.MaxRejects + 500
	long := strings.Repeat("x", 5000)
	h.drop("G_K1_20260701T1200.csv", one+strings.Repeat("SR9999;2026-07-01T12:00:00Z;"+long+";1\n", bad))
	a := h.arrival("G_K1_20260701T1200.csv")
	require.Equal(t, ledger.Loaded, a.State, a.Reason)
	assert.Equal(t, balance.Balance{Read: bad + 1, Inserted: 1, Rejected: bad}, a.Balance)
	assert.Equal(t, []string{fmt.Sprintf("%d %d %d", reading.MaxRejects, 200+3, reading.OriginalKept+3)},
		h.lines("SELECT count(*) || ' ' || max(length(value)) || ' ' || max(length(original)) FROM "+
			"mullein_records.reject"))
}

// TestAFileWithoutReadPermission lets a service that is not root meet a file
// of root's.
func TestAFileWithoutReadPermission(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only root can make a file that another user's service may not read")
	}
	h := newHouse(t, strings.Replace(gauges, "attempts: 3", "attempts: 2", 1))
	dir, err := os.MkdirTemp("/var/tmp", "mullein-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	h.root = dir
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o755))
	binary, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	copied := filepath.Join(dir, "service")
	require.NoError(t, os.WriteFile(copied, binary, 0o755))
	path := filepath.Join(dir, "in", "G_K1_20260701T1200.csv")
	require.NoError(t, os.WriteFile(path, []byte(one), 0o600))

	c := exec.Command(copied)
	c.Dir = dir
	c.Env = append(os.Environ(), "MULLEIN_TEST_DATABASE="+h.url, "MULLEIN_TEST_ROOT="+dir,
		"MULLEIN_TEST_SERVICE="+uuid.NewString())
	const nobody = 65534
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	require.NoError(t, c.Start())
	defer end(t, c)
	a := h.arrival("G_K1_20260701T1200.csv")
	assert.Equal(t, ledger.Failed, a.State)
	assert.Contains(t, a.Reason, "attempt 2 of 2: open in/G_K1_20260701T1200.csv: permission denied")
	h.drop("G_K1_20260701T1300.csv", one)
	assert.Equal(t, ledger.Loaded, h.arrival("G_K1_20260701T1300.csv").State, "the others go on")
}
