package objects

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
	"mullein/internal/place"
	"mullein/internal/place/placetest"
	"mullein/internal/settings"
)

// standIn is a store with a bucket, and how suppliers put objects there.
type standIn func(t *testing.T) (settings.Place, func(key string, content []byte))

func fakeAmazon(t *testing.T) (settings.Place, func(key string, content []byte)) {
	t.Helper()
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("lab"))
	server := httptest.NewServer(gofakes3.New(memory).Server())
	t.Cleanup(server.Close)
	return settings.Place{Address: "s3://lab/prefix", User: "key", Password: "secret", Endpoint: server.URL}, func(key string, content []byte) {
		_, err := memory.PutObject("lab", "prefix/"+key, map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}, bytes.NewReader(content), int64(len(content)), nil)
		assert.NoError(t, err)
	}
}

func fakeAzure(t *testing.T) (settings.Place, func(key string, content []byte)) {
	t.Helper()
	store := newStore()
	server := httptest.NewServer(&azureServer{store, "/acct/lab"})
	t.Cleanup(server.Close)
	return settings.Place{Address: "azblob://lab/prefix", Endpoint: server.URL + "/acct", Password: "?sv=2026-01-01&sig=secret"}, func(key string, content []byte) {
		store.put("prefix/"+key, content)
	}
}

func fakeGoogle(t *testing.T) (settings.Place, func(key string, content []byte)) {
	t.Helper()
	store := newStore()
	server := httptest.NewServer(&googleServer{store, "lab"})
	t.Cleanup(server.Close)
	return settings.Place{Address: "gs://lab/prefix", Anonymous: true, Endpoint: server.URL + "/storage/v1/"}, func(key string, content []byte) {
		store.put("prefix/"+key, content)
	}
}

func places(t *testing.T, s settings.Place) *place.Places {
	t.Helper()
	p := place.New(place.Options{Spool: t.TempDir(), SpoolBytes: 64 << 20, Roots: []string{t.TempDir()}, Objects: Dial})
	p.Set(map[string]settings.Place{"lab": s})
	t.Cleanup(func() { p.Set(nil) })
	return p
}

var standIns = map[string]standIn{"s3": fakeAmazon, "azblob": fakeAzure, "gs": fakeGoogle}

// TestABucketIsALanding has each store do what a folder does.
func TestABucketIsALanding(t *testing.T) {
	t.Parallel()
	for name, begin := range standIns {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, write := begin(t)
			placetest.IsALanding(t, places(t, s), "lab", false, write)
		})
	}
}

// TestVersionsOfObjects tells an object from another of the same key, size and second, from listings, looks and reads alike.
func TestVersionsOfObjects(t *testing.T) {
	t.Parallel()
	for name, begin := range standIns {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, write := begin(t)
			l := placetest.At(t, places(t, s), "place:lab")
			list := func() (out landing.Entry) {
				require.NoError(t, l.List(t.Context(), func(string) bool { return true }, func(e landing.Entry) error {
					out = e
					return nil
				}))
				return out
			}
			write("a.csv", []byte("x\n1\n"))
			listed := list()
			looked, err := l.Stat("a.csv")
			require.NoError(t, err)
			file, err := l.Open("a.csv")
			require.NoError(t, err)
			require.NoError(t, file.Close())
			assert.Equal(t, listed, looked)
			assert.Equal(t, listed, file.Entry)
			assert.NotZero(t, listed.Inode)
			write("a.csv", []byte("x\n2\n"))
			assert.False(t, list().Same(listed))
			_, err = l.PutAway(listed, 1, "")
			require.ErrorIs(t, err, landing.ErrReplaced)
		})
	}
}

// TestRulesOfABucket says what a bucket does by itself with the objects of a place, and not with others.
func TestRulesOfABucket(t *testing.T) {
	t.Parallel()
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("lab"))
	store := gofakes3.New(memory).Server()
	amazon := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !r.URL.Query().Has("lifecycle") {
			store.ServeHTTP(w, r)
			return
		}
		fmt.Fprint(w, `<LifecycleConfiguration><Rule><ID>a</ID><Status>Enabled</Status><Filter><Prefix></Prefix></Filter><Expiration><Days>90</Days></Expiration>`+
			`<Transition><Days>30</Days><StorageClass>GLACIER</StorageClass></Transition></Rule>`+
			`<Rule><ID>b</ID><Status>Enabled</Status><Filter><Prefix>other/</Prefix></Filter><Expiration><Days>1</Days></Expiration></Rule>`+
			`<Rule><ID>c</ID><Status>Disabled</Status><Filter><Prefix></Prefix></Filter><Expiration><Days>2</Days></Expiration></Rule></LifecycleConfiguration>`)
	}))
	t.Cleanup(amazon.Close)
	google, _ := fakeGoogle(t)
	plain, _ := fakeAmazon(t)
	azure, _ := fakeAzure(t)
	for _, c := range []struct {
		place settings.Place
		want  string
	}{
		{settings.Place{Address: "s3://lab/prefix", User: "key", Password: "secret", Endpoint: amazon.URL},
			"the bucket deletes objects 90 days after they came; the bucket moves objects to GLACIER 30 days after they came"},
		{google, "the bucket deletes objects below prefix/ 30 days after they came"},
		{plain, ""}, {azure, ""},
	} {
		steps, err := places(t, c.place).Test(t.Context(), "lab")
		require.NoError(t, err)
		said := ""
		for _, s := range steps {
			assert.True(t, s.Good, s)
			if s.What == "rules" {
				said = s.Said
			}
		}
		assert.Equal(t, c.want, said, c.place.Address)
	}
}

