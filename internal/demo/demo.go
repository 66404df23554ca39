// Package demo is the sample suppliers of the made-up Sorrel River Basin
// Observatory, who behave as suppliers do: a file late, one missing, one with
// the date in its name the other way round, one torn, one twice, bad rows,
// corrections.
//
// [CatchUp] leaves the files of the last day, [Work] keeps delivering until it
// is told to stop; [Example] delivers the same few files every time.
package demo

import (
	"bytes"
	"compress/gzip"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mullein/internal/client"
	"mullein/internal/core/feed"
	"mullein/internal/core/rollup"
)

//go:embed feeds/*.yaml rollups/*.yaml far/*.yaml
var feeds embed.FS

// Put creates the sample feeds and rollups, and their landing folders below root.
func Put(ctx context.Context, service *client.Client, root string) error {
	return put(ctx, service, root, func(text string) string { return text })
}

// PutAtPlaces is Put for a service that knows what is outside, as [FarSide] starts it; with the extract of the neighbour's
// database.
func PutAtPlaces(ctx context.Context, service *client.Client, root string) error {
	if err := put(ctx, service, root, atPlaces); err != nil {
		return err
	}
	return putNeighbour(ctx, service, root)
}

func put(ctx context.Context, service *client.Client, root string, change func(text string) string) error {
	names, err := fs.Glob(feeds, "feeds/*.yaml")
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := feeds.ReadFile(name)
		if err != nil {
			return err
		}
		f, err := feed.Parse(name, text)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Join(root, f.Landing.At), 0o755); err != nil {
			return fmt.Errorf("make a landing: %w", err)
		}
		if _, err := service.PutFeed(ctx, f.Name, name, change(string(text))); err != nil {
			return err
		}
	}
	return putRollups(ctx, service)
}

func putRollups(ctx context.Context, service *client.Client) error {
	names, err := fs.Glob(feeds, "rollups/*.yaml")
	if err != nil {
		return err
	}
	for _, name := range names {
		text, err := feeds.ReadFile(name)
		if err != nil {
			return err
		}
		r, err := rollup.Parse(name, text)
		if err != nil {
			return err
		}
		if err := service.PutRollup(ctx, r.Name, name, string(text)); err != nil {
			return err
		}
	}
	return nil
}

var catchments = []string{"K1", "K2", "K3"}

const (
	stationsEach = 8
	quarter      = 15 * time.Minute
)

// basin makes the observatory's numbers; the same time and seed give the same.
type basin struct{ root string }

func station(catchment, n int) string { return fmt.Sprintf("SR%04d", 100*(catchment+1)+n) }

var azores = func() *time.Location {
	zone, err := time.LoadLocation("Atlantic/Azores")
	if err != nil {
		return time.FixedZone("Azores", -3600)
	}
	return zone
}()

// readings are the rows of one catchment at one time. raise is added to the
// levels, as a correction.
func readings(catchment int, at time.Time, raise float64, revised time.Time) []string {
	random := rand.New(rand.NewPCG(uint64(at.Unix()), uint64(catchment)))
	var rows []string
	for n := range stationsEach {
		tide := math.Sin(float64(at.Unix())/40000 + float64(n))
		level := 2.4 + 1.6*tide + 0.3*random.Float64() + raise + 0.1*float64(n)
		flow := math.Max(0, level*level*7.3+random.Float64())
		levelText, flowText, quality := decimal(level, 3), decimal(flow, 2), "G"
		if random.IntN(40) == 0 {
			levelText, quality = "-999", "F"
		}
		rows = append(rows, strings.Join([]string{
			station(catchment, n), at.In(azores).Format("02.01.2006 15:04"), levelText, flowText, quality,
			revised.In(azores).Format("02.01.2006 15:04"),
		}, ";"))
	}
	return rows
}

func decimal(x float64, digits int) string {
	return strings.Replace(fmt.Sprintf("%.*f", digits, x), ".", ",", 1)
}

