package settings

import (
	"encoding/base64"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"mullein/internal/core/feed"
)

// Place is a location outside of this machine where files lie.
type Place struct {
	Address        string   `json:"address" doc:"Where it is: sftp://host/folder, ftp:// or ftps://host/folder, https://host/folder, s3://bucket/prefix, azblob://container/prefix or gs://bucket/prefix."`
	User           string   `json:"user" doc:"Who signs in. Of s3 the access key; of azblob the storage account. Default: nobody, or whom the vendor's usual variables and files name."`
	Password       string   `json:"password" secret:"true" doc:"The user's password. Of s3 the secret key; of azblob the account's key, or a SAS that begins with ?; of https, without a user, a bearer token."`
	PasswordFile   string   `json:"password_file" doc:"A file with the password, read at each sign-in."`
	KeyFile        string   `json:"key_file" doc:"Of sftp: a file with the user's private key. Of gs: one with a service account's key."`
	Passphrase     string   `json:"passphrase" secret:"true" doc:"Of the private key."`
	PassphraseFile string   `json:"passphrase_file" doc:"A file with the passphrase."`
	Agent          bool     `json:"agent" doc:"Of sftp: the keys of the agent at SSH_AUTH_SOCK are tried."`
	HostKeys       []string `json:"host_keys" doc:"Of sftp, needed: the host's keys, as SHA256:... or as a line of a public key file. mullein place test says what the host shows."`
	Authority      string   `json:"authority" doc:"Of ftp, ftps and https: a file with the certificate authority that the host's certificate is of, as PEM. Default: those of the system."`
	Certificate    string   `json:"certificate" doc:"Of ftp, ftps and https: the SHA-256 of the host's certificate, hexadecimal. It is trusted then whoever signed it."`
	TLS            string   `json:"tls" enum:"explicit,none" doc:"Of ftp: explicit, or none, which sends the password in the clear. Default: explicit."`
	Anonymous      bool     `json:"anonymous" doc:"Of object stores: nobody signs in."`
	Region         string   `json:"region" doc:"Of s3. Default: as AWS_REGION says, else us-east-1."`
	Endpoint       string   `json:"endpoint" doc:"Of object stores: the address of the service, where it is not the vendor's own."`
	Connections    int      `json:"connections" doc:"At a time, at the most. Default: 4."`
	BytesASecond   Size     `json:"bytes_a_second" doc:"At the most, of all connections. Default: no limit."`
	RequestsPerMin int      `json:"requests_a_minute" doc:"At the most. Default: no limit."`
	Every          Span     `json:"every" doc:"The least time between two listings of a folder. Default: 2s; 15s of object stores and https."`
	Zone           string   `json:"zone" doc:"Of ftp: the time zone of its listings, where they say none. Default: UTC."`
	LookBack       Span     `json:"look_back" doc:"Of https: how far back names with times are asked for. Default: 3d."`
	Until          string   `json:"until" doc:"The day on which its password or key ends, as 2027-03-31; people are told two weeks ahead."`
}

// The kinds of places, by the schemes of their addresses.
const (
	SFTP   = "sftp"
	FTP    = "ftp"
	FTPS   = "ftps"
	HTTP   = "http"
	HTTPS  = "https"
	S3     = "s3"
	Azure  = "azblob"
	Google = "gs"
)

// Kind returns the scheme of the address.
func (p *Place) Kind() string {
	kind, _, _ := strings.Cut(p.Address, "://")
	return kind
}

// IsObjects reports whether the place is an object store.
func (p *Place) IsObjects() bool { return slices.Contains([]string{S3, Azure, Google}, p.Kind()) }

// IsHTTP reports whether files of the place are asked for by their addresses.
func (p *Place) IsHTTP() bool { return p.Kind() == HTTP || p.Kind() == HTTPS }

// PasswordNow returns the password, as it is now.
func (p *Place) PasswordNow() (string, error) { return secretNow(p.Password, p.PasswordFile) }

// PassphraseNow returns the passphrase, as it is now.
func (p *Place) PassphraseNow() (string, error) { return secretNow(p.Passphrase, p.PassphraseFile) }

// NudgeSecretNow returns what nudges are signed with, as it is now; "" for nothing.
func (s *Settings) NudgeSecretNow() (string, error) {
	return secretNow(s.NudgeSecret, s.NudgeSecretFile)
}

func secretNow(secret, file string) (string, error) {
	if file == "" {
		return secret, nil
	}
	text, err := os.ReadFile(file)
	return strings.TrimRight(string(text), "\r\n"), err
}

// EndsOn returns when the credential ends; zero where that is not said.
func (p *Place) EndsOn() time.Time {
	end, err := time.Parse(time.DateOnly, p.Until)
	if err != nil {
		return time.Time{}
	}
	return end
}

// Size is a number of bytes as feed files write it.
type Size int64

// UnmarshalText reads it.
func (s *Size) UnmarshalText(text []byte) error {
	n, err := feed.ParseSize(string(text))
	*s = Size(n)
	return err
}

