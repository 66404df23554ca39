package settings

import (
	"encoding/base64"
	"fmt"
	"maps"
	"net"
	"net/mail"
	"net/netip"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/core/spelling"
)

// checker gathers what is wrong with settings.
type checker struct {
	l    *Loaded
	file feed.Problems // what is wrong in the file
	rest []string      // what is wrong elsewhere
}

// check says what is wrong.
func (l *Loaded) check() error {
	c := &checker{l: l}
	c.numbers()
	for _, name := range slices.Sorted(maps.Keys(l.Outlets)) {
		o := l.Outlets[name]
		c.outlet("outlets."+name, name, &o)
	}
	c.places()
	c.queues()
	if r := l.Records; r.After < Span(time.Second) || r.Rows < 1 || r.Bytes < 1 {
		c.fail("records", "after is 1s or more, rows and bytes 1 or more")
	}
	if l.NudgeSecret != "" && l.NudgeSecretFile != "" {
		c.fail("nudge_secret_file", "give nudge_secret or nudge_secret_file, not both")
	}
	if l.NudgeSecret != "" {
		if _, err := SigningKey(l.NudgeSecret); err != nil {
			c.fail("nudge_secret", "%v", err)
		}
	}
	for i := range l.Tell {
		c.tell(fmt.Sprintf("tell.%d", i), &l.Tell[i])
	}
	if len(c.file) > 0 {
		return c.file
	}
	if len(c.rest) > 0 {
		return fmt.Errorf("settings: %s", strings.Join(c.rest, "; "))
	}
	return nil
}

// fail says that a setting is wrong, where it comes from.
func (c *checker) fail(path, what string, args ...any) {
	text := fmt.Sprintf(what, args...)
	source := c.l.sources[path]
	line, column, ok := c.l.at(path)
	for at := path; !ok && source == "" && strings.Contains(at, "."); { // a part of what is missing
		at = at[:strings.LastIndexByte(at, '.')]
		line, column, ok = c.l.at(at)
	}
	switch {
	case source != "":
		c.rest = append(c.rest, source+": "+text)
	case ok:
		c.file = append(c.file, feed.Problem{File: c.l.File, Line: line, Column: column, What: path + ": " + text})
	default:
		c.rest = append(c.rest, path+": "+text)
	}
}

func (c *checker) numbers() {
	s := &c.l.Settings
	for path, n := range map[string]int{"sessions": s.Sessions, "record_sessions": s.RecordSessions} {
		if n < 3 {
			c.fail(path, "3 or more are needed, not %d", n)
		}
	}
	if s.AddedColumns < 1 {
		c.fail("added_columns", "1 or more, not %d", s.AddedColumns)
	}
	if _, _, err := net.SplitHostPort(s.Listen); err != nil {
		c.fail("listen", "%q is no address and port such as 127.0.0.1:8471", s.Listen)
	}
	if at, err := url.Parse(s.Address); s.Address != "" && (err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https") {
		c.fail("address", "%q is no address such as https://mullein.sorrel.example", s.Address)
	}
	for i, p := range s.Proxies {
		if _, err := netip.ParsePrefix(p); err != nil && net.ParseIP(p) == nil {
			c.fail(fmt.Sprintf("proxies.%d", i), "%q is no address and no network such as 10.1.0.0/16", p)
		}
	}
	for path, d := range map[string]Span{"sign_in.idle": s.SignIn.Idle, "sign_in.whole": s.SignIn.Whole} {
		if d < Span(time.Minute) || d > 366*day {
			c.fail(path, "1m to 366d, not %s", d)
		}
	}
	if o := s.SignIn.OpenID; o != nil {
		c.openID(o)
	}
	if at, err := url.Parse(s.Traces); s.Traces != "" && (err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https") {
		c.fail("traces", "%q is no address such as http://127.0.0.1:4318/v1/traces", s.Traces)
	}
	if t := s.TLS; t != nil && (t.Certificate == "" || t.Key == "") {
		c.fail("tls", "certificate and key are needed, each a file")
	}
	if _, is := s.Connections[feed.MainConnection]; is {
		c.fail("connections."+feed.MainConnection, "this is the database with the records; name it as database")
	}
}

