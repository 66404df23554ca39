package objects

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/johannesboyne/gofakes3"
	"github.com/johannesboyne/gofakes3/backend/s3mem"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/settings"
)

// shown serves a store, and keeps what the last request was signed with.
type shown struct {
	store http.Handler
	last  string
}

func (s *shown) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.last = r.Header.Get("Authorization")
	s.store.ServeHTTP(w, r)
}

// TestTheVendorsOwnCredentials signs in as the vendors' usual variables and files say, where the settings name nobody.
func TestTheVendorsOwnCredentials(t *testing.T) {
	memory := s3mem.New()
	require.NoError(t, memory.CreateBucket("lab"))
	listed := func(p settings.Place, s *shown) string {
		server := httptest.NewServer(s)
		defer server.Close()
		p.Endpoint = server.URL + p.Endpoint
		steps, err := places(t, p).Test(t.Context(), "lab")
		require.NoError(t, err)
		for _, step := range steps {
			assert.True(t, step.Good, step)
		}
		return s.last
	}
	t.Setenv("AWS_ACCESS_KEY_ID", "of-the-environment")
	t.Setenv("AWS_SECRET_ACCESS_KEY", "secret")
	assert.Contains(t, listed(settings.Place{Address: "s3://lab"}, &shown{store: gofakes3.New(memory).Server()}), "Credential=of-the-environment/")
	assert.Empty(t, listed(settings.Place{Address: "s3://lab", Anonymous: true}, &shown{store: gofakes3.New(memory).Server()}))

	azure := &azureServer{newStore(), "/acct/lab"}
	signed := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.RawQuery += "&sig=secret" // this stand-in knows signatures of addresses only
		azure.ServeHTTP(w, r)
	})
	t.Setenv("AZURE_STORAGE_ACCOUNT", "acct")
	t.Setenv("AZURE_STORAGE_KEY", base64.StdEncoding.EncodeToString([]byte("a key")))
	assert.Contains(t, listed(settings.Place{Address: "azblob://lab", Endpoint: "/acct"}, &shown{store: signed}), "SharedKey acct:")
	assert.Contains(t, listed(settings.Place{Address: "azblob://lab", Endpoint: "/acct", User: "other", Password: base64.StdEncoding.EncodeToString([]byte("k"))},
		&shown{store: signed}), "SharedKey other:")

	tokens := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"access_token": "of-the-file", "token_type": "Bearer", "expires_in": 3600})
	}))
	t.Cleanup(tokens.Close)
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	text, err := json.Marshal(map[string]string{"type": "service_account", "client_email": "reader@sorrel.example", "private_key_id": "1", "token_uri": tokens.URL,
		"private_key": string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "account.json")
	require.NoError(t, os.WriteFile(file, text, 0o600))
	google := &shown{store: &googleServer{newStore(), "lab"}}
	assert.Equal(t, "Bearer of-the-file", listed(settings.Place{Address: "gs://lab", Endpoint: "/storage/v1/", KeyFile: file}, google))
	t.Setenv("GOOGLE_APPLICATION_CREDENTIALS", file)
	assert.Equal(t, "Bearer of-the-file", listed(settings.Place{Address: "gs://lab", Endpoint: "/storage/v1/"}, google))
}
