package place

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"

	"mullein/internal/settings"
)

// tlsOf returns how a place's certificate is looked at.
func tlsOf(s *settings.Place, host string) (*tls.Config, error) {
	c := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, ClientSessionCache: tls.NewLRUClientSessionCache(4)}
	if s.Authority != "" {
		text, err := os.ReadFile(s.Authority)
		if err != nil {
			return nil, err
		}
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("%s: no certificate in it", s.Authority)
		}
	}
	if s.Certificate != "" {
		wanted := strings.ToLower(strings.ReplaceAll(s.Certificate, ":", ""))
		c.InsecureSkipVerify = true // VerifyConnection does it
		c.VerifyConnection = func(state tls.ConnectionState) error {
			if len(state.PeerCertificates) == 0 {
				return errors.New("the host shows no certificate")
			}
			sum := sha256.Sum256(state.PeerCertificates[0].Raw)
			if shown := hex.EncodeToString(sum[:]); shown != wanted {
				return fmt.Errorf("the host shows another certificate than the settings say, with the SHA-256 %s", shown)
			}
			return nil
		}
	}
	return c, nil
}
