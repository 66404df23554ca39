// Package client calls Mullein's API from Go. The command line is built on it.
// Start at [New]; the types are those of package api.
package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"mullein/internal/api"
)

// Client speaks to one service.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client of the service at base, such as http://127.0.0.1:8471.
func New(base, token string) *Client {
	return &Client{base: strings.TrimSuffix(base, "/"), token: token, http: &http.Client{}}
}

// Trust has the client trust a certificate of a service that is not of a known authority, such as
// the service's own on this machine. The text is PEM.
func (c *Client) Trust(certificate []byte) error {
	block, _ := pem.Decode(certificate)
	if block == nil {
		return errors.New("no certificate is in it")
	}
	leaf, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(certificate)
	config := &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	if len(leaf.DNSNames) > 0 { // it is asked for by the address of this machine
		config.ServerName = leaf.DNSNames[0]
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = config
	c.http = &http.Client{Transport: transport}
	return nil
}

// Error is the service's refusal, from its problem details (RFC 9457).
type Error struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

// IsNotFound reports whether an error says that there is no such thing.
func IsNotFound(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == http.StatusNotFound
}

// Error lists every detail, a line each.
func (e *Error) Error() string {
	if len(e.Errors) == 0 {
		if e.Detail == "" {
			return fmt.Sprintf("%d %s", e.Status, e.Title)
		}
		return e.Detail
	}
	lines := make([]string, len(e.Errors))
	for i, d := range e.Errors {
		lines[i] = strings.TrimPrefix(d.Location+": "+d.Message, ": ")
	}
	return strings.Join(lines, "\n")
}

const maxAnswer = 64 << 20

func (c *Client) call(ctx context.Context, method, path string, query url.Values, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	return c.long(ctx, method, path, query, in, out)
}

// long is call without a limit of its own, for work that goes through files.
func (c *Client) long(ctx context.Context, method, path string, query url.Values, in, out any) error {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("write the request: %w", err)
		}
		body = bytes.NewReader(text)
	}
	return c.send(ctx, method, path, query, body, "application/json", out)
}

// do sends a request with the token.
func (c *Client) do(request *http.Request) (*http.Response, error) {
	request.Header.Set("Authorization", "Bearer "+c.token)
	response, err := c.http.Do(request)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, fmt.Errorf("no service answers at %s (%w); start one with `mullein serve`, or set MULLEIN_SERVER",
			c.base, err)
	}
	return response, nil
}

