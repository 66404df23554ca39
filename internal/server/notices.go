package server

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
	"mullein/internal/notice"
	"mullein/internal/settings"
)

// held is the settings that hold, which may change while the service runs.
type held struct {
	now     atomic.Pointer[settings.Settings]
	listed  atomic.Pointer[[]settings.Value] // all of them, for people; nil where they are not read again
	problem atomic.Pointer[string]           // why the file that is there now is not taken; nil where it is
}

// reread takes up the settings whenever they change, until ctx ends. Those that are wrong are
// said, and the old ones stay.
func (h *held) reread(ctx context.Context, read func() (*settings.Loaded, error), change func(settings.Settings),
	say func(string, ...any)) {
	const every = 2 * time.Second
	said := ""
	var last settings.Settings
	list := func(l *settings.Loaded) {
		all := l.List()
		h.listed.Store(&all)
	}
	if l, err := read(); err == nil { // else it is said when it is looked at next
		last = l.Settings
		list(l)
	}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(every):
		}
		l, err := read()
		if err != nil {
			if text := err.Error(); text != said {
				said = text
				h.problem.Store(&said)
				say("the settings are wrong; the old ones hold", "error", err)
			}
			continue
		}
		said = ""
		h.problem.Store(nil)
		if s := l.Settings; !reflect.DeepEqual(s, last) {
			last = s
			h.now.Store(&s)
			list(l)
			change(s)
			say("took up new settings")
		}
	}
}

// wrong returns why the settings that are there now are not taken; "" where they are.
func (h *held) wrong() string {
	if p := h.problem.Load(); p != nil {
		return *p
	}
	return ""
}

func (s *Server) listSettings(context.Context, *struct{}) (*body[api.SettingList], error) {
	out := api.SettingList{Items: []api.Setting{}, Problem: s.settings.wrong()}
	if list := s.settings.listed.Load(); list != nil {
		out.Items = each(*list, func(v *settings.Value) api.Setting { return api.Setting(*v) })
	}
	return give(out, nil)
}

func (s *Server) noticeRoutes() {
	huma.Register(s.api, get("notices", "/notices", "Notices, the newest first"), s.notices)
	huma.Register(s.api, get("notice", "/notices/{id}", "One notice, with what it says"), s.notice)
	huma.Register(s.api, do(http.MethodPost, "send-notice", "/notices/{id}/again", "Send a notice again, as a new one"),
		s.sendNotice)
	huma.Register(s.api, get("settings", "/settings", "The settings that hold, and where each comes from; secrets are not shown"), s.listSettings)
	huma.Register(s.api, get("outlets", "/outlets", "Ways out of the service for notices and events"), s.outlets)
	huma.Register(s.api, do(http.MethodPost, "test-outlet", "/outlets/{outlet}/test",
		"Send a notice that says that the outlet works"), s.testOutlet)
	huma.Register(s.api, do(http.MethodPost, "rehearse-notice", "/feeds/{feed}/notices",
		"Send what would be told of a feed, marked as a rehearsal"), s.rehearseNotice)
}

func noticeOf(n *ledger.Notice) api.Notice {
	return api.Notice{ID: n.ID, At: n.At, Outlet: n.Outlet, Whom: n.Whom, Kind: string(n.Kind), Occasion: string(n.Occasion),
		Problem: n.Problem, Feed: n.Feed, Subject: n.Subject, State: string(n.State), Attempts: n.Attempts,
		TryAfter: n.TryAfter, SentAt: n.SentAt, Answer: n.Answer}
}

func (s *Server) notices(ctx context.Context, in *struct {
	Limit
	Outlet string             `query:"outlet" maxLength:"63"`
	Feed   string             `query:"feed" maxLength:"63"`
	State  ledger.NoticeState `query:"state" enum:"waiting,sent,failed"`
	Before int64              `query:"before" minimum:"0" doc:"The next of the page before"`
}) (*body[api.NoticeList], error) {
	list, err := s.ledger.Notices(ctx, ledger.NoticeFilter{Outlet: in.Outlet, Feed: in.Feed, State: in.State, Before: in.Before,
		Most: in.Most + 1})
	out := api.NoticeList{Items: each(list[:min(in.Most, len(list))], noticeOf)}
	if len(list) > in.Most {
		out.Next = list[in.Most-1].ID
	}
	return give(out, err)
}

func (s *Server) notice(ctx context.Context, in *NumberPath) (*body[api.NoticeWhole], error) {
	n, err := s.ledger.NoticeByNumber(ctx, in.ID)
	if err != nil {
		return nil, answer(err)
	}
	out := api.NoticeWhole{Notice: noticeOf(&n)}
	err = json.Unmarshal(n.Message, &struct {
		To    *[]string `json:"to"`
		Text  *string   `json:"text"`
		HTML  *string   `json:"html"`
		Event *any      `json:"event"`
	}{&out.To, &out.Text, &out.HTML, &out.Event})
	out.To = append([]string{}, out.To...)
	return give(out, err)
}

