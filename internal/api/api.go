// Package api is what goes over the wire: the types of the API's answers and
// questions, shared by the service and its client. They are plain: a program that
// calls the API needs nothing else of Mullein. Package server fills them, and the
// OpenAPI document is made from them. [Status] is a good place to start.
package api

import (
	"time"
)

// Session says who is signed in, and where.
type Session struct {
	Name    string `json:"name"`
	Service string `json:"service" doc:"The machine"`
	Version string `json:"version"`
	By      string `json:"by" enum:"password,openid,token" doc:"How they signed in; token for a link too"`
	Rights
}

// Service is a running service, as it last spoke up.
type Service struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	StartedAt time.Time `json:"started_at"`
	SeenAt    time.Time `json:"seen_at"`
	Alive     bool      `json:"alive" doc:"It spoke up in time"`
	Feeds     int       `json:"feeds" doc:"Feeds that it works"`
}

// ServiceView is a service and what it does.
type ServiceView struct {
	Service
	Loads []Progress `json:"loads" nullable:"false"`
}

// Status is what the command line and the console begin with.
type Status struct {
	Service  string           `json:"service"`
	Version  string           `json:"version"`
	Settings string           `json:"settings" doc:"Why the settings that are there now are not taken, so that the old ones hold; empty where they are"`
	Roots    []string         `json:"landing_roots" nullable:"false"`
	Totals   Totals           `json:"totals"`
	Stopped  []StoppedFeed    `json:"stopped" nullable:"false" doc:"Feeds that do not work: the first of them"`
	Wrong    []SlotView       `json:"wrong" nullable:"false" doc:"Slots of the last seven days that are missing, refused, or late and not here yet; the newest first"`
	Needs    []Arrival        `json:"needs" nullable:"false" doc:"Arrivals that need a person, the newest first"`
	Feeds    []FeedView       `json:"feeds" nullable:"false" doc:"Those that files came for lately, the latest first"`
	Loads    []Progress       `json:"loads" nullable:"false" doc:"What is being loaded now, by all services"`
	Rollups  []RollupLag      `json:"rollups" nullable:"false" doc:"Those that are not in step with the tables that they read"`
	Extracts []StoppedExtract `json:"extracts" nullable:"false" doc:"Extracts that have failed after all attempts"`
	Services []ServiceView    `json:"services" nullable:"false"`
}

// StoppedExtract is an extract that has failed after all attempts.
type StoppedExtract struct {
	Extract string    `json:"extract"`
	Problem string    `json:"problem"`
	Since   time.Time `json:"since"`
}

// RollupLag is a rollup that is not in step with the tables that it reads.
type RollupLag struct {
	Rollup     string     `json:"rollup"`
	Waiting    int64      `json:"waiting" doc:"Notes of touched keys that wait; 100,001 for more than 100,000"`
	ComputedAt *time.Time `json:"computed_at" doc:"When it was computed last; null for never"`
	Problem    string     `json:"problem" doc:"Why it is not kept; empty when it only lags"`
}

// Totals are counts over all feeds.
type Totals struct {
	Feeds      int64            `json:"feeds"`
	Paused     int64            `json:"paused"`
	Stopped    int64            `json:"stopped" doc:"That do not work"`
	ListedOnly int64            `json:"listed_only" doc:"Of whose landings no events come"`
	Wrong      int64            `json:"wrong" doc:"Of which something needs a person"`
	States     map[string]int64 `json:"states" doc:"Arrivals by state"`
	RowsToday  int64            `json:"rows_today" doc:"Rows inserted or updated in the last 24 hours"`
}

// Day is the last 24 hours and the next few, a page of feeds of it.
type Day struct {
	From  time.Time    `json:"from"`
	Now   time.Time    `json:"now"`
	To    time.Time    `json:"to"`
	Feeds []DayLine    `json:"feeds" nullable:"false" doc:"Those with something to see, the most first"`
	Next  string       `json:"next" doc:"The after of the next page; empty when there is none"`
	Quiet []QuietFeeds `json:"quiet" nullable:"false" doc:"Those without anything to see, folded"`
}

// QuietFeeds are feeds of one supplier, or in one folder, without anything to see.
type QuietFeeds struct {
	Of    string `json:"of" doc:"The supplier, or else the folder"`
	Feeds int64  `json:"feeds"`
	Only  string `json:"only" doc:"The feed, where it is one"`
}

// DayLine is a feed's line on the ruler.
type DayLine struct {
	Feed   string      `json:"feed"`
	Paused bool        `json:"paused"`
	Runs   []time.Time `json:"runs" nullable:"false" doc:"Times of the schedule"`
	Marks  []DayMark   `json:"marks" nullable:"false"`
	Slots  []DaySlot   `json:"slots" nullable:"false"`
}

// DayMark is the arrivals of a feed that came within a few minutes and are in the
// same state.
type DayMark struct {
	Arrival int64     `json:"arrival" doc:"The newest of them"`
	At      time.Time `json:"at"`
	State   string    `json:"state"`
	Path    string    `json:"path" doc:"Of the newest"`
	Rows    int64     `json:"rows" doc:"Read, of all of them"`
	Count   int64     `json:"count" doc:"How many they are"`
}

