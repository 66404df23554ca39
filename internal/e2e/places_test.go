package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/api"
	"mullein/internal/client"
	"mullein/internal/localpg/pgtest"
	"mullein/internal/localssh"
	"mullein/internal/settings"
)

const buoys = `feed: buoys
landing: {at: "place:upper/out", files: "B_{n:#}.csv", settle: 100ms, put_away: done, quarantine: bad}
schema: {fields: [{name: buoy}, {name: level, type: number}], primaryKey: [buoy]}
target: {table: river.buoy}
`

// farSide is an SFTP server, the folder that it serves as place upper, and the home of a service that takes files from there.
type farSide struct {
	*localssh.Server
	t    *testing.T
	dir  string // what the place is; files are in out, below it
	home string
}

func newFarSide(t *testing.T) *farSide {
	t.Helper()
	server, err := localssh.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, server.Stop()) })
	f := &farSide{server, t, t.TempDir(), filepath.Join(t.TempDir(), ".mullein")}
	require.NoError(t, os.Mkdir(filepath.Join(f.dir, "out"), 0o755))
	require.NoError(t, os.MkdirAll(f.home, 0o755))
	return f
}

// name writes the settings, in which the place has an address, a host key and more.
func (f *farSide) name(address, hostKey, more string) {
	require.NoError(f.t, os.WriteFile(filepath.Join(f.home, settings.FileName), fmt.Appendf(nil,
		"nudge_secret: %s\nplaces:\n  upper: {address: \"sftp://%s%s\", user: %s, key_file: %s, host_keys: [%q], %s}\n",
		hookSecret, address, f.dir, f.User, f.KeyFile, hostKey, more), 0o600))
}

// serve starts the service, with a feed that takes files from the place.
func (f *farSide) serve() *service {
	f.t.Helper()
	s := serveFrom(f.t, settings.From{Home: f.home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:0", "MULLEIN_DATABASE=" + pgtest.Database(f.t)}})
	_, err := s.client.PutFeed(context.Background(), "buoys", "buoys.yaml", buoys)
	require.NoError(f.t, err)
	return s
}

// TestAFeedAtAPlace takes files from an SFTP server: each once, put away there, refused ones too, with the server
// killed in between.
func TestAFeedAtAPlace(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	far := newFarSide(t)
	const more = "every: 1s, until: 2026-01-01"
	far.name(far.Address, far.HostKey, more)
	s := far.serve()
	drop := func(name, text string) {
		half := filepath.Join(far.dir, name)
		require.NoError(t, os.WriteFile(half, []byte(text), 0o644))
		require.NoError(t, os.Rename(half, filepath.Join(far.dir, "out", name)))
	}
	states := func() string {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 100})
		require.NoError(t, err)
		var out []string
		for _, a := range list.Items {
			out = append([]string{a.Path + " " + a.State}, out...)
		}
		return strings.Join(out, ", ")
	}
	drop("B_1.csv", "buoy,level\na,1\nb,2\n")
	s.eventually(func() bool { return states() == "B_1.csv loaded" })
	s.eventually(func() bool { _, err := os.Stat(filepath.Join(far.dir, "done/B_1.csv")); return err == nil })
	drop("B_2.csv", "buoy,level\na,much\n")
	s.eventually(func() bool { return states() == "B_1.csv loaded, B_2.csv refused" })
	s.eventually(func() bool { _, err := os.Stat(filepath.Join(far.dir, "bad/B_2.csv.why.txt")); return err == nil })

	// The server goes and comes; what lies there is not gone.
	require.NoError(t, far.Stop())
	drop("B_3.csv", "buoy,level\na,3\n")
	s.eventually(func() bool {
		f, err := s.client.Feed(ctx, "buoys")
		return err == nil && strings.Contains(f.Problem, "is away")
	})
	require.NoError(t, far.Again(ctx))
	s.eventually(func() bool { return states() == "B_1.csv loaded, B_2.csv refused, B_3.csv loaded" })

	// A person works with it as with a folder.
	code, out, _ := s.mullein("place", "list")
	assert.Zero(t, code)
	assert.Contains(t, out, "upper")
	code, out, _ = s.mullein("place", "test", "upper")
	assert.Zero(t, code, out)
	code, out, _ = s.mullein("place", "browse", "upper/done")
	assert.Zero(t, code)
	assert.Contains(t, out, "B_1.csv")
	file := filepath.Join(t.TempDir(), "B_4.csv")
	require.NoError(t, os.WriteFile(file, []byte("buoy,level\na,4\n"), 0o644))
	code, out, stderr := s.mullein("deliver", "buoys", file)
	assert.Zero(t, code, out+stderr)
	s.eventually(func() bool { return strings.HasSuffix(states(), "B_4.csv loaded") })
	list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 1})
	require.NoError(t, err) // it is being moved aside, which is no obstacle
	code, out, stderr = s.mullein("verify", fmt.Sprint(list.Items[0].ID))
	assert.Zero(t, code, out+stderr)
	rows, err := s.client.Rows(ctx, "buoys", "", 0, 10)
	require.NoError(t, err)
	assert.Len(t, rows.Rows, 2)
	code, out, stderr = s.mullein("feed", "draft", "place:upper/done")
	assert.Zero(t, code, out+stderr)
	assert.Contains(t, out, `at: "place:upper/done"`)
	assert.Contains(t, out, `files: "B_{`)
	b := browse(t)
	b.do(chromedp.Navigate(s.SignIn))
	b.sees("Today")
	b.do(chromedp.Navigate(s.URL + "/places?place=upper&folder=done"))
	b.sees("upper", "no trouble", "2026-01-01", "B_1.csv")
	b.do(chromedp.Click(`button.n-button--tiny-type`))
	b.sees("sign in: in ", "list: ")
	s.eventually(func() bool {
		code, out, _ := s.mullein("volumes", "buoys", "-o", "json")
		var list api.VolumeList
		return code == 0 && json.Unmarshal([]byte(out), &list) == nil && list.Total.Requests > 10
	})
	// Its credential has ended, which people are told.
	s.eventually(func() bool {
		list, err := s.client.Problems(ctx, false, 0, 10)
		return err == nil && len(list.Items) > 0 && contains(list, "the credential of place upper ends on 2026-01-01")
	})
	// A host that shows another key is not spoken with any more.
	far.name(far.Address, "SHA256:"+strings.Repeat("A", 43), more)
	s.eventually(func() bool {
		code, out, _ := s.mullein("place", "test", "upper")
		return code == 3 && strings.Contains(out, "another key")
	})
}

