package objects

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/require"

	"mullein/internal/landing"
	"mullein/internal/settings"
)

// BenchmarkObjects lists 100,000 and a million objects of a stand-in.
func BenchmarkObjects(b *testing.B) {
	for _, many := range []int{100_000, 1_000_000} {
		b.Run(fmt.Sprint(many), func(b *testing.B) {
			memory := s3mem.New()
			require.NoError(b, memory.CreateBucket("lab"))
			at := map[string]string{"Last-Modified": time.Now().UTC().Format(http.TimeFormat)}
			for i := range many {
				_, err := memory.PutObject("lab", fmt.Sprintf("in/%07d.csv", i), at, bytes.NewReader(nil), 0, nil)
				require.NoError(b, err)
			}
			server := httptest.NewServer(gofakes3.New(memory).Server())
			b.Cleanup(server.Close)
			d, err := Dial(b.Context(), settings.Place{Address: "s3://lab", User: "key", Password: "secret", Endpoint: server.URL})
			require.NoError(b, err)
			b.Cleanup(func() { d.Close() })
			for b.Loop() {
				n := 0
				require.NoError(b, d.List(b.Context(), "in", func(landing.Entry) error {
					n++
					return nil
				}))
				require.Equal(b, many, n)
			}
		})
	}
}