// openID says what is wrong with a provider.
func (c *checker) openID(o *OpenID) {
	const path = "sign_in.openid"
	c.reachable(path+".issuer", "a provider", o.Issuer)
	if o.Client == "" {
		c.fail(path+".client", "it is needed: what the provider calls this service")
	}
	if o.Secret != "" && o.SecretFile != "" {
		c.fail(path+".secret_file", "give secret or secret_file, not both")
	}
	if c.l.Address == "" {
		c.fail(path, "the provider sends people back to the service's address; give address")
	}
	if len(o.Groups) == 0 {
		c.fail(path+".groups", "nobody may sign in; name at least one group with its role")
	}
	for i, g := range o.Groups {
		if g.Group == "" || !slices.Contains([]string{"look", "operate", "own"}, g.Role) {
			c.fail(fmt.Sprintf("%s.groups.%d", path, i), "a group has a name, and one of the roles look, operate and own")
		}
	}
}

// reachable says whether an address is one by https, or on this machine.
func (c *checker) reachable(path, what, address string) {
	at, err := url.Parse(address)
	if err != nil || at.Host == "" || at.Scheme != "https" && (at.Scheme != "http" || !isLocal(at.Hostname())) {
		c.fail(path, "%s needs an https address, or http on this machine", what)
	}
}

var outletName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

func (c *checker) outlet(path, name string, o *Outlet) {
	if !outletName.MatchString(name) {
		c.fail(path, "a name is made of a-z, 0-9 and -")
	}
	switch ways := count(o.Mail != "", o.Hook != "", len(o.Command) > 0, o.Lineage != ""); {
	case ways != 1:
		c.fail(path, "an outlet is one of mail, hook, command and lineage; this is %d of them", ways)
	case o.Lineage != "" && o.Daily != nil:
		c.fail(path+".daily", "lineage takes run events only")
	case filepath.IsAbs(o.Lineage):
	case o.Lineage != "":
		c.reachable(path+".lineage", "lineage that goes to no file of a whole path", o.Lineage)
	case o.Mail != "":
		c.mail(path, o)
	case o.Hook != "":
		c.hook(path, o)
	case !filepath.IsAbs(o.Command[0]):
		c.fail(path+".command", "%q: the program needs its whole path", o.Command[0])
	}
	if o.TimeLimit < 0 || o.TimeLimit > Span(10*time.Minute) {
		c.fail(path+".time_limit", "at most 10m")
	}
	if q := o.Quiet; q != nil {
		c.clock(path+".quiet.from", q.From)
		c.clock(path+".quiet.to", q.To)
		c.zone(path+".quiet.zone", q.Zone)
		c.kinds(path+".quiet.but", q.But)
	}
	if d := o.Daily; d != nil {
		c.clock(path+".daily.at", d.At)
		c.zone(path+".daily.zone", d.Zone)
	}
}

func count(are ...bool) (n int) {
	for _, is := range are {
		if is {
			n++
		}
	}
	return n
}

func (c *checker) mail(path string, o *Outlet) {
	host, _, err := net.SplitHostPort(o.Mail)
	if err != nil {
		c.fail(path+".mail", "%q is no host:port such as smtp.sorrel.example:587", o.Mail)
	}
	switch o.TLS {
	case "", "starttls", "implicit":
	case "none":
		if !isLocal(host) {
			c.fail(path+".tls", "mail leaves this machine encrypted only; write starttls or implicit")
		}
	default:
		c.fail(path+".tls", "%q: write starttls, implicit or none", o.TLS)
	}
	c.address(path+".from", o.From)
	for i, to := range o.To {
		c.address(fmt.Sprintf("%s.to.%d", path, i), to)
	}
	if o.Password != "" && o.PasswordFile != "" {
		c.fail(path+".password_file", "give password or password_file, not both")
	}
}