func (c *Client) send(ctx context.Context, method, path string, query url.Values, body io.Reader, kind string,
	out any) error {
	address := c.base + "/api/v1" + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return fmt.Errorf("the service's address: %w", err)
	}
	request.Header.Set("Content-Type", kind)
	response, err := c.do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, maxAnswer))
	if err != nil {
		return fmt.Errorf("read the answer: %w", err)
	}
	if response.StatusCode >= 300 {
		refusal := &Error{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
		_ = json.Unmarshal(text, refusal) // an answer that is no problem document still has its status
		return refusal
	}
	if out == nil || len(text) == 0 {
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return fmt.Errorf("the answer is not understood; is %s a Mullein service of this version? %w", c.base, err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	var out T
	err := c.call(ctx, http.MethodGet, path, query, nil, &out)
	return out, err
}

// Get asks for any address of the API, such as /arrivals?limit=10, and reads
// the answer into out.
func (c *Client) Get(ctx context.Context, path string, out any) error {
	return c.call(ctx, http.MethodGet, path, nil, nil, out)
}

// Status returns what is waiting, working and wrong.
func (c *Client) Status(ctx context.Context) (api.Status, error) {
	return get[api.Status](ctx, c, "/status", nil)
}

// Tokens returns the tokens for calls that are good.
func (c *Client) Tokens(ctx context.Context) (api.TokenList, error) {
	return get[api.TokenList](ctx, c, "/tokens", nil)
}

// NewToken makes a token for calls.
func (c *Client) NewToken(ctx context.Context, of api.TokenWanted) (out api.NewToken, err error) {
	return out, c.call(ctx, http.MethodPost, "/tokens", nil, of, &out)
}

// Draft has feeds proposed from the files of a folder below a landing root of the service, or of a place.
func (c *Client) Draft(ctx context.Context, of api.DraftWanted) (out api.Drafts, err error) {
	return out, c.call(ctx, http.MethodPost, "/drafts", nil, of, &out)
}

// Users returns the people who sign in.
func (c *Client) Users(ctx context.Context) (api.UserList, error) {
	return get[api.UserList](ctx, c, "/users", nil)
}

// PutUser makes a user, or changes one.
func (c *Client) PutUser(ctx context.Context, name string, of api.UserWanted) error {
	return c.call(ctx, http.MethodPut, "/users/"+url.PathEscape(name), nil, of, nil)
}

// RemoveUser ends a user, and their sessions.
func (c *Client) RemoveUser(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/users/"+url.PathEscape(name), nil, nil, nil)
}

// Acts returns what people and programs did, the newest first; feed, by and what narrow it where
// they are given, and before is the next of the page before.
func (c *Client) Acts(ctx context.Context, feed, by, what string, before int64, most int) (api.ActList, error) {
	return get[api.ActList](ctx, c, "/acts", query("feed", feed, "by", by, "what", what, "before", number(before),
		"limit", strconv.Itoa(most)))
}

// Settings returns the settings of the service as they are at work; secrets are not among them.
func (c *Client) Settings(ctx context.Context) (api.SettingList, error) {
	return get[api.SettingList](ctx, c, "/settings", nil)
}

// EndToken ends a token, and what was begun with it.
func (c *Client) EndToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/tokens/"+strconv.FormatInt(id, 10), nil, nil, nil)
}

// Notices returns notices, the newest first; outlet, feed and state narrow it where they are
// given, and before is the next of the page before.
func (c *Client) Notices(ctx context.Context, outlet, feed, state string, before int64, most int) (api.NoticeList, error) {
	return get[api.NoticeList](ctx, c, "/notices", query("outlet", outlet, "feed", feed, "state", state, "before",
		number(before), "limit", strconv.Itoa(most)))
}

// Notice returns a notice with what it says.
func (c *Client) Notice(ctx context.Context, id int64) (api.NoticeWhole, error) {
	return get[api.NoticeWhole](ctx, c, "/notices/"+strconv.FormatInt(id, 10), nil)
}

// SendNotice sends a notice again, as a new one.
func (c *Client) SendNotice(ctx context.Context, id int64) (out api.Notice, err error) {
	return out, c.call(ctx, http.MethodPost, "/notices/"+strconv.FormatInt(id, 10)+"/again", nil, nil, &out)
}

// RehearseNotice sends what would be told of a feed, marked as a rehearsal.
func (c *Client) RehearseNotice(ctx context.Context, feed, as string) (out api.NoticeCount, err error) {
	return out, c.call(ctx, http.MethodPost, "/feeds/"+url.PathEscape(feed)+"/notices", nil, api.Rehearsed{As: as}, &out)
}

// Problems returns what is wrong, told as one each, the newest first; over with what is over.
func (c *Client) Problems(ctx context.Context, over bool, before int64, most int) (api.ProblemList, error) {
	return get[api.ProblemList](ctx, c, "/problems", query("over", truth(over), "before", number(before), "limit",
		strconv.Itoa(most)))
}

// Outlets returns the ways out of the service.
func (c *Client) Outlets(ctx context.Context) (api.OutletList, error) {
	return get[api.OutletList](ctx, c, "/outlets", nil)
}

// TestOutlet sends a notice that says that an outlet works.
func (c *Client) TestOutlet(ctx context.Context, outlet string) (out api.Notice, err error) {
	return out, c.call(ctx, http.MethodPost, "/outlets/"+url.PathEscape(outlet)+"/test", nil, nil, &out)
}

// Places returns the places outside of the service's machine.
func (c *Client) Places(ctx context.Context) (api.PlaceList, error) {
	return get[api.PlaceList](ctx, c, "/places", nil)
}

// Queues returns the queues of messages that say that something new may lie somewhere.
func (c *Client) Queues(ctx context.Context) (api.QueueList, error) {
	return get[api.QueueList](ctx, c, "/queues", nil)
}

// TestPlace signs in at a place and lists it.
func (c *Client) TestPlace(ctx context.Context, place string) (out api.PlaceTest, err error) {
	return out, c.call(ctx, http.MethodPost, "/places/"+url.PathEscape(place)+"/test", nil, nil, &out)
}

// BrowsePlace returns up to most files of a folder of a place, and below it.
func (c *Client) BrowsePlace(ctx context.Context, place, folder string, most int) (api.PlaceFiles, error) {
	return get[api.PlaceFiles](ctx, c, "/places/"+url.PathEscape(place)+"/files", query("folder", folder, "limit", strconv.Itoa(most)))
}

// VolumeQuery says which work is wanted. Zero values stand for the defaults of the API.
type VolumeQuery struct {
	Feed, Supplier string
	From, To       time.Time
	By             string // hour, day, week or month
	Feeds          bool   // by feed instead of by time
	Suppliers      bool   // each span of time apart by supplier
	Most           int
}

// Volumes returns work and what it cost, by spans of time or by feed.
func (c *Client) Volumes(ctx context.Context, of VolumeQuery) (api.VolumeList, error) {
	return get[api.VolumeList](ctx, c, "/volumes", query("feed", of.Feed, "supplier", of.Supplier, "by", of.By, "from",
		moment(of.From), "to", moment(of.To), "feeds", truth(of.Feeds), "suppliers", truth(of.Suppliers), "limit", number(int64(of.Most))))
}

// Day returns what came and what was due within the last day.
func (c *Client) Day(ctx context.Context) (api.Day, error) {
	return get[api.Day](ctx, c, "/day", nil)
}

// FeedQuery narrows a list of feeds. Zero values do not narrow.
type FeedQuery struct {
	Text     string // part of the name, the supplier or the landing's folder
	Supplier string
	Wrong    bool   // only feeds of which something needs a person
	After    string // the last name of the page before
	Most     int    // of a page, up to 1000; 0 for 100
}

// Feeds returns a page of feeds, by name.
func (c *Client) Feeds(ctx context.Context, q FeedQuery) (api.FeedList, error) {
	wrong, most := "", ""
	if q.Wrong {
		wrong = "true"
	}
	if q.Most > 0 {
		most = strconv.Itoa(q.Most)
	}
	return get[api.FeedList](ctx, c, "/feeds", query("text", q.Text, "supplier", q.Supplier, "wrong", wrong, "after",
		q.After, "limit", most))
}

// AllFeeds returns all feeds that a query selects, page by page.
func (c *Client) AllFeeds(ctx context.Context, q FeedQuery) ([]api.FeedView, error) {
	q.Most = 1000
	out := []api.FeedView{}
	for {
		page, err := c.Feeds(ctx, q)
		if err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if q.After = page.Next; q.After == "" {
			return out, nil
		}
	}
}

// Feed returns one feed.
func (c *Client) Feed(ctx context.Context, name string) (api.FeedView, error) {
	return get[api.FeedView](ctx, c, feedPath(name), nil)
}

func feedPath(name string) string { return "/feeds/" + url.PathEscape(name) }

// CheckFeed says what a feed file would do. What is wrong with it is an [*Error].
func (c *Client) CheckFeed(ctx context.Context, file, definition string) (api.FeedChecked, error) {
	var out api.FeedChecked
	err := c.call(ctx, http.MethodPost, "/feed-check", nil, api.FeedText{File: file, Definition: definition}, &out)
	return out, err
}

// PutFeed creates a feed or changes it.
func (c *Client) PutFeed(ctx context.Context, name, file, definition string) (api.FeedPut, error) {
	var out api.FeedPut
	err := c.call(ctx, http.MethodPut, feedPath(name), nil, api.FeedText{File: file, Definition: definition}, &out)
	return out, err
}

// RemoveFeed ends a feed.
func (c *Client) RemoveFeed(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, feedPath(name), nil, nil, nil)
}