// MarshalText writes it.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// String writes it.
func (s Size) String() string {
	units := []string{"B", "KiB", "MiB", "GiB"}
	n, at := int64(s), 0
	for n != 0 && n%1024 == 0 && at < len(units)-1 {
		n, at = n/1024, at+1
	}
	return strconv.FormatInt(n, 10) + units[at]
}

// UnmarshalYAML reads it, and says where it is wrong.
func (s *Size) UnmarshalYAML(node ast.Node) error {
	if err := s.UnmarshalText([]byte(node.GetToken().Value)); err != nil {
		return &yaml.SyntaxError{Message: err.Error(), Token: node.GetToken()}
	}
	return nil
}

// places says what is wrong with places.
func (c *checker) places() {
	for _, name := range slices.Sorted(maps.Keys(c.l.Places)) {
		p := c.l.Places[name]
		c.place("places."+name, name, &p)
	}
}

func (c *checker) place(path, name string, p *Place) {
	if !outletName.MatchString(name) {
		c.fail(path, "a name is made of a-z, 0-9 and -")
	}
	at, err := url.Parse(p.Address)
	kinds := []string{SFTP, FTP, FTPS, HTTP, HTTPS, S3, Azure, Google}
	switch {
	case err != nil || at.Host == "" || !slices.Contains(kinds, at.Scheme):
		c.fail(path+".address", "%q is no address such as sftp://host/folder; the kinds are %s", p.Address, strings.Join(kinds, ", "))
		return
	case at.User != nil || at.RawQuery != "" || at.Fragment != "":
		c.fail(path+".address", "an address has no user, no secret and no parameters; they are settings of their own")
	case at.Scheme == HTTP && !isLocal(at.Hostname()) && (p.Password != "" || p.PasswordFile != ""):
		c.fail(path+".address", "a password goes by https only")
	}
	for setting, of := range map[string]struct {
		given bool
		kinds []string
	}{
		"key_file": {p.KeyFile != "", []string{SFTP, Google}}, "passphrase": {p.Passphrase != "" || p.PassphraseFile != "", []string{SFTP}},
		"agent": {p.Agent, []string{SFTP}}, "host_keys": {len(p.HostKeys) > 0, []string{SFTP}},
		"authority": {p.Authority != "", []string{FTP, FTPS, HTTPS}}, "certificate": {p.Certificate != "", []string{FTP, FTPS, HTTPS}},
		"tls": {p.TLS != "", []string{FTP}}, "zone": {p.Zone != "", []string{FTP, FTPS}},
		"look_back": {p.LookBack != 0, []string{HTTP, HTTPS}}, "region": {p.Region != "", []string{S3}},
		"endpoint":  {p.Endpoint != "", []string{S3, Azure, Google}},
		"anonymous": {p.Anonymous, []string{S3, Azure, Google}},
	} {
		if of.given && !slices.Contains(of.kinds, at.Scheme) {
			c.fail(path+"."+setting, "only of %s", strings.Join(of.kinds, ", "))
		}
	}
	for i, key := range p.HostKeys {
		if !strings.HasPrefix(key, "SHA256:") && len(strings.Fields(key)) < 2 {
			c.fail(fmt.Sprintf("%s.host_keys.%d", path, i), "%q is neither SHA256:... nor a public key such as ssh-ed25519 AAAA...", key)
		} else if sum, is := strings.CutPrefix(key, "SHA256:"); is {
			if raw, err := base64.RawStdEncoding.DecodeString(sum); err != nil || len(raw) != 32 {
				c.fail(fmt.Sprintf("%s.host_keys.%d", path, i), "%q is no SHA-256 in base64", key)
			}
		}
	}
	if p.Password != "" && p.PasswordFile != "" {
		c.fail(path+".password_file", "give password or password_file, not both")
	}
	for setting, file := range map[string]string{"password_file": p.PasswordFile, "key_file": p.KeyFile, "passphrase_file": p.PassphraseFile,
		"authority": p.Authority} {
		if file != "" && !filepath.IsAbs(file) {
			c.fail(path+"."+setting, "%q: the file needs its whole path", file)
		}
	}
	if p.TLS != "" && p.TLS != "explicit" && p.TLS != "none" {
		c.fail(path+".tls", "%q: write explicit or none; an address with ftps:// has TLS from the first byte on", p.TLS)
	}
	if p.Connections < 0 || p.Connections > 64 {
		c.fail(path+".connections", "1 to 64")
	}
	if p.RequestsPerMin < 0 {
		c.fail(path+".requests_a_minute", "1 or more")
	}
	if p.Every < 0 || p.Every > day {
		c.fail(path+".every", "at most a day")
	}
	if p.LookBack < 0 || p.LookBack > 366*day {
		c.fail(path+".look_back", "at most 366d")
	}
	c.zone(path+".zone", p.Zone)
	if p.Until != "" && p.EndsOn().IsZero() {
		c.fail(path+".until", "%q is no day such as 2027-03-31", p.Until)
	}
}
