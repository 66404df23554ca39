package server

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"
	"sync"
	"time"

	"mullein/internal/settings"
)

// certificate is a certificate of files, which is read again when they change.
type certificate struct {
	of   settings.TLS
	mu   sync.Mutex
	at   [2]time.Time // when the files were changed
	held *tls.Certificate
	ends time.Time
}

// newCertificate reads a certificate.
func newCertificate(of settings.TLS) (*certificate, error) {
	c := &certificate{of: of}
	return c, c.read()
}

// read takes up the files.
func (c *certificate) read() error {
	var at [2]time.Time
	for i, file := range []string{c.of.Certificate, c.of.Key} {
		info, err := os.Stat(file)
		if err != nil {
			return fmt.Errorf("the service's certificate: %w", err)
		}
		at[i] = info.ModTime()
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if at == c.at {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.of.Certificate, c.of.Key)
	if err != nil {
		return fmt.Errorf("the service's certificate: %w", err)
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return fmt.Errorf("the service's certificate: %w", err)
	}
	c.at, c.held, c.ends = at, &pair, leaf.NotAfter
	return nil
}

// get returns the certificate to show.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held, nil
}

// toldAhead is how long before a certificate or a credential ends people are told.
const toldAhead = 14 * 24 * time.Hour

// endsSoon says of a certificate that it ends soon.
func (c *certificate) endsSoon() map[string]string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Until(c.ends) > toldAhead {
		return nil
	}
	return map[string]string{c.of.Certificate: "the service's certificate ends at " + c.ends.UTC().Format(time.RFC3339)}
}

// keep reads the files again when they change, until ctx ends. Those that are wrong are said, and
// the old ones stay.
func (c *certificate) keep(ctx context.Context, say func(string, ...any)) {
	const every = 2 * time.Second
	said := ""
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		err := c.read()
		text := ""
		if err != nil {
			text = err.Error()
		}
		if text != said && text != "" {
			say("the certificate could not be read again; the old one stays", "error", err)
		}
		said = text
	}
}
