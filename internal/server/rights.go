package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"mullein/internal/api"
	"mullein/internal/core/news"
	"mullein/internal/ledger"
)

// Operations that need more than their method says, by their ids.
var (
	// owned are of the owner of a feed, or of the service.
	owned = []string{"put-feed", "remove-feed", "put-rollup", "remove-rollup", "put-extract", "remove-extract", "new-token", "end-token", "tokens", "acts", "settings", "collapse",
		"users", "put-user", "remove-user"}
	// oneself are of who makes the call.
	oneself = []string{"change-password"}
	// looked change nothing that anybody else sees.
	looked = []string{"sign-in", "sign-out", "check-feed", "rehearse", "sample", "draft", "draft-files", "nudge"}
	// worked are the everyday work of programs, of which the ledger has what became; they are no acts.
	worked = []string{"records"}
	// withData show rows of tables, or rejects.
	withData = []string{"feed-rows", "target-rows", "arrival-rows", "row", "feed-rejects", "draft", "draft-files", "sample", "arrival-rejects", "reject-groups", "rehearse", "notice",
		"mend", "recall", "table", "original", "verify", "verify-rollup"}
	// global change what belongs to no feed, which a token for some feeds may not.
	global = []string{"put-extract", "remove-extract", "run-extract", "pause-extract", "resume-extract", "mark-extract", "rehearse-extract", "put-rollup", "remove-rollup", "rebuild-rollup", "collapse", "new-token", "end-token", "tokens", "acts", "settings",
		"users", "put-user", "remove-user", "test-outlet", "send-notice", "test-place", "browse-place"}
)

// needs returns the role that an operation needs.
func needs(o *huma.Operation) ledger.Role {
	switch {
	case slices.Contains(owned, o.OperationID):
		return ledger.RoleOwn
	case o.Method == http.MethodGet || slices.Contains(looked, o.OperationID) || slices.Contains(oneself, o.OperationID):
		return ledger.RoleLook
	}
	return ledger.RoleOperate
}

// allowed lets calls through that their token allows.
func (s *Server) allowed(ctx huma.Context, next func(huma.Context)) {
	o := ctx.Operation()
	if o.OperationID == "sign-in" || o.OperationID == "sign-in-ways" {
		next(ctx)
		return
	}
	who := rightsOf(ctx.Context())
	refuse := func(what string, args ...any) {
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, fmt.Sprintf(what, args...))
	}
	role, data := needs(o), slices.Contains(withData, o.OperationID)
	switch {
	case !who.Role.May(role):
		refuse("this needs a token with the role %s; %s has %s", role, who.Name, who.Role)
		return
	case data && !who.Data:
		refuse("the token of %s shows no data", who.Name)
		return
	case len(who.Feeds) > 0 && slices.Contains(global, o.OperationID):
		refuse("the token of %s is for some feeds only, and this is of all", who.Name)
		return
	}
	if len(who.Feeds) > 0 && (data || role != ledger.RoleLook) {
		feed, err := s.feedOfCall(ctx)
		switch {
		case errors.Is(err, ledger.ErrNotFound): // the handler says so
		case err != nil:
			_ = huma.WriteErr(s.api, ctx, http.StatusServiceUnavailable, "the database is away")
			return
		case feed != "" && !news.Matches(who.Feeds, feed):
			refuse("the token of %s is not for feed %s", who.Name, feed)
			return
		case feed == "" && data, (o.OperationID == "rehearse" || o.OperationID == "sample") && strings.HasPrefix(ctx.Header("Content-Type"), "multipart/"):
			refuse("the token of %s is for some feeds only; name one of them", who.Name)
			return
		}
	}
	next(ctx)
}

// feedOfCall returns the feed that a call is about; "" where its path tells of none.
func (s *Server) feedOfCall(ctx huma.Context) (string, error) {
	if name := ctx.Param("feed"); name != "" {
		return name, nil
	}
	if ctx.Param("id") == "" {
		return ctx.Query("feed"), nil
	}
	id, err := strconv.ParseInt(ctx.Param("id"), 10, 64)
	if err != nil {
		return "", nil // the handler says what is wrong with it
	}
	switch path := ctx.Operation().Path; {
	case strings.HasPrefix(path, "/api/v1/arrivals/"):
		a, err := s.ledger.Arrival(ctx.Context(), id)
		return a.Feed, err
	case strings.HasPrefix(path, "/api/v1/slots/"):
		slot, err := s.ledger.Slot(ctx.Context(), id)
		return slot.Feed, err
	case strings.HasPrefix(path, "/api/v1/runs/"):
		run, err := s.ledger.Run(ctx.Context(), id)
		return run.Feed, err
	case strings.HasPrefix(path, "/api/v1/notices/"):
		n, err := s.ledger.NoticeByNumber(ctx.Context(), id)
		return n.Feed, err
	}
	return "", nil
}

// mayAll says which of some feeds the caller may not change.
func mayAll(ctx context.Context, feeds ...string) error {
	who := rightsOf(ctx)
	for _, f := range feeds {
		if !news.Matches(who.Feeds, f) {
			return huma.Error403Forbidden(fmt.Sprintf("the token of %s is not for feed %s", who.Name, f))
		}
	}
	return nil
}

