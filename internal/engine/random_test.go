package engine

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/ledger"
	"mullein/internal/table"
)

// supplier is a model of a landing and of what became of its files: what random
// deliveries, corrections, copies, touched and lost files, redos and recalls end
// in.
type supplier struct {
	*house
	random *rand.Rand
	files  map[string]string // at the landing
	loads  []*modelLoad      // in the order in which they count
	last   map[string]int64  // the newest arrival of a path
	made   int
	said   []string
}

// modelLoad is a load in force or recalled.
type modelLoad struct {
	path, content string
	arrival       int64
	recalled      bool
}

// modelRow is a row of the gauges' table.
type modelRow struct {
	revised               int
	level, catchment, who string
}

// catchment is what a file's name says of its rows.
func catchment(path string) string { return strings.Split(path, "_")[1] }

// table is what the loads in force make, one after the other.
func (s *supplier) table() []string {
	rows := map[string]modelRow{}
	for _, l := range s.loads {
		if l.recalled {
			continue
		}
		wins := map[string]modelRow{}
		for i, line := range strings.Split(strings.TrimSpace(l.content), "\n")[1:] {
			cells := strings.Split(line, ";")
			revised, err := strconv.Atoi(cells[3])
			require.NoError(s.t, err)
			if before, twice := wins[cells[0]]; !twice || revised >= before.revised {
				wins[cells[0]] = modelRow{revised, cells[2], catchment(l.path),
					fmt.Sprintf("%s:%d of %d", l.path, i+2, l.arrival)}
			}
		}
		for station, now := range wins {
			old, has := rows[station]
			same := has && old.revised == now.revised && old.level == now.level && old.catchment == now.catchment
			if !has || now.revised >= old.revised && !same {
				rows[station] = now
			}
		}
	}
	out := []string{}
	for station, r := range rows {
		out = append(out, fmt.Sprintf("%s %s %d %s from %s", station, r.level, r.revised, r.catchment, r.who))
	}
	slices.Sort(out)
	return out
}

// values is the table without what says where rows came from.
func (s *supplier) values() []string {
	rows := s.table()
	for i := range rows {
		rows[i], _, _ = strings.Cut(rows[i], " from ")
	}
	return rows
}

func (s *supplier) check() bool {
	have := s.lines(`SELECT concat_ws(' ', station_id, level_m, revised, catchment, 'from',
		from_file || ':' || from_line, 'of', from_arrival) FROM river.gauge ORDER BY 1`)
	return assert.Equal(s.t, s.table(), have)
}

func (s *supplier) say(format string, args ...any) {
	s.said = append(s.said, fmt.Sprintf(format, args...))
}

// content makes a file that no other is like.
func (s *supplier) content() string {
	s.made++
	text := header + fmt.Sprintf("SR%04d;2026-07-01T12:00:00Z;1;0\n", 1000+s.made)
	for range 1 + s.random.IntN(5) {
		text += fmt.Sprintf("SR%04d;2026-07-01T12:00:00Z;%d;%d\n", s.random.IntN(5), s.random.IntN(4), s.random.IntN(3))
	}
	return text
}

// leave puts a file at the landing and waits for what becomes of it.
func (s *supplier) leave(path, content string) ledger.Arrival {
	s.files[path] = content
	s.drop(path, content)
	a := s.arrival(path, s.last[path])
	s.last[path] = a.ID
	return a
}

// deliver leaves a file that is to be loaded.
func (s *supplier) deliver(path, content string) {
	a := s.leave(path, content)
	require.Equal(s.t, ledger.Loaded, a.State, "%s: %s", path, a.Reason)
	require.NoError(s.t, a.Balance.Err())
	s.loads = append(s.loads, &modelLoad{path: path, content: content, arrival: a.ID})
}

// some returns one of the loads whose file lies at the landing as it was loaded.
func (s *supplier) some(recalled bool) *modelLoad {
	var among []*modelLoad
	for _, l := range s.loads {
		if l.recalled == recalled && s.files[l.path] == l.content && s.readable(l) {
			among = append(among, l)
		}
	}
	if len(among) == 0 {
		return nil
	}
	return among[s.random.IntN(len(among))]
}

// readable reports whether the files of all loads after one lie at the landing as they
// were loaded: a recall asks them for the rows that they left alone.
func (s *supplier) readable(of *modelLoad) bool {
	after := s.loads[slices.Index(s.loads, of)+1:]
	return !slices.ContainsFunc(after, func(l *modelLoad) bool { return s.files[l.path] != l.content })
}