func (c *checker) address(path, text string) {
	if _, err := mail.ParseAddress(text); err != nil {
		c.fail(path, "%q is no mail address", text)
	}
}

// isLocal reports whether a host is this machine.
func isLocal(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (c *checker) hook(path string, o *Outlet) {
	c.reachable(path+".hook", "a hook", o.Hook)
	switch {
	case o.Secret == "" && o.SecretFile == "":
		c.fail(path+".secret_file", "messages are signed; name a file with the secret, or give secret")
	case o.Secret != "" && o.SecretFile != "":
		c.fail(path+".secret_file", "give secret or secret_file, not both")
	case o.Secret != "":
		if _, err := SigningKey(o.Secret); err != nil {
			c.fail(path+".secret", "%v", err)
		}
	}
}

// SigningKey returns the bytes of a secret as Standard Webhooks writes it.
func SigningKey(secret string) ([]byte, error) {
	const least, most = 24, 64
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(strings.TrimSpace(secret), "whsec_"))
	if err != nil || len(key) < least || len(key) > most {
		return nil, fmt.Errorf("a secret is whsec_ and %d to %d bytes in base64", least, most)
	}
	return key, nil
}

func (c *checker) clock(path, text string) {
	if _, err := news.ParseClock(text); err != nil {
		c.fail(path, "%v", err)
	}
}

func (c *checker) zone(path, name string) {
	if _, err := time.LoadLocation(name); err != nil {
		c.fail(path, "%q is no time zone such as Atlantic/Azores", name)
	}
}

func (c *checker) kinds(path string, kinds []string) {
	for i, k := range kinds {
		if !slices.Contains(news.Names(), k) {
			hint := "; known are " + strings.Join(news.Names(), ", ")
			if near := spelling.Nearest(k, news.Names()); near != "" {
				hint = fmt.Sprintf("; did you mean %q?", near)
			}
			c.fail(fmt.Sprintf("%s.%d", path, i), "%q is nothing that is told%s", k, hint)
		}
	}
}

func (c *checker) tell(path string, t *Tell) {
	if len(t.Of) == 0 {
		c.fail(path, "of is needed: of what is it to tell?")
	}
	c.kinds(path+".of", t.Of)
	if err := c.l.Settings.Takes(t.By, t.To); err != nil {
		c.fail(path+".by", "%v", err)
	}
}

// Takes says why an outlet cannot tell whom a route names.
func (s *Settings) Takes(outlet, to string) error {
	o, is := s.Outlets[outlet]
	if !is {
		known := slices.Sorted(maps.Keys(s.Outlets))
		hint := "; there is none yet: name one under outlets in the settings"
		if len(known) > 0 {
			hint = "; known are " + strings.Join(known, ", ")
		}
		if near := spelling.Nearest(outlet, known); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return fmt.Errorf("there is no outlet %q%s", outlet, hint)
	}
	switch {
	case o.Mail == "" && to != "":
		return fmt.Errorf("outlet %s sends no mail, so that there is no to", outlet)
	case o.Mail != "" && to == "" && len(o.To) == 0:
		return fmt.Errorf("outlet %s names nobody; say to: owner, supplier or an address", outlet)
	case to == news.ToOwner || to == news.ToSupplier || to == "":
		return nil
	}
	if _, err := mail.ParseAddress(to); err != nil {
		return fmt.Errorf("%q is neither owner nor supplier nor a mail address", to)
	}
	return nil
}

// Routes returns the routes for a feed that says nothing itself.
func (s *Settings) Routes(feed, owner, supplier string) (out []news.Route) {
	for _, t := range s.Tell {
		if news.Matches(t.Feeds, feed) && news.Matches(t.Owners, owner) && news.Matches(t.Suppliers, supplier) {
			out = append(out, t.Route())
		}
	}
	return out
}

// Route returns the route without whom it is for.
func (t *Tell) Route() news.Route {
	r := news.Route{By: t.By, To: t.To, After: time.Duration(t.After)}
	for _, k := range t.Of {
		r.Of = append(r.Of, news.Kind(k))
	}
	return r
}