// kept keeps what calls did that change something.
func (s *Server) kept(ctx huma.Context, next func(huma.Context)) {
	o := ctx.Operation()
	if o.Method == http.MethodGet || slices.Contains(looked, o.OperationID) || slices.Contains(worked, o.OperationID) {
		next(ctx)
		return
	}
	who := rightsOf(ctx.Context())
	act := &ledger.Act{By: who.Name, Way: credentialOf(ctx.Context()).use, Came: humagin.Unwrap(ctx).ClientIP(), What: o.OperationID,
		Of: ctx.URL().Path}
	if feed, err := s.feedOfCall(ctx); err == nil {
		act.Feed = feed
	}
	c := humagin.Unwrap(ctx)
	var arrivals []int64
	if sent, ok := c.Request.Body.(*wholeBody); ok && strings.HasPrefix(c.ContentType(), "application/json") {
		var said struct {
			Because  string  `json:"because"`
			Preview  bool    `json:"preview"`
			Arrivals []int64 `json:"arrivals"`
		}
		_ = json.Unmarshal(sent.text, &said) // what is broken is so for the handler too
		arrivals = said.Arrivals
		if act.Because = said.Because; said.Preview {
			next(ctx)
			return
		}
	}
	if id, err := strconv.ParseInt(ctx.Param("id"), 10, 64); err == nil && strings.HasPrefix(o.Path, "/api/v1/arrivals/") {
		arrivals = []int64{id}
	}
	how := func() string {
		switch {
		case len(arrivals) > 0:
			return s.howArrivalsAre(ctx.Context(), arrivals)
		case ctx.Param("user") != "":
			return s.howUserIs(ctx.Context(), ctx.Param("user"))
		case strings.HasPrefix(o.Path, "/api/v1/slots/"):
			return s.howSlotIs(ctx.Context(), ctx.Param("id"))
		}
		return s.howItIs(ctx.Context(), o.OperationID, act.Feed)
	}
	act.Before = how()
	next(ctx)
	act.After, act.Status = how(), ctx.Status()
	if act.Status == 0 {
		act.Status = http.StatusOK
	}
	if err := s.ledger.AddAct(context.WithoutCancel(ctx.Context()), act); err != nil {
		s.log.Error("an act could not be kept", "by", act.By, "what", act.What, "of", act.Of, "error", err)
	}
}

// howItIs says how a feed is that an operation changes.
func (s *Server) howItIs(ctx context.Context, operation, feed string) string {
	if !slices.Contains([]string{"put-feed", "remove-feed", "pause-feed", "resume-feed"}, operation) {
		return ""
	}
	f, err := s.ledger.AnyFeed(ctx, feed)
	switch {
	case err != nil:
		return "not there"
	case f.RemovedAt != nil:
		return "removed"
	case f.Paused:
		return fmt.Sprintf("version %d, paused", f.Version)
	}
	return fmt.Sprintf("version %d", f.Version)
}

// arrivalsOfAct bounds the arrivals of which an act says how they were.
const arrivalsOfAct = 20

// howArrivalsAre says in which states some arrivals are.
func (s *Server) howArrivalsAre(ctx context.Context, ids []int64) string {
	list, err := s.ledger.ByNumber(ctx, ids[:min(len(ids), arrivalsOfAct)])
	if err != nil {
		return ""
	}
	var out []string
	for _, id := range ids[:min(len(ids), arrivalsOfAct)] {
		if a, there := list[id]; there {
			out = append(out, fmt.Sprintf("%d %s", id, a.State))
		}
	}
	if more := len(ids) - arrivalsOfAct; more > 0 {
		out = append(out, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(out, ", ")
}

func (s *Server) howSlotIs(ctx context.Context, number string) string {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return ""
	}
	slot, err := s.ledger.Slot(ctx, id)
	if err != nil {
		return "not there"
	}
	return string(slot.State)
}

// howUserIs says what a user may.
func (s *Server) howUserIs(ctx context.Context, name string) string {
	list, err := s.ledger.Users(ctx)
	if err != nil {
		return ""
	}
	for _, u := range list {
		if u.Name != name {
			continue
		}
		out := string(u.Role)
		if len(u.Feeds) > 0 {
			out += " " + strings.Join(u.Feeds, " ")
		}
		if !u.Data {
			out += " without data"
		}
		return out
	}
	return "not there"
}

func (s *Server) acts(ctx context.Context, in *struct {
	Limit
	Feed   string `query:"feed" maxLength:"63"`
	By     string `query:"by" maxLength:"63"`
	What   string `query:"what" maxLength:"63" doc:"The operation, such as put-feed"`
	Before int64  `query:"before" minimum:"0" doc:"The next of the page before"`
}) (*body[api.ActList], error) {
	list, err := s.ledger.Acts(ctx, ledger.ActFilter{Feed: in.Feed, By: in.By, What: in.What, Before: in.Before, Most: in.Most + 1})
	out := api.ActList{Items: each(list[:min(in.Most, len(list))], func(a *ledger.Act) api.Act {
		return api.Act{ID: a.ID, At: a.At, By: a.By, Way: a.Way, From: a.Came, What: a.What, Feed: a.Feed, Of: a.Of, Because: a.Because,
			Before: a.Before, After: a.After, Status: a.Status}
	})}
	if len(list) > in.Most {
		out.Next = list[in.Most-1].ID
	}
	return give(out, err)
}