func (s *supplier) step() {
	fresh := func() string { return fmt.Sprintf("G_K%d_20260701T12%02d.csv", s.random.IntN(3), s.made+1) }
	var l *modelLoad
	what := s.random.IntN(9)
	if what > 1 {
		if l = s.some(what == 8); l == nil {
			what = 0
		}
	}
	switch what {
	case 0, 1:
		path := fresh()
		s.say("new %s", path)
		s.deliver(path, s.content())
	case 2:
		s.say("%d is corrected", l.arrival)
		s.deliver(l.path, s.content())
	case 3:
		s.made++
		copied := fmt.Sprintf("%s copy %d.csv", strings.TrimSuffix(l.path, ".csv"), s.made)
		s.say("%s is a copy of %d", copied, l.arrival)
		a := s.leave(copied, l.content)
		if a.State == ledger.Loaded {
			s.loads = append(s.loads, &modelLoad{path: copied, content: l.content, arrival: a.ID})
			break
		}
		require.Equal(s.t, ledger.Skipped, a.State, a.Reason)
		before := s.values()
		s.loads = append(s.loads, &modelLoad{path: copied, content: l.content, arrival: a.ID})
		assert.Equal(s.t, s.values(), before, "loading the copy would have changed nothing")
		s.loads = s.loads[:len(s.loads)-1]
		delete(s.files, copied)
		require.NoError(s.t, os.Remove(filepath.Join(s.root, "in", copied)))
	case 4:
		s.say("%d is touched", l.arrival)
		a := s.leave(l.path, l.content)
		assert.Equal(s.t, ledger.Skipped, a.State, a.Reason)
	case 5:
		s.say("%d goes, and comes back beside another", l.arrival)
		require.NoError(s.t, os.Remove(filepath.Join(s.root, "in", l.path)))
		s.deliver(fresh(), s.content())
		a := s.leave(l.path, l.content)
		assert.Equal(s.t, ledger.Skipped, a.State, a.Reason)
	case 6:
		s.say("%d is done again", l.arrival)
		before, err := s.ledger.Arrival(ctx, l.arrival)
		require.NoError(s.t, err)
		_, err = s.ledger.Decide(ctx, ledger.Redo, []int64{l.arrival}, "ada", "a test")
		require.NoError(s.t, err)
		s.engine.Changed()
		s.wait("its next generation", func() bool {
			a, err := s.ledger.Arrival(ctx, l.arrival)
			require.NoError(s.t, err)
			return a.State == ledger.Loaded && a.Generation > before.Generation
		})
		at := slices.Index(s.loads, l)
		s.loads = append(slices.Delete(s.loads, at, at+1), l)
	case 7, 8:
		aim := table.TakeOut
		if l.recalled {
			aim = table.PutBack
		}
		s.say("%d is recalled, or put back: %d", l.arrival, aim)
		_, err := s.engine.inspect.PreviewRecall(ctx, l.arrival, aim)
		require.NoError(s.t, err)
		_, err = s.engine.inspect.Recall(ctx, l.arrival, aim, "ada", "a test")
		require.NoError(s.t, err)
		l.recalled = !l.recalled
	}
}

// TestRandomSuppliers holds the whole way of files, from the landing to the
// target, against the model after each step of a random sequence. MULLEIN_SEED
// plays one again, MULLEIN_PLAYS says how many there are.
func TestRandomSuppliers(t *testing.T) {
	t.Parallel()
	plays, first := 1, uint64(rand.Uint32())
	if n, err := strconv.Atoi(os.Getenv("MULLEIN_PLAYS")); err == nil {
		plays = n
	}
	if seed, err := strconv.ParseUint(os.Getenv("MULLEIN_SEED"), 10, 64); err == nil {
		plays, first = 1, seed
	}
	for i := range plays {
		seed := first + uint64(i)
		s := &supplier{house: newHouse(t, gauges).start(), random: rand.New(rand.NewPCG(seed, 2)),
			files: map[string]string{}, last: map[string]int64{}}
		replay := func() {
			if t.Failed() {
				t.Logf("MULLEIN_SEED=%d go test -run TestRandomSuppliers\n%s", seed, strings.Join(s.said, "\n"))
			}
		}
		t.Cleanup(replay)
		for range 25 {
			s.step()
			if !s.check() || t.Failed() {
				t.FailNow()
			}
		}
		s.stop()
	}
}
