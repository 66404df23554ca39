package notice

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	webhook "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/settings"
)

// post office takes mails in.
type postOffice struct {
	mu    sync.Mutex
	mails []string
	to    []string
	say   error // to who sends to somebody
	addr  string
}

func (p *postOffice) NewSession(*smtp.Conn) (smtp.Session, error) { return p, nil }
func (p *postOffice) Reset()                                      {}
func (p *postOffice) Logout() error                               { return nil }
func (p *postOffice) Mail(string, *smtp.MailOptions) error        { return nil }

func (p *postOffice) Rcpt(to string, _ *smtp.RcptOptions) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.to = append(p.to, to)
	return p.say
}

func (p *postOffice) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mails = append(p.mails, string(text))
	return err
}

func (p *postOffice) all() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]string{}, p.mails...)
}

func newPostOffice(t *testing.T) *postOffice {
	t.Helper()
	p := &postOffice{}
	s := smtp.NewServer(p)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p.addr = l.Addr().String()
	done := make(chan error, 1)
	go func() { done <- s.Serve(l) }()
	t.Cleanup(func() {
		assert.NoError(t, s.Close())
		<-done
	})
	return p
}

func (p *postOffice) outlet() settings.Outlet {
	return settings.Outlet{Mail: p.addr, TLS: "none", From: "mullein@sorrel.example", To: []string{"duty@sorrel.example"}}
}

// bodies returns the parts of a mail by their types.
func bodies(t *testing.T, text string) (*mail.Message, map[string]string) {
	t.Helper()
	m, err := mail.ReadMessage(strings.NewReader(text))
	require.NoError(t, err)
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	require.NoError(t, err)
	out := map[string]string{}
	for r := multipart.NewReader(m.Body, params["boundary"]); ; {
		p, err := r.NextRawPart()
		if err == io.EOF {
			return m, out
		}
		require.NoError(t, err)
		kind, _, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
		require.NoError(t, err)
		body, err := io.ReadAll(quotedprintable.NewReader(p))
		require.NoError(t, err)
		out[kind] = string(body)
	}
}

func message() *Message {
	return &Message{ID: "12", To: []string{"owner@sorrel.example"}, Subject: "Pegel fehlt: ü", Text: "plain ü\n", HTML: "<p>same</p>",
		Event: json.RawMessage(`{"specversion":"1.0","id":"notice-12","type":"mullein.missing"}`), Env: []string{"MULLEIN_FEED=gauges"}}
}

func TestMail(t *testing.T) {
	t.Parallel()
	p := newPostOffice(t)
	_, err := Send(context.Background(), p.outlet(), message())
	require.NoError(t, err)
	require.Len(t, p.all(), 1)
	m, parts := bodies(t, p.all()[0])
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	require.NoError(t, err)
	assert.Equal(t, "Pegel fehlt: ü", subject)
	assert.Equal(t, "<mullein-12@sorrel.example>", m.Header.Get("Message-ID"), "the same at each attempt")
	assert.Equal(t, "auto-generated", m.Header.Get("Auto-Submitted"))
	assert.Equal(t, []string{"owner@sorrel.example"}, p.to)
	assert.Equal(t, "plain ü\n", strings.ReplaceAll(parts["text/plain"], "\r", ""))
	assert.Contains(t, parts["text/html"], "<p>same</p>")
	m2 := message()
	m2.To = nil
	_, err = Send(context.Background(), p.outlet(), m2)
	require.NoError(t, err)
	assert.Equal(t, []string{"owner@sorrel.example", "duty@sorrel.example"}, p.to)
}

func TestMailServersThatSayNo(t *testing.T) {
	t.Parallel()
	p := newPostOffice(t)
	var refused *RefusedError
	p.say = &smtp.SMTPError{Code: 550, Message: "no such user"}
	_, err := Send(context.Background(), p.outlet(), message())
	assert.ErrorAs(t, err, &refused)
	assert.ErrorContains(t, err, "no such user")
	p.say = &smtp.SMTPError{Code: 450, Message: "try later"}
	_, err = Send(context.Background(), p.outlet(), message())
	assert.ErrorContains(t, err, "try later")
	assert.NotErrorAs(t, err, &refused)
	o := p.outlet()
	o.TLS = "starttls"
	_, err = Send(context.Background(), o, message())
	assert.ErrorContains(t, err, "STARTTLS", "nothing goes out without encryption")
	assert.Empty(t, p.all())
	assert.NotErrorAs(t, err, &refused)
}

