package settings

import (
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"mullein/internal/core/feed"
)

// Settings is all that can be said of a service.
type Settings struct {
	Listen          string            `json:"listen" doc:"The address and port that the service listens on; port 0 takes a free one."`
	Address         string            `json:"address" doc:"The console's address as people reach it, such as https://mullein.sorrel.example/loads, for links in notices; its path is the one that a proxy has the service under. Default: that of listen."`
	Proxies         []string          `json:"proxies" doc:"Addresses of proxies, or networks such as 10.1.0.0/16, that say where calls come from by X-Forwarded-For. Default: none is believed."`
	SignIn          SignIn            `json:"sign_in" doc:"How people sign in to the console."`
	TLS             *TLS              `json:"tls" doc:"The service's own certificate; it answers by https then. Default: it answers by http."`
	Database        string            `json:"database" secret:"true" doc:"The URL of the PostgreSQL database with the records. Default: a server of its own on loopback."`
	LandingRoots    []string          `json:"landing_roots" doc:"Folders below which landings may be. Default: the folder landings in the home folder."`
	Connections     map[string]string `json:"connections" secret:"true" doc:"URLs of further databases with targets, by name. Extracts read them too, and those of mysql://."`
	Sessions        int               `json:"sessions" doc:"Sessions of each database with targets, at the most; 3 or more."`
	RecordSessions  int               `json:"record_sessions" doc:"Sessions of the database with the records, at the most; 3 or more."`
	AddedColumns    int               `json:"added_columns" doc:"Columns that a file may add to a table with extra_columns: add, at the most; 1 or more."`
	Traces          string            `json:"traces" doc:"Where traces of arrivals are sent by OTLP over HTTP, such as http://127.0.0.1:4318/v1/traces. Default: nowhere."`
	Places          map[string]Place  `json:"places" doc:"Locations outside of this machine where files lie, by name: a-z, 0-9 and -. Feeds name them, as in at: place:upper-catchment/outgoing."`
	Queues          map[string]Queue  `json:"queues" doc:"Queues of messages that say that something new may lie somewhere, by name: a-z, 0-9 and -."`
	NudgeSecret     string            `json:"nudge_secret" secret:"true" doc:"What nudges are signed with that come without a token: whsec_ and 24 to 64 bytes in base64, as Standard Webhooks says. Default: each needs a token."`
	NudgeSecretFile string            `json:"nudge_secret_file" doc:"A file with the secret, read when it is needed."`
	Records         Records           `json:"records" doc:"When rows that senders without files have posted become a file of the landing: whatever comes first."`
	SpoolBytes      Size              `json:"spool_bytes" doc:"Room on the local disk for bytes of files of places while they are read; a larger file is read without."`
	Price           Price             `json:"price" doc:"What work costs, for mullein volumes. Default: nothing is said of it."`
	Keep            Keep              `json:"keep" doc:"How long records are kept; 0 for ever."`
	Outlets         map[string]Outlet `json:"outlets" doc:"Ways out of the service for notices and events, by name: a-z, 0-9 and -."`
	Tell            []Tell            `json:"tell" doc:"Who is told of what, of feeds that do not say it themselves."`
}

// SignIn says how people sign in.
type SignIn struct {
	Idle   Span    `json:"idle" doc:"A session ends when it was not used for so long."`
	Whole  Span    `json:"whole" doc:"A session ends after so long."`
	OpenID *OpenID `json:"openid" doc:"A provider of OpenID Connect. Its redirect address is that of the service with /sign-in/openid/back behind it. Default: people sign in by a password, a link or a token."`
}

// OpenID is a provider of OpenID Connect.
type OpenID struct {
	Name       string   `json:"name" doc:"What people call it, on the button."`
	Issuer     string   `json:"issuer" doc:"Its address, as its tokens say it."`
	Client     string   `json:"client" doc:"What it calls the service."`
	Secret     string   `json:"secret" secret:"true" doc:"The secret that it gave the service."`
	SecretFile string   `json:"secret_file" doc:"A file with the secret, read when it is needed."`
	Scopes     []string `json:"scopes" doc:"What is asked for beside openid. Default: profile and email."`
	Claim      string   `json:"claim" doc:"The claim that lists a person's groups. Default: groups."`
	Groups     []Group  `json:"groups" doc:"What groups may; of several, the first that a person is in counts. Who is in none may not sign in."`
}

// Group is what people of a group may.
type Group struct {
	Group string   `json:"group" doc:"Its name, as the provider says it."`
	Role  string   `json:"role" enum:"look,operate,own" doc:"look, operate or own."`
	Feeds []string `json:"feeds" doc:"Patterns of the feeds that they may change, and whose data they see; * stands for any characters. Default: all."`
	Blind bool     `json:"blind" doc:"Rows of tables, and rejects, are not shown."`
}

// TLS is a certificate with its key.
type TLS struct {
	Certificate string `json:"certificate" doc:"A file with the certificate and those between it and its root, as PEM; read again when it changes."`
	Key         string `json:"key" doc:"A file with its key, as PEM."`
}

// Records says when rows that were posted become a file.
type Records struct {
	After Span `json:"after" doc:"So long after the first of them."`
	Rows  int  `json:"rows" doc:"So many rows."`
	Bytes Size `json:"bytes" doc:"So many bytes."`
}

// Price turns work into money.
type Price struct {
	Second   float64 `json:"second" doc:"Of a second of work."`
	Gigabyte float64 `json:"gigabyte" doc:"Of a GB that was read."`
	Requests float64 `json:"requests" doc:"Of 1,000 requests that were made of places."`
	Currency string  `json:"currency" doc:"Such as EUR."`
}