func gaugeFile(rows []string) []byte {
	return []byte("# Upper Catchment Office\nStation;Time;Level;Flow;Quality;Revised\n" + strings.Join(rows, "\n") +
		"\n")
}

func gaugeName(catchment int, at time.Time) string {
	return fmt.Sprintf("GAUGE_%s_%s.csv", catchments[catchment], at.In(azores).Format("20060102T1504"))
}

func registryFile(day time.Time) []byte {
	var b strings.Builder
	b.WriteString("station_id,station_name,river,catchment,place,zero_m,since,telemetry\n")
	rivers := []string{"Sorrel", "Little Sorrel", "Madder Brook"}
	places := []string{"Upper Weir", "Old Bridge", "Mill Race", "Ferry Steps", "Stone Ford", "Alder Bank",
		"Lock House", "Tide Gate"}
	for c := range catchments {
		for n := range stationsEach {
			fmt.Fprintf(&b, "%s,\"%s, %s\",%s,%s,\"%.4f, %.4f\",%.2f,%d-04-01,%s\n", station(c, n), rivers[c],
				places[n], rivers[c], catchments[c],
				-28.6+0.02*float64(c), 38.5+0.01*float64(n), 210.5-9.3*float64(n), 1961+7*n+c,
				[]string{"yes", "no"}[(n+day.YearDay())/40%2])
		}
	}
	return []byte(b.String())
}

func gzipped(plain []byte) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write(plain) // a bytes.Buffer takes everything
	_ = z.Close()
	return b.Bytes()
}

// leave puts a file into a landing, whole at once, with a time of its own.
func (b basin) leave(folder, name string, content []byte, modified time.Time) error {
	dir := filepath.Join(b.root, "landing", folder)
	temporary := filepath.Join(dir, "."+name+".tmp")
	if err := os.WriteFile(temporary, content, 0o644); err != nil {
		return fmt.Errorf("deliver: %w", err)
	}
	if err := os.Chtimes(temporary, modified, modified); err != nil {
		return fmt.Errorf("deliver: %w", err)
	}
	if err := os.Rename(temporary, filepath.Join(dir, name)); err != nil {
		return fmt.Errorf("deliver: %w", err)
	}
	return nil
}

const (
	daysOfFiles = 1 // that lie there at the start
	every       = 6 * time.Second
	registryH   = 6
	sendingTime = 70 * time.Second // from a reading to its file
)

// The mishaps of the day before the demo begins, by how many quarters of an
// hour before the present one, and whose they are.
var mishaps = map[int]map[int]string{
	68: {2: "late"}, 41: {0: "bad row"}, 33: {1: "missing"}, 32: {1: "missing"}, 31: {1: "missing"}, 27: {0: "twice"},
	21: {2: "misnamed"}, 14: {0: "late"}, 9: {2: "torn"}, 17: {0: "millimetres"}, 5: {1: "other case"},
}

// CatchUp leaves the files of the last day that are not there yet, as they
// would have come had the demo been running, with a day's mishaps. It is to be
// called before the service looks.
func CatchUp(root string, now time.Time) error {
	b := basin{root}
	for _, folder := range []string{"gauges", "registry", "lab", "buoys/B1", "buoys/B2", "rain"} {
		if err := os.MkdirAll(filepath.Join(root, "landing", folder), 0o755); err != nil {
			return fmt.Errorf("make a landing: %w", err)
		}
	}
	last, err := b.lastDelivered()
	if err != nil {
		return err
	}
	at := now.UTC().Truncate(quarter).Add(-daysOfFiles * 24 * time.Hour)
	if last.After(at) {
		at = last.Add(quarter)
	}
	fresh := last.IsZero()
	for ; at.Add(sendingTime).Before(now); at = at.Add(quarter) {
		back := int(now.UTC().Truncate(quarter).Sub(at) / quarter)
		for c := range catchments {
			what := ""
			if fresh {
				what = mishaps[back][c]
			}
			if err := b.send(c, at, what, at.Add(sendingTime)); err != nil {
				return err
			}
		}
		if err := b.others(at, at.Add(sendingTime), fresh && back < 30); err != nil {
			return err
		}
	}
	return nil
}