// silent is a server that takes connections and says nothing.
func silent(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l.Addr().String()
}

func TestServersThatNeverAnswer(t *testing.T) {
	t.Parallel()
	limit := settings.Span(100 * time.Millisecond)
	for _, o := range []settings.Outlet{
		{Mail: silent(t), TLS: "none", From: "a@sorrel.example", TimeLimit: limit},
		{Hook: "http://" + silent(t), Secret: testSecret, TimeLimit: limit},
		{Command: []string{"/bin/sh", "-c", "sleep 60 & sleep 60"}, TimeLimit: limit},
	} {
		began := time.Now()
		_, err := Send(context.Background(), o, message())
		assert.Error(t, err)
		assert.Less(t, time.Since(began), 10*time.Second)
	}
}

var testSecret = "whsec_" + base64.StdEncoding.EncodeToString([]byte("0123456789012345678901234567890"))

func TestHook(t *testing.T) {
	t.Parallel()
	verify, err := webhook.NewWebhook(testSecret)
	require.NoError(t, err)
	got := make(chan error, 1)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err == nil {
			err = verify.Verify(body, r.Header)
		}
		got <- err
		assert.Equal(t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
		_, _ = io.WriteString(w, "thanks")
	}))
	defer s.Close()
	file := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(file, []byte(testSecret+"\n"), 0o600))
	answer, err := Send(context.Background(), settings.Outlet{Hook: s.URL, SecretFile: file}, message())
	require.NoError(t, err)
	assert.NoError(t, <-got, "the signature is that of Standard Webhooks")
	assert.Equal(t, "200 OK thanks", answer)
	_, err = Send(context.Background(), settings.Outlet{Hook: s.URL, SecretFile: file + "x"}, message())
	assert.ErrorContains(t, err, "read the secret")
}

func TestHooksThatSayNo(t *testing.T) {
	t.Parallel()
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("a redirect was followed") }))
	defer inside.Close()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/redirect":
			http.Redirect(w, r, inside.URL, http.StatusTemporaryRedirect)
		case "/down":
			http.Error(w, "down", http.StatusInternalServerError)
		case "/bad":
			http.Error(w, "no such thing", http.StatusBadRequest)
		case "/large":
			block := make([]byte, 1<<16)
			for range 1 << 14 { // a GiB, unless the other side hangs up
				if _, err := w.Write(block); err != nil {
					return
				}
			}
		}
	}))
	defer s.Close()
	for path, want := range map[string]struct {
		says    string
		forGood bool
	}{"/redirect": {"redirects are not followed", false}, "/down": {"500", false}, "/bad": {"400", true}} {
		_, err := Send(context.Background(), settings.Outlet{Hook: s.URL + path, Secret: testSecret}, message())
		assert.ErrorContains(t, err, want.says)
		var refused *RefusedError
		if want.forGood {
			assert.ErrorAs(t, err, &refused)
		} else {
			assert.NotErrorAs(t, err, &refused)
		}
	}
	answer, err := Send(context.Background(), settings.Outlet{Hook: s.URL + "/large", Secret: testSecret}, message())
	assert.NoError(t, err)
	assert.LessOrEqual(t, len(answer), answerKept)
}

func TestCommand(t *testing.T) {
	t.Parallel()
	answer, err := Send(context.Background(), settings.Outlet{Command: []string{"/bin/sh", "-c",
		`cat; echo " of $MULLEIN_FEED, $MULLEIN_SUBJECT, ${HOME:-no home}"`}}, message())
	require.NoError(t, err)
	assert.Equal(t, string(message().Event)+" of gauges, Pegel fehlt: ü, no home", answer)
	answer, err = Send(context.Background(), settings.Outlet{Command: []string{"/bin/sh", "-c", "echo oh no; exit 3"}}, message())
	assert.ErrorContains(t, err, "exit status 3")
	assert.Equal(t, "oh no", answer)
	answer, err = Send(context.Background(), settings.Outlet{Command: []string{"/bin/sh", "-c", "yes | head -c 10000000"}}, message())
	assert.NoError(t, err)
	assert.LessOrEqual(t, len(answer), answerKept)
	_, err = Send(context.Background(), settings.Outlet{Command: []string{"/nowhere/program"}}, message())
	assert.ErrorContains(t, err, "no such file")
}