// Keep says how long records are kept; 0 for ever.
type Keep struct {
	Rejects   Span `json:"rejects" doc:"The texts of rejects; what was counted stays."`
	Events    Span `json:"events" doc:"Events, for programs that go on after one."`
	Runs      Span `json:"runs" doc:"Runs, and windows of extracts."`
	Checks    Span `json:"checks" doc:"What checks saw."`
	Slots     Span `json:"slots" doc:"Slots."`
	Decisions Span `json:"decisions" doc:"What people decided."`
	Arrivals  Span `json:"arrivals" doc:"Earlier versions of files that are not what is loaded."`
	Order     Span `json:"order" doc:"Deleted keys, and what else tells late rows from new ones."`
	Notices   Span `json:"notices" doc:"Notices, and problems that are over."`
}

// Outlet is a way out of the service: a mail server, a web hook, a program of the host, or a catalog that takes
// lineage.
type Outlet struct {
	Mail         string   `json:"mail" doc:"The mail server, as host:port. One of mail, hook, command and lineage is needed."`
	TLS          string   `json:"tls" enum:"starttls,implicit,none" doc:"How the way to the mail server is encrypted; none only on this machine. Default: starttls."`
	User         string   `json:"user" doc:"Who signs in at the mail server. Default: nobody does."`
	Password     string   `json:"password" secret:"true" doc:"The user's password."`
	PasswordFile string   `json:"password_file" doc:"A file with the password, read when it is needed."`
	From         string   `json:"from" doc:"The sender of mails."`
	To           []string `json:"to" doc:"Who gets the mails, where tell does not say it."`
	Hook         string   `json:"hook" doc:"The URL that messages are posted to; https, or http on this machine."`
	Secret       string   `json:"secret" secret:"true" doc:"Of a hook, what posts are signed with: whsec_ and 24 to 64 bytes in base64, as Standard Webhooks says."`
	SecretFile   string   `json:"secret_file" doc:"A file with the secret, read when it is needed."`
	Command      []string `json:"command" doc:"A program of the host and its arguments. It gets the message on its standard input."`
	Lineage      string   `json:"lineage" doc:"Where OpenLineage run events go, of each attempt at a load: an address such as https://catalog.sorrel.example/api/v1/lineage, or a file with its whole path, a line each. Only loaded can be told there; secret is its bearer token."`
	Namespace    string   `json:"namespace" doc:"The namespace of jobs in lineage. Default: mullein."`
	TimeLimit    Span     `json:"time_limit" doc:"How long a message may take to be handed over. Default: 30s."`
	Quiet        *Quiet   `json:"quiet" doc:"Hours in which nothing is sent; what came up is told after them."`
	Daily        *Daily   `json:"daily" doc:"A summary each day: what came, what did not, what waits for whom."`
}

// Quiet is hours in which nothing is sent.
type Quiet struct {
	From string   `json:"from" doc:"When they begin, as HH:MM."`
	To   string   `json:"to" doc:"When they end, as HH:MM."`
	Zone string   `json:"zone" doc:"The time zone. Default: UTC."`
	But  []string `json:"but" doc:"What is told all the same, as in tell."`
}

// Daily is when a summary of the day is sent.
type Daily struct {
	At   string `json:"at" doc:"When, as HH:MM."`
	Zone string `json:"zone" doc:"The time zone. Default: UTC."`
}

// Tell says who is told of what.
type Tell struct {
	Of        []string `json:"of" doc:"Of what."`
	By        string   `json:"by" doc:"The outlet."`
	After     Span     `json:"after" doc:"Only when it has lasted so long. Default: 0."`
	To        string   `json:"to" doc:"owner, supplier, or a mail address. Default: whom the outlet names."`
	Feeds     []string `json:"feeds" doc:"Only of these feeds; * stands for any characters. Default: all."`
	Owners    []string `json:"owners" doc:"Only of feeds with these owners; * stands for any characters."`
	Suppliers []string `json:"suppliers" doc:"Only of feeds of these suppliers; * stands for any characters."`
}

// Span is a duration as feed files write it.
type Span time.Duration

// String writes it.
func (s Span) String() string { return feed.Span(time.Duration(s)) }

// MarshalText writes it.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads it.
func (s *Span) UnmarshalText(text []byte) error {
	d, err := feed.ParseSpan(string(text))
	*s = Span(d)
	return err
}

// UnmarshalYAML reads it, and says where it is wrong.
func (s *Span) UnmarshalYAML(node ast.Node) error {
	if err := s.UnmarshalText([]byte(node.GetToken().Value)); err != nil {
		return &yaml.SyntaxError{Message: err.Error(), Token: node.GetToken()}
	}
	return nil
}

// Set reads it, as a flag does.
func (s *Span) Set(text string) error { return s.UnmarshalText([]byte(text)) }

// Type is what help calls it.
func (s *Span) Type() string { return "duration" }

const day = Span(24 * time.Hour)

// Default is what holds where nothing is said.
func Default() Settings {
	return Settings{Listen: "127.0.0.1:8471", Sessions: 16, RecordSessions: 8, AddedColumns: 100, SpoolBytes: 8 << 30, Records: Records{After: 10 * Span(time.Second), Rows: 100_000, Bytes: 16 << 20},
		SignIn: SignIn{Idle: 12 * Span(time.Hour), Whole: 7 * day},
		Keep: Keep{Rejects: 90 * day, Events: 7 * day, Runs: 400 * day, Checks: 400 * day, Slots: 400 * day,
			Decisions: 3 * 365 * day, Arrivals: 3 * 365 * day, Order: 400 * day, Notices: 90 * day}}
}
