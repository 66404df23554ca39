package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"

	"mullein/internal/client"
	"mullein/internal/localpg"
	"mullein/internal/localssh"
	"mullein/internal/place"
	"mullein/internal/place/placetest"
	"mullein/internal/settings"
)

const (
	placeFiles = 10_000 // small ones
	placeBytes = 600 << 20
)

func smallFile(i int) []byte {
	var b bytes.Buffer
	b.WriteString("id,level\n")
	for row := range 10 {
		fmt.Fprintf(&b, "%d,%d.%d\n", i*10+row, row, i%10)
	}
	return b.Bytes()
}

// loadFrom has a service load all files of a place, and reports how many a second.
func loadFrom(b *testing.B, places string) {
	dir := b.TempDir()
	root := filepath.Join(dir, "landings")
	require.NoError(b, os.MkdirAll(root, 0o755))
	b.Setenv("MULLEIN_PLACES", places)
	ctx := context.Background()
	database, err := localpg.Start(ctx, localpg.Options{Dir: filepath.Join(dir, "postgres")})
	require.NoError(b, err)
	b.Cleanup(func() { _ = database.Stop(context.Background()) })
	s := serve(b, dir, "service", database.URL(), root)
	s.connect(b)
	began := time.Now()
	_, err = s.client.PutFeed(ctx, "small", "small.yaml", `feed: small
landing: {at: "place:far/in", files: "*.csv", settle: 1s}
schema: {fields: [{name: id, type: integer}, {name: level, type: number}], primaryKey: [id]}
target: {table: bench.small}
`)
	require.NoError(b, err)
	for loaded := 0; loaded < placeFiles; time.Sleep(100 * time.Millisecond) {
		require.Less(b, time.Since(began), 10*time.Minute)
		v, err := s.client.Volumes(ctx, client.VolumeQuery{Feed: "small", From: began.Add(-time.Hour), To: time.Now().Add(time.Hour)})
		require.NoError(b, err)
		loaded = int(v.Total.Files)
	}
	took := time.Since(began)
	b.ReportMetric(placeFiles/took.Seconds(), "files/s")
	list, err := s.client.Places(ctx)
	require.NoError(b, err)
	b.ReportMetric(float64(list.Items[0].Requests)/placeFiles, "requests/file")
	volumes, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "small", State: "loaded", Most: 1})
	require.NoError(b, err)
	require.NotEmpty(b, volumes.Items)
}

// BenchmarkPlaces loads 10,000 small files from a local SFTP server and from a stand-in of an object store, and reads one large
// file by SFTP beside what sftp itself takes to copy it.
func BenchmarkPlaces(b *testing.B) {
	b.Run("sftp/small", func(b *testing.B) {
		server, root := sftpServer(b)
		require.NoError(b, os.Mkdir(filepath.Join(root, "in"), 0o755))
		for i := range placeFiles {
			require.NoError(b, os.WriteFile(filepath.Join(root, "in", fmt.Sprintf("F_%05d.csv", i)), smallFile(i), 0o644))
		}
		loadFrom(b, fmt.Sprintf("{far: {address: 'sftp://%s%s', user: %s, key_file: %s, host_keys: ['%s']}}", server.Address, root, server.User,
			server.KeyFile, server.HostKey))
	})
	b.Run("s3/small", func(b *testing.B) {
		memory := s3mem.New()
		require.NoError(b, memory.CreateBucket("lab"))
		for i := range placeFiles {
			text := smallFile(i)
			_, err := memory.PutObject("lab", fmt.Sprintf("in/F_%05d.csv", i), map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)},
				bytes.NewReader(text), int64(len(text)), nil)
			require.NoError(b, err)
		}
		store := httptest.NewServer(gofakes3.New(memory).Server())
		b.Cleanup(store.Close)
		loadFrom(b, fmt.Sprintf("{far: {address: 's3://lab', user: key, password: secret, endpoint: '%s', every: 1s}}", store.URL))
	})
	b.Run("sftp/large", func(b *testing.B) {
		server, root := sftpServer(b)
		file, err := os.Create(filepath.Join(root, "large.csv"))
		require.NoError(b, err)
		line := bytes.Repeat([]byte("0123456789,abcdefghij\n"), 1<<15)
		for n := 0; n < placeBytes; n += len(line) {
			_, err := file.Write(line)
			require.NoError(b, err)
		}
		require.NoError(b, file.Close())
		p := place.New(place.Options{Spool: b.TempDir(), SpoolBytes: 8 << 30, Roots: []string{root}})
		p.Set(map[string]settings.Place{"far": {Address: "sftp://" + server.Address + root, User: server.User, KeyFile: server.KeyFile,
			HostKeys: []string{server.HostKey}}})
		b.Cleanup(func() { p.Set(nil) })
		host, port, _ := bytes.Cut([]byte(server.Address), []byte(":"))
		var ours, theirs time.Duration
		for range 3 {
			began := time.Now()
			l, err := p.Landing(context.Background(), placetest.Feed(b, "place:far", "*.csv"))
			require.NoError(b, err)
			from, err := l.Open("large.csv")
			require.NoError(b, err)
			n, err := io.Copy(io.Discard, from)
			require.NoError(b, err)
			require.GreaterOrEqual(b, n, int64(placeBytes))
			require.NoError(b, from.Close())
			ours += time.Since(began)

			to := filepath.Join(b.TempDir(), "copy")
			began = time.Now()
			copying := exec.Command("sftp", "-q", "-i", server.KeyFile, "-P", string(port), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
				"-o", "LogLevel=ERROR", server.User+"@"+string(host)+":"+filepath.Join(root, "large.csv"), to)
			said, err := copying.CombinedOutput()
			require.NoError(b, err, "%s", said)
			theirs += time.Since(began)
			require.NoError(b, os.Remove(to))
		}
		b.ReportMetric(3*placeBytes/1e6/ours.Seconds(), "MB/s")
		b.ReportMetric(3*placeBytes/1e6/theirs.Seconds(), "MB/s-by-sftp")
		b.ReportMetric(theirs.Seconds()/ours.Seconds(), "of-sftp")
	})
}

func sftpServer(b *testing.B) (*localssh.Server, string) {
	b.Helper()
	s, err := localssh.Start(context.Background(), b.TempDir())
	require.NoError(b, err)
	b.Cleanup(func() { _ = s.Stop() })
	return s, b.TempDir()
}