// others leave what the other suppliers send at a time.
func (b basin) others(at, modified time.Time, silent bool) error {
	return errors.Join(b.registry(at, modified), b.lab(at, modified), b.buoys(at, modified, silent),
		b.volunteers(at, modified))
}

// registry leaves the list of stations when its time has come.
func (b basin) registry(at, modified time.Time) error {
	local := at.In(azores)
	if local.Hour() != registryH || local.Minute() != 0 {
		return nil
	}
	return b.leave("registry", "STATIONS_"+local.Format("2006-01-02")+".csv", registryFile(at), modified)
}

// Work delivers each quarter of an hour as it comes, and every few seconds
// something else that suppliers do, until ctx ends.
func Work(ctx context.Context, root string) error {
	b := basin{root}
	next := time.Now().UTC().Truncate(quarter)
	if last, err := b.lastDelivered(); err != nil {
		return err
	} else if !last.Before(next) {
		next = last.Add(quarter)
	}
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(every):
		}
		now := time.Now()
		var err error
		if next.Add(sendingTime).Before(now) {
			for c := range catchments {
				err = errors.Join(err, b.send(c, next, "", now))
			}
			err = errors.Join(err, b.others(next, now, false))
			next = next.Add(quarter)
		} else {
			err = b.correct(next, n, now)
		}
		if err != nil {
			return err
		}
	}
}

// correct sends an earlier file again, with better numbers, and now and then
// with a mishap.
func (b basin) correct(next time.Time, n int, now time.Time) error {
	at, c := next.Add(-time.Duration(1+n*7%90)*quarter), n%len(catchments)
	if _, err := os.Stat(filepath.Join(b.root, "landing", "gauges", gaugeName(c, at))); err != nil {
		return nil // it never came, or not as it should
	}
	rows := readings(c, at, 0.01*float64(1+n%9), now)
	switch n % 6 {
	case 1: // a level with a letter in it
		rows[2] = spoil(rows[2])
	case 2: // a row twice
		rows = append(rows, rows[3])
	case 4: // somebody saved a file twice
		content, err := os.ReadFile(filepath.Join(b.root, "landing", "gauges", gaugeName(c, at)))
		if err != nil {
			return fmt.Errorf("copy: %w", err)
		}
		return b.leave("gauges", strings.TrimSuffix(gaugeName(c, at), ".csv")+" (1).csv", content, now)
	}
	return b.leave("gauges", gaugeName(c, at), gaugeFile(rows), now)
}

func spoil(row string) string {
	cells := strings.Split(row, ";")
	cells[2] = "2,4x"
	return strings.Join(cells, ";")
}

// send leaves the file of a catchment, or what becomes of it in a mishap.
func (b basin) send(c int, at time.Time, what string, modified time.Time) error {
	rows, name := readings(c, at, 0, at), gaugeName(c, at)
	switch what {
	case "missing":
		return nil
	case "late":
		modified = at.Add(13 * time.Minute)
	case "bad row":
		rows[2] = spoil(rows[2])
	case "millimetres":
		for i, row := range rows {
			cells := strings.Split(row, ";")
			cells[2] = strings.TrimLeft(strings.Replace(cells[2], ",", "", 1), "0") // 2,451 m, sent as 2451 mm
			rows[i] = strings.Join(cells, ";")
		}
	case "misnamed": // the day before the year
		name = fmt.Sprintf("GAUGE_%s_%s.csv", catchments[c], at.In(azores).Format("02012006T1504"))
	case "other case":
		name = strings.ToLower(name)
	case "torn":
		whole := gzipped(gaugeFile(rows))
		return b.leave("gauges", name+".gz", whole[:len(whole)*2/3], modified)
	case "twice":
		if err := b.leave("gauges", strings.TrimSuffix(name, ".csv")+" (1).csv", gaugeFile(rows),
			modified.Add(time.Minute)); err != nil {
			return err
		}
	}
	return b.leave("gauges", name, gaugeFile(rows), modified)
}