func contains(list api.ProblemList, what string) bool {
	for _, p := range list.Items {
		for _, part := range p.Parts {
			if strings.Contains(part.What, what) {
				return true
			}
		}
	}
	return false
}

// TestANudge has a place looked at that is listed once an hour: by a token, by a signature, and by what stores send.
func TestANudge(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	far := newFarSide(t)
	far.name(far.Address, far.HostKey, "every: 1h")
	s := far.serve()
	s.eventually(func() bool {
		f, err := s.client.Feed(ctx, "buoys")
		return err == nil && f.ListedAt != nil
	})
	loaded := func() (n int) {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", State: "loaded", Most: 100})
		require.NoError(t, err)
		return len(list.Items)
	}
	drop := func(n int) {
		require.NoError(t, os.WriteFile(filepath.Join(far.dir, "out", fmt.Sprintf("B_%d.csv", n)), fmt.Appendf(nil, "buoy,level\na,%d\n", n), 0o644))
	}
	drop(1)
	done, err := s.client.Nudge(ctx, "buoys", "B_1.csv")
	require.NoError(t, err)
	assert.Equal(t, 1, done.Taken)
	s.eventually(func() bool { return loaded() == 1 })

	post := func(body, contentType string, change func(*http.Request)) (int, string) {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+"/api/v1/nudges", strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", contentType)
		change(r)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
	sign := func(body string) func(*http.Request) {
		return func(r *http.Request) {
			w, err := standardwebhooks.NewWebhook(hookSecret)
			require.NoError(t, err)
			now := time.Now()
			signature, err := w.Sign("msg_1", now, []byte(body))
			require.NoError(t, err)
			r.Header.Set("webhook-id", "msg_1")
			r.Header.Set("webhook-timestamp", strconv.FormatInt(now.Unix(), 10))
			r.Header.Set("webhook-signature", signature)
		}
	}
	drop(2)
	event := `{"specversion": "1.0", "id": "1", "type": "file", "source": "/upper", "data": {"place": "upper", "path": "out/B_2.csv"}}`
	code, text := post(event, "application/cloudevents+json", sign(event))
	assert.Equal(t, http.StatusAccepted, code, text)
	s.eventually(func() bool { return loaded() == 2 })
	code, text = post(event, "application/json", sign("another"))
	assert.Equal(t, http.StatusUnauthorized, code, text)
	code, text = post(event, "application/json", func(*http.Request) {})
	assert.Equal(t, http.StatusUnauthorized, code, text)
	token := func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+s.Token) }
	// False, doubled and unknown ones change nothing.
	for _, body := range []string{event, event, `{"feed": "buoys", "path": "B_9.csv"}`, `{"path": "elsewhere/B_3.csv"}`} {
		code, text = post(body, "application/json", token)
		assert.Equal(t, http.StatusAccepted, code, text)
	}
	code, text = post(`{"Records": [{"eventName": "ObjectCreated:Put", "s3": {"bucket": {"name": "lab"}, "object": {"key": "a"}}}]}`, "application/json", token)
	assert.Equal(t, http.StatusAccepted, code)
	assert.Contains(t, text, "is at no place of the settings")
	code, _ = post(`{"feed": "buoys"}`, "application/json", token)
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Equal(t, 2, loaded())
}