// TestAnArchivedObject says that an object has to be restored, and takes it when it is.
func TestAnArchivedObject(t *testing.T) {
	t.Parallel()
	store := newStore()
	server := httptest.NewServer(&azureServer{store, "/acct/lab"})
	t.Cleanup(server.Close)
	l := placetest.At(t, places(t, settings.Place{Address: "azblob://lab", Endpoint: server.URL + "/acct", Password: "?sv=2026-01-01&sig=secret"}), "place:lab")
	store.put("a.csv", []byte("x\n1\n"))
	store.move("a.csv", "Archive")
	const why = "lies in the archive class Archive; have it restored"
	assert.Equal(t, []string{"a.csv 4 " + why}, placetest.Listed(t, l))
	archived, err := l.Stat("a.csv")
	require.NoError(t, err)
	assert.Equal(t, why, archived.Problem)
	store.move("a.csv", "Hot")
	assert.Equal(t, []string{"a.csv 4 "}, placetest.Listed(t, l))
	restored, err := l.Stat("a.csv")
	require.NoError(t, err)
	assert.False(t, restored.Same(archived), "so that it is looked at again")
}

// TestABucketThatIsNotThere is away, and none of its objects is gone.
func TestABucketThatIsNotThere(t *testing.T) {
	t.Parallel()
	s, _ := fakeAmazon(t)
	s.Address = "s3://other"
	l := placetest.At(t, places(t, s), "place:lab")
	err := l.List(t.Context(), func(string) bool { return true }, func(landing.Entry) error { return nil })
	require.ErrorAs(t, err, new(*landing.AwayError))
	_, err = l.Open("a.csv")
	require.ErrorAs(t, err, new(*landing.AwayError))
}

// flaky passes requests on, of which it turns some down.
type flaky struct {
	to   http.Handler
	each int
	n    int
}

// ServeHTTP answers every nth request as a store does that has too much to do.
func (f *flaky) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if f.n++; f.n%f.each == 0 {
		w.WriteHeader(http.StatusServiceUnavailable)
		fmt.Fprint(w, `<?xml version="1.0"?><Error><Code>SlowDown</Code><Message>Reduce your request rate.</Message></Error>`)
		return
	}
	f.to.ServeHTTP(w, r)
}

// TestManyObjects lists 12,000 objects in pages, of a store that turns a fifth of the requests down.
func TestManyObjects(t *testing.T) {
	t.Parallel()
	const many = 12_000
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("lab"))
	for i := range many {
		_, err := memory.PutObject("lab", fmt.Sprintf("in/%05d.csv", i), map[string]string{}, bytes.NewReader(nil), 0, nil)
		require.NoError(t, err)
	}
	server := httptest.NewServer(&flaky{to: gofakes3.New(memory).Server(), each: 5})
	t.Cleanup(server.Close)
	d, err := Dial(context.Background(), settings.Place{Address: "s3://lab", User: "key", Password: "secret", Endpoint: server.URL})
	require.NoError(t, err)
	defer d.Close()
	seen := map[string]bool{}
	require.NoError(t, d.List(t.Context(), "in", func(e landing.Entry) error {
		assert.False(t, seen[e.Path], e.Path)
		seen[e.Path] = true
		return nil
	}))
	assert.Len(t, seen, many)
	require.NoError(t, d.Put(t.Context(), "new/a.csv", bytes.NewReader([]byte("x\n1\n"))))
	opened, err := d.Open(t.Context(), "new/a.csv", 2, mustStat(t, d, "new/a.csv"))
	require.NoError(t, err)
	rest, err := io.ReadAll(opened)
	require.NoError(t, err)
	assert.Equal(t, "1\n", string(rest))
	require.NoError(t, opened.Close())
}

func mustStat(t *testing.T, d place.Driver, p string) landing.Entry {
	t.Helper()
	e, err := d.Stat(t.Context(), p)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), e.Modified, time.Minute)
	return e
}

// TestDocumentedStores has the object stores of docs/places.md work as they are written there, but for where they are and who
// signs in.
func TestDocumentedStores(t *testing.T) {
	t.Parallel()
	stores := 0
	for name, s := range placetest.Documented(t, "../../../docs/places.md") {
		begin := standIns[s.Kind()]
		if begin == nil {
			continue
		}
		stores++
		here, write := begin(t)
		s.Address, s.Endpoint, s.User, s.Password, s.PasswordFile, s.KeyFile, s.Anonymous = here.Address, here.Endpoint, here.User, here.Password,
			"", "", here.Anonymous
		write("2026/a.csv", []byte("x\n1\n"))
		p := place.New(place.Options{Spool: t.TempDir(), SpoolBytes: 1 << 20, Roots: []string{t.TempDir()}, Objects: Dial})
		p.Set(map[string]settings.Place{name: s})
		steps, err := p.Test(t.Context(), name)
		require.NoError(t, err)
		for _, step := range steps {
			assert.True(t, step.Good, "%s: %v", name, step)
		}
		files, _, err := p.Browse(t.Context(), name, "2026", 10)
		require.NoError(t, err)
		assert.Len(t, files, 1, name)
		p.Set(nil)
	}
	assert.Equal(t, len(standIns), stores)
}