// Pause lets no run of a feed begin by itself; Resume takes that back.
func (c *Client) Pause(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, feedPath(name)+"/pause", nil, nil, nil)
}

// Resume lets runs of a feed begin by themselves again.
func (c *Client) Resume(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, feedPath(name)+"/resume", nil, nil, nil)
}

// Versions returns all wordings of a feed, the newest first.
func (c *Client) Versions(ctx context.Context, name string) ([]api.FeedVersion, error) {
	list, err := get[api.VersionList](ctx, c, feedPath(name)+"/versions", nil)
	return list.Items, err
}

// RunFeed queues a run, narrowed if wanted says so.
func (c *Client) RunFeed(ctx context.Context, name string, wanted api.Wanted) (api.Run, error) {
	var run api.Run
	err := c.call(ctx, http.MethodPost, feedPath(name)+"/runs", nil, wanted, &run)
	return run, err
}

// CancelRun ends a run; what it has loaded stays.
func (c *Client) CancelRun(ctx context.Context, id int64) (api.Run, error) {
	var run api.Run
	err := c.call(ctx, http.MethodPost, "/runs/"+strconv.FormatInt(id, 10)+"/cancel", nil, nil, &run)
	return run, err
}

// Files lists the files at a feed's landing: taken, or why not.
func (c *Client) Files(ctx context.Context, name string, most int) (api.FileList, error) {
	return get[api.FileList](ctx, c, feedPath(name)+"/files", query("limit", strconv.Itoa(most)))
}