// badLine passes connections on to a server, and cuts each after some bytes.
type badLine struct {
	net.Listener
	to   string
	most atomic.Int64 // bytes of a connection, about; 0 for no bound
}

func newBadLine(t *testing.T, to string) *badLine {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	line := &badLine{Listener: l, to: to}
	t.Cleanup(func() { l.Close() })
	go line.run()
	return line
}

func (l *badLine) run() {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		go l.pass(near)
	}
}

func (l *badLine) pass(near net.Conn) {
	defer near.Close()
	far, err := net.Dial("tcp", l.to)
	if err != nil {
		return
	}
	defer far.Close()
	go func() {
		_, _ = io.Copy(far, near)
		far.Close()
	}()
	if most := l.most.Load(); most > 0 {
		_, _ = io.CopyN(near, far, most/2+rand.Int64N(most))
		return
	}
	_, _ = io.Copy(near, far)
}

// TestAPlaceBehindABadLine loads files through a line that is cut again and again, at any step: at the end the table is as if it had
// been a good one, and each file was loaded once.
func TestAPlaceBehindABadLine(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	far := newFarSide(t)
	line := newBadLine(t, far.Address)
	line.most.Store(400_000)
	const small, rows = 60, 150_000
	for n := range small {
		require.NoError(t, os.WriteFile(filepath.Join(far.dir, "out", fmt.Sprintf("B_%d.csv", n+1)), fmt.Appendf(nil, "buoy,level\nb%d,%d\n", n, n), 0o644))
	}
	var large bytes.Buffer // some MB, which go through a spool
	large.WriteString("buoy,level\n")
	for n := range rows {
		fmt.Fprintf(&large, "large buoy %d,%d\n", n, n)
	}
	require.NoError(t, os.WriteFile(filepath.Join(far.dir, "out", "B_0.csv"), large.Bytes(), 0o644))
	far.name(line.Addr().String(), far.HostKey, "every: 1s")
	s := far.serve()
	s.eventually(func() bool {
		list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 1000})
		require.NoError(t, err)
		loaded := 0
		for _, a := range list.Items {
			assert.NotContains(t, []string{"refused", "gone", "failed"}, a.State, "%s: %s", a.Path, a.Reason)
			if a.State == "loaded" {
				loaded++
			}
		}
		return loaded == small+1
	})
	list, err := s.client.Arrivals(ctx, client.ArrivalQuery{Feed: "buoys", Most: 1000})
	require.NoError(t, err)
	assert.Len(t, list.Items, small+1, "each is one arrival")
	inserted := int64(0)
	for _, a := range list.Items {
		inserted += a.Balance.Inserted
	}
	assert.EqualValues(t, small+rows, inserted)
	line.most.Store(0)
	s.eventually(func() bool {
		left, err := os.ReadDir(filepath.Join(far.dir, "out"))
		return err == nil && len(left) == 0
	})
	done, err := os.ReadDir(filepath.Join(far.dir, "done"))
	require.NoError(t, err)
	assert.Len(t, done, small+1)
}