func (s *Server) sendNotice(ctx context.Context, in *NumberPath) (*body[api.Notice], error) {
	n, err := s.ledger.SendAgain(ctx, in.ID)
	return give(noticeOf(&n), err)
}

func (s *Server) outlets(ctx context.Context, _ *struct{}) (*body[api.OutletList], error) {
	now := s.settings.now.Load()
	counts, err := s.ledger.OutletCounts(ctx)
	out := api.OutletList{Items: []api.Outlet{}}
	for _, name := range slices.Sorted(maps.Keys(now.Outlets)) {
		o, c := now.Outlets[name], counts[name]
		at := api.Outlet{Name: name, Waiting: c.Waiting, Failed: c.Failed, SentAt: c.SentAt, Problem: c.Problem}
		switch {
		case o.Mail != "":
			at.Way, at.To = "mail", o.Mail
			if len(o.To) > 0 {
				at.To += " to " + strings.Join(o.To, ", ")
			}
		case o.Lineage != "":
			at.Way, at.To = "lineage", withoutSecrets(o.Lineage)
		case o.Hook != "":
			at.Way, at.To = "hook", withoutSecrets(o.Hook)
		default:
			at.Way, at.To = "command", o.Command[0]
		}
		out.Items = append(out.Items, at)
	}
	return give(out, err)
}

// withoutSecrets leaves out what may be a secret in an address.
func withoutSecrets(address string) string {
	address, _, _ = strings.Cut(address, "?")
	if scheme, rest, ok := strings.Cut(address, "://"); ok {
		if at := strings.LastIndexByte(rest, '@'); at >= 0 {
			rest = rest[at+1:]
		}
		return scheme + "://" + rest
	}
	return address
}

func (s *Server) testOutlet(ctx context.Context, in *struct {
	Outlet string `path:"outlet" maxLength:"63"`
}) (*body[api.Notice], error) {
	n, err := s.teller.Test(ctx, in.Outlet)
	if err != nil && n == nil {
		return nil, answer(&ledger.ConflictError{Reason: err.Error()})
	}
	if err != nil {
		return nil, answer(err)
	}
	return give(noticeOf(n), nil)
}

func (s *Server) rehearseNotice(ctx context.Context, in *struct {
	FeedPath
	Body api.Rehearsed
}) (*body[api.NoticeCount], error) {
	list, err := s.teller.Rehearse(ctx, in.Feed, news.Kind(in.Body.As))
	var nobody *notice.NobodyError
	if errors.As(err, &nobody) {
		err = &ledger.ConflictError{Reason: err.Error()}
	}
	if err != nil {
		return nil, answer(err)
	}
	out := api.NoticeCount{Items: []api.Notice{}}
	for _, n := range list {
		out.Items = append(out.Items, noticeOf(n))
	}
	return give(out, nil)
}

// outletNotes says which outlets a feed names that there are not.
func (s *Server) outletNotes(f *feed.Feed) (notes []string) {
	for _, r := range f.Tell {
		if err := s.settings.now.Load().Takes(r.By, r.To); err != nil {
			notes = append(notes, "tell: "+err.Error())
		}
		if r.To == news.ToOwner && f.Owner == "" {
			notes = append(notes, "tell: the feed names no owner, so that whom the outlet names is told instead")
		}
		if r.To == news.ToSupplier && f.Supplier.Contact == "" {
			notes = append(notes, "tell: the feed names no contact of its supplier, so that the supplier is not told")
		}
	}
	slices.Sort(notes)
	return slices.Compact(notes)
}

// rollupsFor returns which rollups are wrong or lag behind, and which follow which tables.
func (s *Server) rollupsFor(ctx context.Context) (out notice.Rollups, err error) {
	list, err := s.target.Rollups(ctx)
	if err != nil {
		return out, err
	}
	out = notice.Rollups{Wrong: map[string]string{}, Of: bySource(list), Table: tablesOf(list)}
	lagging, err := s.target.Lagging(ctx)
	const patience = 5 * time.Minute
	for _, l := range lagging {
		switch {
		case l.WaitsForTable(): // the first load makes it
		case l.Problem != "":
			out.Wrong[l.Rollup] = l.Problem
		case l.ComputedAt != nil && time.Since(*l.ComputedAt) > patience:
			out.Wrong[l.Rollup] = "it is not in step since " + l.ComputedAt.UTC().Format(time.RFC3339)
		}
	}
	return out, err
}
