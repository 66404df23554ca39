package settings

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mullein/internal/core/news"
)

const whole = `listen: 127.0.0.1:9000
address: https://mullein.sorrel.example
landing_roots: [/srv/landings]
connections:
  mart: postgres://mart:pw@db.sorrel.example/mart
keep: {rejects: 30d}
outlets:
  duty-mail:
    mail: smtp.sorrel.example:587
    user: mullein
    password_file: /etc/mullein/smtp
    from: mullein@sorrel.example
    to: [duty@sorrel.example]
    quiet: {from: "22:00", to: "06:00", zone: Atlantic/Azores, but: [database]}
    daily: {at: "07:30"}
  mart-hook: {hook: "https://mart.sorrel.example/loads", secret_file: /etc/mullein/hook}
  pager: {command: [/usr/local/bin/page, --loud], time_limit: 5s}
tell:
  - {of: [missing, refused], by: duty-mail, after: 10m, to: owner, suppliers: ["Upper*"]}
  - {of: [loaded], by: mart-hook, feeds: ["gauge-*"]}
`

func read(t *testing.T, text string, environ ...string) (*Loaded, error) {
	t.Helper()
	home := t.TempDir()
	if text != "" {
		require.NoError(t, os.WriteFile(filepath.Join(home, FileName), []byte(text), 0o600))
	}
	l, err := Read(From{Home: home, Environ: environ})
	if err != nil {
		err = &plain{strings.ReplaceAll(err.Error(), home+"/", "")}
	}
	return l, err
}

type plain struct{ text string }

func (p *plain) Error() string { return p.text }

func TestAFileIsRead(t *testing.T) {
	l, err := read(t, whole)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:9000", l.Listen)
	assert.Equal(t, Span(30*24*time.Hour), l.Keep.Rejects)
	assert.Equal(t, Span(7*24*time.Hour), l.Keep.Events, "what is not said stays at its default")
	assert.Equal(t, []string{"/usr/local/bin/page", "--loud"}, l.Outlets["pager"].Command)
	assert.Equal(t, []news.Route{{Of: []news.Kind{"missing", "refused"}, By: "duty-mail", To: "owner", After: 10 * time.Minute},
		{Of: []news.Kind{"loaded"}, By: "mart-hook"}}, l.Routes("gauge-readings", "a@sorrel.example", "Upper Catchment Office"))
	assert.Len(t, l.Routes("other", "", ""), 0)
}

func TestTheEnvironmentAndFlagsWin(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "url")
	require.NoError(t, os.WriteFile(secret, []byte("postgres://x:pw@h/records\n"), 0o600))
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, FileName), []byte(whole), 0o600))
	l, err := Read(From{Home: home, Environ: []string{"MULLEIN_LISTEN=127.0.0.1:1", "MULLEIN_KEEP_EVENTS=2d",
		"MULLEIN_CONNECTION_OTHER_ONE=postgres://o/o", "MULLEIN_DATABASE_FILE=" + secret, "MULLEIN_CONNECTION_FAR_FILE=" + secret, "MULLEIN_OUTLET_PAGER_TIME_LIMIT=7s",
		"MULLEIN_LANDING_ROOTS=[/a, /b]", "MULLEIN_TELL=[{of: [held], by: pager}]"},
		Given: map[string][]string{"listen": {"127.0.0.1:2"}, "sessions": {"20"}}})
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:2", l.Listen)
	assert.Equal(t, 20, l.Sessions)
	assert.Equal(t, "postgres://x:pw@h/records", l.Database)
	assert.Equal(t, Span(48*time.Hour), l.Keep.Events)
	assert.Equal(t, "postgres://o/o", l.Connections["other-one"])
	assert.Equal(t, "postgres://x:pw@h/records", l.Connections["far"])
	assert.Equal(t, Span(7*time.Second), l.Outlets["pager"].TimeLimit)
	assert.Equal(t, []string{"/a", "/b"}, l.LandingRoots)
	assert.Equal(t, []Tell{{Of: []string{"held"}, By: "pager"}}, l.Tell)
	shown := map[string]string{}
	for _, v := range l.List() {
		shown[v.Name] = v.Value + " | " + strings.ReplaceAll(v.Source, home+"/", "")
		assert.NotContains(t, v.Value, "pw@", v.Name)
	}
	for name, want := range map[string]string{"listen": "127.0.0.1:2 | --listen", "sessions": "20 | --sessions",
		"database": "(secret) | MULLEIN_DATABASE_FILE", "connections.mart": "(secret) | mullein.yaml:5",
		"connections.other-one": "(secret) | MULLEIN_CONNECTION_OTHER_ONE", "keep.events": "2d | MULLEIN_KEEP_EVENTS",
		"keep.rejects": "30d | mullein.yaml:6", "keep.runs": "400d | default",
		"outlets.duty-mail.quiet.but": "[database] | mullein.yaml:14", "outlets.pager.time_limit": "7s | MULLEIN_OUTLET_PAGER_TIME_LIMIT"} {
		assert.Equal(t, want, shown[name], name)
	}
}

func TestWhatIsWrongIsSaidWithItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"listne: 127.0.0.1:1\n":      `mullein.yaml:1:1: unknown field "listne"; did you mean "listen"?`,
		"sessions: many\n":           "mullein.yaml:1:11: ",
		"sessions: 2\n":              "mullein.yaml:1:1: sessions: 3 or more are needed, not 2",
		"keep: {rejects: 3 weeks}\n": "mullein.yaml:1:17: \"3 weeks\" is not a duration",
		"a: [\n":                     "mullein.yaml:",
		"outlets:\n  x: {mail: \"h:1\", from: nobody, to: [a@b.example]}\n":           `mullein.yaml:2:20: outlets.x.from: "nobody" is no mail address`,
		"outlets:\n  x: {from: a@b.example}\n":                                        "mullein.yaml:2:3: outlets.x: an outlet is one of mail, hook, command and lineage; this is 0 of them",
		"outlets:\n  x: {hook: \"http://far.example\", secret_file: /x}\n":            "mullein.yaml:2:7: outlets.x.hook: a hook needs an https address, or http on this machine",
		"outlets:\n  x: {hook: \"https://far.example\"}\n":                            "mullein.yaml:2:3: outlets.x.secret_file: messages are signed; name a file with the secret, or give secret",
		"outlets:\n  x: {hook: \"https://far.example\", secret: abc}\n":               "mullein.yaml:2:36: outlets.x.secret: a secret is whsec_ and 24 to 64 bytes in base64",
		"outlets:\n  x: {mail: \"h.example:25\", tls: none, from: a@b.example}\n":     "mullein.yaml:2:29: outlets.x.tls: mail leaves this machine encrypted only; write starttls or implicit",
		"outlets:\n  x: {command: [page]}\n":                                          `mullein.yaml:2:7: outlets.x.command: "page": the program needs its whole path`,
		"outlets:\n  x: {command: [/p], quiet: {from: \"22\", to: \"06:00\"}}\n":      `mullein.yaml:2:30: outlets.x.quiet.from: "22" is no time of day; write it as 07:30`,
		"outlets:\n  x: {command: [/p]}\ntell:\n  - {of: [refusd], by: x}\n":          `mullein.yaml:4:11: tell.0.of.0: "refusd" is nothing that is told; did you mean "refused"?`,
		"outlets:\n  mail: {command: [/p]}\ntell:\n  - {of: [held], by: mial}\n":      `mullein.yaml:4:18: tell.0.by: there is no outlet "mial"; did you mean "mail"?`,
		"outlets:\n  x: {command: [/p]}\ntell:\n  - {of: [held], by: x, to: owner}\n": "mullein.yaml:4:18: tell.0.by: outlet x sends no mail, so that there is no to",
		"queues: {q: {url: \"other://x\"}}\n":                                         `mullein.yaml:1:14: queues.q.url: "other://x" is no queue; it begins with rabbit://, awssqs://, azuresb://, gcppubsub://`,
		"queues: {q: {url: \"rabbit://x\"}}\n":                                        "mullein.yaml:1:10: queues.q.server_file: the broker is needed",
		"queues: {q: {url: \"rabbit://x\", server: \"amqp://u:p@far.example/\"}}\n":   "mullein.yaml:1:33: queues.q.server: the broker needs an amqps address, or amqp on this machine",
		"queues: {q: {url: \"awssqs://x\", server: \"amqp://localhost/\"}}\n":         "mullein.yaml:1:33: queues.q.server: the server is of rabbit://",
		"queues: {Q: {url: \"awssqs://x\"}}\n":                                        "mullein.yaml:1:10: queues.Q: a name is made of a-z, 0-9 and -",
		"connections: {main: postgres://x}\n":                                         "mullein.yaml:1:15: connections.main: this is the database with the records; name it as database",
	} {
		_, err := read(t, text)
		if assert.Error(t, err, text) {
			assert.True(t, strings.HasPrefix(err.Error(), want), "%s\n%s", text, err)
			assert.NotContains(t, err.Error(), "\n")
		}
	}
	_, err := read(t, "", "MULLEIN_SESSIONS=1")
	assert.EqualError(t, err, "settings: MULLEIN_SESSIONS: 3 or more are needed, not 1")
	_, err = read(t, "", "MULLEIN_SESSIONS=few")
	assert.EqualError(t, err, `MULLEIN_SESSIONS: "few" is no whole number`)
	_, err = Read(From{Home: t.TempDir(), File: "/nowhere/mullein.yaml"})
	assert.ErrorContains(t, err, "/nowhere/mullein.yaml")
}

// FuzzRead demands an answer for any file, and that no secret is shown.
func FuzzRead(f *testing.F) {
	f.Add(whole)
	f.Add("outlets: {x: null}\ntell: [null]\n")
	f.Fuzz(func(t *testing.T, text string) {
		l := &Loaded{Settings: Default(), sources: map[string]string{}}
		if l.take("x.yaml", []byte(text)) == nil && l.check() == nil {
			l.List()
		}
	})
}