// lastDelivered is the time of the newest file that lies at the landing.
func (b basin) lastDelivered() (time.Time, error) {
	entries, err := os.ReadDir(filepath.Join(b.root, "landing", "gauges"))
	if err != nil {
		return time.Time{}, fmt.Errorf("look at the landing: %w", err)
	}
	var last time.Time
	for _, e := range entries {
		name := strings.TrimPrefix(e.Name(), "GAUGE_K1_")
		if t, err := time.ParseInLocation("20060102T1504", name[:min(13, len(name))], azores); err == nil &&
			t.After(last) {
			last = t
		}
	}
	return last, nil
}

// Example delivers a fixed set of files, one after the other, and waits until
// each has come to rest.
func Example(ctx context.Context, service *client.Client, root string) error {
	b := basin{root}
	at := time.Date(2026, 7, 1, 12, 0, 0, 0, azores)
	k1 := readings(0, at, 0, at)
	k1[2] = spoil(k1[2])
	later := strings.Split(k1[3], ";")
	later[2] = "3,333"
	twice := append(slices.Clone(k1), strings.Join(later, ";"))
	for n := 8; n < 11; n++ { // enough rows for one reject to be tolerated
		twice = append(twice, strings.Replace(readings(0, at.Add(-quarter), 0, at)[n-8], ";", ";", 1))
	}
	torn := gzipped(gaugeFile(readings(2, at, 0, at)))
	name := strings.TrimSuffix(gaugeName(0, at), ".csv")
	buoy, err := buoyFile(1, at.UTC())
	if err != nil {
		return err
	}
	book, err := sheet(at)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(root, "landing/buoys/B1"), 0o755); err != nil {
		return fmt.Errorf("make a landing: %w", err)
	}
	deliveries := []struct {
		folder, name string
		content      []byte
	}{
		{"registry", "STATIONS_2026-07-01.csv", registryFile(at)},
		{"gauges", name + ".csv", gaugeFile(twice)},
		{"gauges", gaugeName(1, at) + ".gz", gzipped(gaugeFile(readings(1, at, 0, at)))},
		{"gauges", name + " (1).csv", gaugeFile(twice)},
		{"gauges", name + ".csv", gaugeFile(readings(0, at, 0.05, at.Add(time.Hour)))},
		{"gauges", gaugeName(2, at) + ".gz", torn[:len(torn)*2/3]},
		{"gauges", gaugeName(2, at) + ".gz", torn},
		{"lab", "LAB_2026-07-01_1.jsonl", labFile(at.Truncate(24*time.Hour), 1)},
		{"lab", "LAB_2026-07-01_2.jsonl.zst", zstandard(labFile(at.Truncate(24*time.Hour), 2))},
		{"buoys/B1", "PROFILE_20260701T1200.parquet", buoy},
		{"rain", "jonas 01.07.2026 neu.TXT", rain(1, at)},
		{"rain", "Lock House 2026-07.xlsx", book},
	}
	var last int64
	for i, d := range deliveries {
		if err := b.leave(d.folder, d.name, d.content, at.Add(time.Duration(i)*time.Minute)); err != nil {
			return err
		}
		for {
			list, err := service.Arrivals(ctx, client.ArrivalQuery{Most: 1})
			if err != nil {
				return err
			}
			if len(list.Items) == 1 && list.Items[0].ID > last && list.Items[0].FinishedAt != nil {
				last = list.Items[0].ID
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	return nil
}