// Deliver puts a file into a feed's landing, whole at once. It writes over the
// file that lies there only when replace says so.
func (c *Client) Deliver(ctx context.Context, name, path string, content io.Reader, replace bool) (api.Delivered,
	error) {
	var out api.Delivered
	q := query("path", path)
	if replace {
		q.Set("replace", "true")
	}
	err := c.send(ctx, http.MethodPost, feedPath(name)+"/files", q, content, "application/octet-stream", &out)
	return out, err
}

// Recall takes out what an arrival loaded, or puts it back, or says what would
// become of the rows.
func (c *Client) Recall(ctx context.Context, arrival int64, r api.Recall) (api.Recalled, error) {
	var out api.Recalled
	err := c.long(ctx, http.MethodPost, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/recall", nil, r, &out)
	return out, err
}

// PlanRebuild says what a rebuild would do.
func (c *Client) PlanRebuild(ctx context.Context, feed string) (api.Rebuilding, error) {
	var out api.Rebuilding
	err := c.long(ctx, http.MethodGet, "/feeds/"+url.PathEscape(feed)+"/rebuild", nil, nil, &out)
	return out, err
}

// Rebuild queues a run that loads all arrivals of a feed afresh.
func (c *Client) Rebuild(ctx context.Context, feed string, r api.Rebuild) (api.Run, error) {
	var out api.Run
	err := c.call(ctx, http.MethodPost, "/feeds/"+url.PathEscape(feed)+"/rebuild", nil, r, &out)
	return out, err
}

// Loads returns the loads of an arrival, one for each generation.
func (c *Client) Loads(ctx context.Context, arrival int64) ([]api.LoadEntry, error) {
	list, err := get[api.LoadList](ctx, c, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/loads", nil)
	return list.Items, err
}

// Verify holds the file of an arrival against its target.
func (c *Client) Verify(ctx context.Context, arrival int64) (api.Verified, error) {
	var out api.Verified
	err := c.long(ctx, http.MethodGet, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/verification", nil, nil, &out)
	return out, err
}

// Original returns the record at a line of an arrival's file.
func (c *Client) Original(ctx context.Context, arrival, line int64) (api.Original, error) {
	return get[api.Original](ctx, c, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/original",
		url.Values{"line": {strconv.FormatInt(line, 10)}})
}

// Row returns what happened to a row; key holds column=value.
func (c *Client) Row(ctx context.Context, name string, key []string) (api.RowHistory, error) {
	return get[api.RowHistory](ctx, c, "/targets/"+url.PathEscape(name)+"/row", url.Values{"key": key})
}

// Collapse leaves one row of each key that stands in a table more than once.
func (c *Client) Collapse(ctx context.Context, name string) (api.Collapsed, error) {
	var out api.Collapsed
	err := c.long(ctx, http.MethodPost, "/targets/"+url.PathEscape(name)+"/collapse", nil, nil, &out)
	return out, err
}

// Target describes a table that feeds end in.
func (c *Client) Target(ctx context.Context, name string) (api.TargetView, error) {
	return get[api.TargetView](ctx, c, "/targets/"+url.PathEscape(name), url.Values{"limit": {"20"}})
}

// Table describes a table of a database, whether feeds end in it or not.
func (c *Client) Table(ctx context.Context, connection, name string) (api.TableShape, error) {
	return get[api.TableShape](ctx, c, "/tables/"+url.PathEscape(name), query("connection", connection))
}

// Rollups returns all rollups.
func (c *Client) Rollups(ctx context.Context) (api.RollupList, error) {
	return get[api.RollupList](ctx, c, "/rollups", nil)
}

// PutRollup creates a rollup or changes it.
func (c *Client) PutRollup(ctx context.Context, name, file, definition string) error {
	return c.call(ctx, http.MethodPut, "/rollups/"+url.PathEscape(name), nil,
		api.RollupPut{File: file, Definition: definition}, nil)
}

// RemoveRollup ends a rollup.
func (c *Client) RemoveRollup(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/rollups/"+url.PathEscape(name), nil, nil, nil)
}

// RebuildRollup computes a rollup as a whole.
func (c *Client) RebuildRollup(ctx context.Context, name string) (api.RollupRebuilt, error) {
	var out api.RollupRebuilt
	err := c.long(ctx, http.MethodPost, "/rollups/"+url.PathEscape(name)+"/rebuild", nil, nil, &out)
	return out, err
}

// VerifyRollup compares a rollup with a full computation.
func (c *Client) VerifyRollup(ctx context.Context, name string) (api.RollupVerified, error) {
	var out api.RollupVerified
	err := c.long(ctx, http.MethodGet, "/rollups/"+url.PathEscape(name)+"/verification", nil, nil, &out)
	return out, err
}

// Decide redoes, skips, holds or releases arrivals.
func (c *Client) Decide(ctx context.Context, d api.Verdict) (api.Decided, error) {
	var out api.Decided
	err := c.call(ctx, http.MethodPost, "/decisions", nil, d, &out)
	return out, err
}

// Decisions returns what people decided about an arrival, oldest first.
func (c *Client) Decisions(ctx context.Context, arrival int64) ([]api.Decision, error) {
	list, err := get[api.DecisionList](ctx, c, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/decisions", nil)
	return list.Items, err
}

// Slots returns the expected deliveries of a feed, or of all, in a span, in order.
func (c *Client) Slots(ctx context.Context, feed string, from, to time.Time, most int) (api.SlotList, error) {
	return get[api.SlotList](ctx, c, "/slots", query("feed", feed, "from", from.UTC().Format(time.RFC3339Nano), "to",
		to.UTC().Format(time.RFC3339Nano), "limit", strconv.Itoa(most)))
}

// Slot returns one expected delivery.
func (c *Client) Slot(ctx context.Context, id int64) (api.SlotDetail, error) {
	return get[api.SlotDetail](ctx, c, slotPath(id), nil)
}

func slotPath(id int64) string { return "/slots/" + strconv.FormatInt(id, 10) }

// Accept takes a file for a slot although its name does not fit.
func (c *Client) Accept(ctx context.Context, slot int64, file api.AcceptFile) (api.Arrival, error) {
	var out api.Arrival
	err := c.call(ctx, http.MethodPost, slotPath(slot)+"/accept", nil, file, &out)
	return out, err
}

// Excuse says that a slot need not be filled.
func (c *Client) Excuse(ctx context.Context, slot int64, because string) (api.SlotDetail, error) {
	var out api.SlotDetail
	err := c.call(ctx, http.MethodPost, slotPath(slot)+"/excuse", nil, api.Because{Because: because}, &out)
	return out, err
}

// Plan returns what a feed's calendar will have in a span.
func (c *Client) Plan(ctx context.Context, name string, from, to time.Time) (api.Plan, error) {
	return get[api.Plan](ctx, c, feedPath(name)+"/plan",
		query("from", from.UTC().Format(time.RFC3339), "to", to.UTC().Format(time.RFC3339)))
}

// Reconcile holds a feed's ledger and the target's markers against each other.
func (c *Client) Reconcile(ctx context.Context, name string, mend bool) (api.DifferenceList, error) {
	var out api.DifferenceList
	q := url.Values{}
	if mend {
		q.Set("mend", "true")
	}
	err := c.long(ctx, http.MethodPost, feedPath(name)+"/reconcile", q, nil, &out)
	return out, err
}

// Run returns one run.
func (c *Client) Run(ctx context.Context, id int64) (api.Run, error) {
	return get[api.Run](ctx, c, "/runs/"+strconv.FormatInt(id, 10), nil)
}

// RunQuery selects runs. What is empty or 0 does not narrow.
type RunQuery struct {
	Feed      string
	Before    int64 // the next of the page before
	Ascending bool  // the oldest first; the next page is then asked for with After
	After     int64
	Most      int // 1 to 1000
}

// Runs returns a page of runs, the newest first unless the query says otherwise.
func (c *Client) Runs(ctx context.Context, q RunQuery) (api.RunList, error) {
	return get[api.RunList](ctx, c, "/runs", query("feed", q.Feed, "before", number(q.Before), "ascending", truth(q.Ascending),
		"after", number(q.After), "limit", strconv.Itoa(q.Most)))
}

// ArrivalQuery selects arrivals. What is empty or 0 does not narrow.
type ArrivalQuery struct {
	Feed, State  string
	Text         string // part of the path; * and ? stand for any text and one character
	Run, Slot    int64
	Needs        bool      // only what needs a person
	Since, Until time.Time // of their coming; until is not within
	Before       int64     // the next of the page before
	Ascending    bool      // the oldest first; the next page is then asked for with After
	After        int64
	Most         int // on the page, up to 1,000
}

// Arrivals returns a page of arrivals, the newest first unless the oldest are asked for.
func (c *Client) Arrivals(ctx context.Context, f ArrivalQuery) (api.ArrivalList, error) {
	return get[api.ArrivalList](ctx, c, "/arrivals", query("feed", f.Feed, "state", f.State, "text", f.Text,
		"run", number(f.Run), "slot", number(f.Slot), "needs", truth(f.Needs), "since", moment(f.Since), "until",
		moment(f.Until), "before", number(f.Before), "ascending", truth(f.Ascending), "after", number(f.After), "limit", strconv.Itoa(f.Most)))
}

// Arrival returns one arrival.
func (c *Client) Arrival(ctx context.Context, id int64) (api.Arrival, error) {
	return get[api.Arrival](ctx, c, "/arrivals/"+strconv.FormatInt(id, 10), nil)
}

// ErrEnded says that the service ended a stream of events, as it does when it
// stops.
var ErrEnded = errors.New("the service ended the stream of events")

// FromNow, as the event after which a watch begins, passes over what was before it.
const FromNow = -1

// Watch hands over what happens, from now on ([FromNow]), or from a time on, or from after an event that was
// seen; and to working, if it is not nil, what is being loaded, as long as anything is. It ends when each returns an error, which it returns, when ctx ends, and with
// [ErrEnded] when the service ends the stream.
func (c *Client) Watch(ctx context.Context, after int64, since time.Time, each func(api.Event) error,
	working func([]api.Progress)) error {
	address := c.base + "/api/v1/events"
	if q := query("since", moment(since)); len(q) > 0 {
		address += "?" + q.Encode()
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return fmt.Errorf("the service's address: %w", err)
	}
	if after >= 0 {
		request.Header.Set("Last-Event-ID", strconv.FormatInt(after, 10))
	}
	response, err := c.do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return &Error{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
	}
	const longest = 4 << 20 // bytes of a line
	kind, lines := "", bufio.NewScanner(response.Body)
	lines.Buffer(nil, longest)
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), ": ")
		switch {
		case name == "event":
			kind = value
		case name == "data" && kind == "change":
			var e api.Event
			if err := json.Unmarshal([]byte(value), &e); err != nil {
				return fmt.Errorf("an event is not understood: %w", err)
			}
			if err := each(e); err != nil {
				return err
			}
		case name == "data" && kind == "progress" && working != nil:
			var w api.Working
			if err := json.Unmarshal([]byte(value), &w); err != nil {
				return fmt.Errorf("what is being loaded is not understood: %w", err)
			}
			working(w.Loads)
		}
	}
	return cmp.Or(ctx.Err(), ErrEnded)
}

// Rejects returns a page of the rejects of a feed, or of an arrival if that is
// not 0, after the last reject of the page before.
func (c *Client) Rejects(ctx context.Context, feed string, arrival int64, after api.Reject, most int) (api.RejectList,
	error) {
	path := feedPath(feed) + "/rejects"
	if arrival > 0 {
		path = "/arrivals/" + strconv.FormatInt(arrival, 10) + "/rejects"
	}
	return get[api.RejectList](ctx, c, path, query("after_arrival", number(after.ArrivalID), "after",
		number(int64(after.Number)), "limit", strconv.Itoa(most)))
}

// RejectGroups groups the rejects of a feed, or of an arrival if that is not 0,
// by what they broke and by column.
func (c *Client) RejectGroups(ctx context.Context, feed string, arrival int64) (api.RejectGroupList, error) {
	return get[api.RejectGroupList](ctx, c, "/reject-groups", query("feed", feed, "arrival", number(arrival)))
}

// Mend hands rejects of an arrival in again that were put right. It returns the
// arrival in which they are loaded.
func (c *Client) Mend(ctx context.Context, arrival int64, m api.Mend) (api.Arrival, error) {
	var out api.Arrival
	err := c.call(ctx, http.MethodPost, "/arrivals/"+strconv.FormatInt(arrival, 10)+"/mend", nil, m, &out)
	return out, err
}

// ArrivalChecks returns what the checks saw of an arrival.
func (c *Client) ArrivalChecks(ctx context.Context, id int64) (api.CheckResultList, error) {
	return get[api.CheckResultList](ctx, c, "/arrivals/"+strconv.FormatInt(id, 10)+"/checks", nil)
}

// Checks returns the checks of a feed.
func (c *Client) Checks(ctx context.Context, feed string) (api.FeedCheckList, error) {
	return get[api.FeedCheckList](ctx, c, feedPath(feed)+"/checks", nil)
}

// CheckHistory returns what a check saw, the newest first.
func (c *Client) CheckHistory(ctx context.Context, feed, check string, most int) (api.CheckResultList, error) {
	return get[api.CheckResultList](ctx, c, feedPath(feed)+"/checks/"+url.PathEscape(check),
		query("limit", strconv.Itoa(most)))
}

// Rehearsed is what a rehearsal is about.
type Rehearsed struct {
	Feed       string // put already; "" where Definition says it
	Definition string // a feed file that may not be put yet; "" for none
	Path       string // a file below the landing; "" for the one that would be next
	Name       string // of File
	File       io.Reader
	Deep       bool
}

// Rehearse says what a load would do, and does nothing.
func (c *Client) Rehearse(ctx context.Context, r Rehearsed) (api.Rehearsal, error) {
	var out api.Rehearsal
	q := query("feed", r.Feed, "path", r.Path)
	if r.Deep {
		q.Set("deep", "true")
	}
	if r.Definition == "" && r.File == nil {
		return out, c.send(ctx, http.MethodPost, "/rehearsals", q, nil, "", &out)
	}
	read, write := io.Pipe()
	form := multipart.NewWriter(write)
	go func() { write.CloseWithError(r.write(form)) }()
	return out, c.send(ctx, http.MethodPost, "/rehearsals", q, read, form.FormDataContentType(), &out)
}

func (r *Rehearsed) write(form *multipart.Writer) error {
	if r.Definition != "" {
		part, err := form.CreateFormFile("definition", "feed.yaml")
		if err != nil {
			return err
		}
		if _, err := io.WriteString(part, r.Definition); err != nil {
			return err
		}
	}
	if r.File != nil {
		part, err := form.CreateFormFile("file", r.Name)
		if err != nil {
			return err
		}
		if _, err := io.Copy(part, r.File); err != nil {
			return err
		}
	}
	return form.Close()
}

// Rows returns rows of a feed's target, or those that an arrival last wrote if
// that is not 0.
func (c *Client) Rows(ctx context.Context, feed, name string, arrival int64, most int) (api.TableRows, error) {
	path := feedPath(feed) + "/rows"
	if arrival > 0 {
		path = "/arrivals/" + strconv.FormatInt(arrival, 10) + "/rows"
	}
	return get[api.TableRows](ctx, c, path, query("limit", strconv.Itoa(most), "table", name))
}

func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

func truth(b bool) string {
	if !b {
		return ""
	}
	return "true"
}

// query makes a query of names and values, leaving empty values out.
func query(pairs ...string) url.Values {
	q := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	return q
}

// NudgeWith passes on the message of an object store, or a CloudEvent, that says that something is new.
func (c *Client) NudgeWith(ctx context.Context, message any) error {
	return c.call(ctx, http.MethodPost, "/nudges", nil, message, nil)
}

// Nudge says that something new may lie at a path: below the landing of a feed.
func (c *Client) Nudge(ctx context.Context, feed, path string) (out api.Nudged, err error) {
	return out, c.call(ctx, http.MethodPost, "/nudges", nil, map[string]string{"feed": feed, "path": path}, &out)
}