// DaySlot is all slots of a feed that are due at a time.
type DaySlot struct {
	At      time.Time `json:"at"`
	Missing time.Time `json:"missing_at"`
	State   string    `json:"state" enum:"open,on time,late,missing,refused,excused,surplus" doc:"The worst of them"`
	Slots   int       `json:"slots"`
	Good    int       `json:"good" doc:"Of which came, or are excused"`
	Ahead   bool      `json:"ahead" doc:"It is still to come"`
}

// Token is a token for calls, without its secret.
type Token struct {
	ID        int64     `json:"id"`
	Name      string    `json:"name" doc:"Whose it is"`
	CreatedAt time.Time `json:"created_at"`
	Sessions  int64     `json:"sessions" doc:"Sessions of consoles that were begun with it and last"`
	Rights
	ExpiresAt  *time.Time `json:"expires_at" doc:"When it ends; null for never"`
	LastUsedAt *time.Time `json:"last_used_at" doc:"To the minute; null for never"`
}

// Rights is what a token lets its holder do.
type Rights struct {
	Role  string   `json:"role" enum:"look,operate,own" doc:"look: see; operate: run, decide, mend, recall, deliver too; own: put feeds and rollups and make tokens too"`
	Feeds []string `json:"feeds" nullable:"false" doc:"Patterns of the feeds that it lets change, and whose data it shows; * stands for any characters; none for all"`
	Data  bool     `json:"data" doc:"Whether rows of tables, and rejects, are shown"`
}

// TokenList is the tokens that are good, by number.
type TokenList struct {
	Items []Token `json:"items" nullable:"false"`
}

// TokenWanted names a token that is to be made.
type TokenWanted struct {
	Name  string     `json:"name" minLength:"1" maxLength:"63" pattern:"^[a-z0-9][a-z0-9.@_-]*$" doc:"Whose it is; what is done with it is done in this name"`
	Role  string     `json:"role,omitempty" enum:"look,operate,own" default:"own" doc:"What it lets do"`
	Feeds []string   `json:"feeds,omitempty" maxItems:"100" doc:"Patterns of the feeds that it lets change, and whose data it shows; none for all"`
	Blind bool       `json:"blind,omitempty" doc:"Rows of tables, and rejects, are not shown"`
	Until *time.Time `json:"until,omitempty" doc:"When it ends; none for never"`
}

// NewToken is a token that was made, with its secret.
type NewToken struct {
	ID     int64  `json:"id"`
	Name   string `json:"name"`
	Secret string `json:"secret" doc:"Told once, and kept nowhere"`
}

// How people sign in.
const (
	ByPassword = "password"
	ByOpenID   = "openid"
	ByToken    = "token"
)

// User is a person who signs in.
type User struct {
	Name      string    `json:"name"`
	By        string    `json:"by" enum:"password,openid" doc:"How they sign in"`
	CreatedAt time.Time `json:"created_at"`
	Sessions  int64     `json:"sessions" doc:"Sessions of theirs that last"`
	Rights
	LastUsedAt *time.Time `json:"last_used_at" doc:"To the minute; null for never"`
}

// UserList is the users, by name.
type UserList struct {
	Items []User `json:"items" nullable:"false"`
}

// UserWanted says what a user is to be.
type UserWanted struct {
	Role     string   `json:"role" enum:"look,operate,own" doc:"What they may"`
	Feeds    []string `json:"feeds,omitempty" maxItems:"100" doc:"Patterns of the feeds that they may change, and whose data they see; none for all"`
	Blind    bool     `json:"blind,omitempty" doc:"Rows of tables, and rejects, are not shown"`
	Password string   `json:"password,omitempty" minLength:"10" maxLength:"256" doc:"A new user needs one; of one who is there it is changed, and their sessions end"`
}

// PasswordChange changes one's own password.
type PasswordChange struct {
	Old string `json:"old" maxLength:"256"`
	New string `json:"new" minLength:"10" maxLength:"256"`
}

// SignInWays is how people may sign in, beside a link, a token, and a name with a password.
type SignInWays struct {
	OpenID string `json:"openid" doc:"What the provider of OpenID Connect is called; empty where there is none"`
}

// Act is what a person or a program did, or tried to do.
type Act struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by" doc:"Whose token it was"`
	Way     string    `json:"way" enum:"api,session" doc:"session: in the console"`
	From    string    `json:"from" doc:"The address that it came from"`
	What    string    `json:"what" doc:"The operation, as this document calls it"`
	Feed    string    `json:"feed" doc:"Empty where it is of none, or of several"`
	Of      string    `json:"of" doc:"The path of the call"`
	Because string    `json:"because"`
	Before  string    `json:"before" doc:"How it was, where that is known"`
	After   string    `json:"after" doc:"How it is then"`
	Status  int       `json:"status" doc:"Of the answer; 200 to 299 for what was done"`
}

// ActList is a page of acts, the newest first.
type ActList struct {
	Items []Act `json:"items" nullable:"false"`
	Next  int64 `json:"next" doc:"The before of the next page; 0 when there is none"`
}
