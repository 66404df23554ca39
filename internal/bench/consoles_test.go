package bench

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

const (
	consolesOpen  = 100
	streamsOpen   = 20
	arrivalsASec  = 50
	consolesFor   = 20 * time.Second
	consolesFeeds = 20
)

// onlooker is a page of the console that shows today, or a program that only listens.
type onlooker struct {
	base, token string // of the service
	asks        bool   // as the page does, when it hears of changes
	heard       atomic.Int64
	asked       *atomic.Int64
	waited      *atomic.Int64 // nanoseconds
}

// look listens until ctx ends, and asks again as web/src/live.ts does.
func (o *onlooker) look(ctx context.Context) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, o.base+"/api/v1/events", nil)
	if err != nil {
		return
	}
	r.Header.Set("Authorization", "Bearer "+o.token)
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return
	}
	defer answer.Body.Close()
	news := make(chan struct{}, 1)
	if o.asks {
		go o.ask(ctx, news)
	}
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "event: change") {
			o.heard.Add(1)
			select {
			case news <- struct{}{}:
			default:
			}
		}
	}
}

func (o *onlooker) ask(ctx context.Context, news <-chan struct{}) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-news:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(consolePause):
		}
		for _, path := range []string{"/api/v1/day?hours=24", "/api/v1/status"} {
			began := time.Now()
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, o.base+path, nil)
			if err != nil {
				return
			}
			r.Header.Set("Authorization", "Bearer "+o.token)
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				return
			}
			_, err = io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
			if err != nil || answer.StatusCode != http.StatusOK {
				return
			}
			o.asked.Add(1)
			o.waited.Add(time.Since(began).Nanoseconds())
		}
	}
}

// consolePause is how long a page gathers changes while there are many: busyEvery of web/src/live.ts.
const consolePause = 1000 * time.Millisecond

// BenchmarkConsoles measures what 100 consoles and 20 streams cost a service to which 50 files a
// second come, beside the loading.
func BenchmarkConsoles(b *testing.B) {
	for b.Loop() {
		consoles(b)
	}
}

func consoles(b *testing.B) {
	ctx := context.Background()
	dir, pg := ownPostgres(b)
	root := filepath.Join(dir, "landings")
	s := serve(b, dir, "one", pg.URL(), root)
	s.connect(b)
	text, err := os.ReadFile(filepath.Join(s.home, "address"))
	require.NoError(b, err)
	secret, err := os.ReadFile(filepath.Join(s.home, "owner.token"))
	require.NoError(b, err)
	base, token := strings.TrimSpace(string(text)), strings.TrimSpace(string(secret))
	for n := range consolesFeeds {
		name := fmt.Sprintf("water-%02d", n)
		require.NoError(b, os.MkdirAll(filepath.Join(root, name), 0o755))
		_, err := s.client.PutFeed(ctx, name, name+".yaml", fmt.Sprintf(`feed: %[1]s
landing: {at: %[1]s, files: "TEMP_*.csv", settle: 100ms}
schema: {fields: [{name: station_id}, {name: celsius, type: number}], primaryKey: [station_id]}
target: {table: river.water_%02[2]d}
`, name, n))
		require.NoError(b, err)
	}
	written := 0
	// busy has files come for a while, and returns how many processors the service used.
	busy := func() float64 {
		before, began := processor(b, s.process.Process.Pid), time.Now()
		tick := time.NewTicker(time.Second / arrivalsASec)
		defer tick.Stop()
		for time.Since(began) < consolesFor {
			<-tick.C
			path := filepath.Join(root, fmt.Sprintf("water-%02d", written%consolesFeeds), fmt.Sprintf("TEMP_%06d.csv", written))
			require.NoError(b, os.WriteFile(path+".part", fmt.Appendf(nil, "station_id,celsius\nSR%06d,14.2\n", written), 0o644))
			require.NoError(b, os.Rename(path+".part", path))
			written++
		}
		return (processor(b, s.process.Process.Pid) - before) / time.Since(began).Seconds()
	}
	busy() // what is prepared once
	alone := busy()
	looking, stop := context.WithCancel(ctx)
	var all sync.WaitGroup
	var asked, waited atomic.Int64
	onlookers := make([]*onlooker, consolesOpen+streamsOpen)
	for i := range onlookers {
		onlookers[i] = &onlooker{base: base, token: token, asks: i < consolesOpen, asked: &asked, waited: &waited}
		all.Go(func() { onlookers[i].look(looking) })
	}
	watched := busy()
	stop()
	all.Wait()
	heard := int64(0)
	for _, o := range onlookers {
		heard += o.heard.Load()
	}
	b.ReportMetric(100*alone, "%-alone")
	b.ReportMetric(100*(watched-alone), "%-more-watched")
	b.ReportMetric(float64(heard)/float64(len(onlookers))/consolesFor.Seconds(), "events/s-each")
	b.ReportMetric(float64(asked.Load())/consolesFor.Seconds(), "asked/s")
	b.ReportMetric(float64(waited.Load())/1e6/float64(max(1, asked.Load())), "ms-an-answer")
}
