package server

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
)

func (s *Server) cureRoutes() {
	huma.Register(s.api, get("problems", "/problems", "What is wrong, told as one each, the newest first"), s.problems)
	huma.Register(s.api, do(http.MethodPost, "cure", "/problems/{id}/cure",
		"Do one thing about all parts of a problem of which it may be done"), s.cure)
	huma.Register(s.api, get("decisions", "/decisions", "What people decided since a time, the newest first"), s.decisions)
}

func (s *Server) problems(ctx context.Context, in *struct {
	Limit
	Over   bool  `query:"over" doc:"With those that are over"`
	Mine   bool  `query:"mine" doc:"Only those of feeds whose owner is the caller: their name, or an address that begins with it"`
	Before int64 `query:"before" minimum:"0" doc:"The next of the page before"`
}) (*body[api.ProblemList], error) {
	filter := ledger.ProblemFilter{Over: in.Over, Before: in.Before, Most: in.Most + 1}
	if in.Mine {
		filter.Mine = callerOf(ctx)
	}
	list, err := s.ledger.Problems(ctx, filter)
	if err != nil {
		return nil, answer(err)
	}
	var out api.ProblemList
	if len(list) > in.Most {
		list = list[:in.Most]
		out.Next = list[in.Most-1].ID
	}
	out.Items, err = s.problemViews(ctx, list)
	return give(out, err)
}

// problemViews says of problems what their parts are by now, and what may be done about them.
func (s *Server) problemViews(ctx context.Context, list []ledger.Problem) ([]api.Problem, error) {
	var ids, arrivals, slots []int64
	for _, p := range list {
		ids = append(ids, p.ID)
		for _, t := range p.Parts {
			if t.Arrival > 0 {
				arrivals = append(arrivals, t.Arrival)
			}
			if t.Slot > 0 {
				slots = append(slots, t.Slot)
			}
		}
	}
	counts, err := s.ledger.CountParts(ctx, ids)
	if err != nil {
		return nil, err
	}
	files, err := s.ledger.ByNumber(ctx, arrivals)
	if err != nil {
		return nil, err
	}
	expected, err := s.slotsByNumber(ctx, slots)
	if err != nil {
		return nil, err
	}
	out := make([]api.Problem, len(list))
	for i, p := range list {
		c := counts[p.ID]
		out[i] = api.Problem{ID: p.ID, Kind: string(p.Kind), Cause: p.Cause, BeganAt: p.BeganAt, OverAt: p.OverAt,
			Lasting: c.Parts, Feeds: c.Feeds,
			Cures: each(c.Cures(), func(c *ledger.Cure) api.Cure { return api.Cure{Verb: string(c.Verb), Of: c.Of} }),
			Parts: each(p.Parts, func(t *ledger.ProblemPart) api.ProblemPart {
				return api.ProblemPart{Feed: t.Feed, Arrival: t.Arrival, State: string(files[t.Arrival].State), Slot: t.Slot,
					Due: expected[t.Slot], What: t.What, Since: t.Since, OverAt: t.OverAt}
			})}
	}
	return out, nil
}

// slotsByNumber returns slots as people see them.
func (s *Server) slotsByNumber(ctx context.Context, of []int64) (map[int64]*api.SlotView, error) {
	list, err := s.ledger.SlotsByNumber(ctx, of)
	if err != nil {
		return nil, err
	}
	views, err := s.slotViews(ctx, slices.Collect(maps.Values(list)))
	out := make(map[int64]*api.SlotView, len(views))
	for i := range views {
		out[views[i].ID] = &views[i]
	}
	return out, err
}

type cureInput struct {
	NumberPath
	Body api.DoCure
}

func (s *Server) cure(ctx context.Context, in *cureInput) (*body[api.Cured], error) {
	verb := ledger.Verb(in.Body.Verb)
	parts, err := s.ledger.Curable(ctx, in.ID, verb)
	if err != nil {
		return nil, answer(err)
	}
	var feeds []string
	var arrivals, slots []int64
	for _, t := range parts {
		feeds, arrivals, slots = append(feeds, t.Feed), append(arrivals, t.Arrival), append(slots, t.Slot)
	}
	slices.Sort(feeds)
	if err := mayAll(ctx, slices.Compact(feeds)...); err != nil {
		return nil, err
	}
	out := api.Cured{Left: []string{}}
	if len(parts) == 0 { // others were faster
		return give(out, nil)
	}
	switch verb {
	case ledger.Excuse:
		out.Done, err = s.ledger.ExcuseSlots(ctx, slots, callerOf(ctx), in.Body.Because)
	case ledger.Accept:
		out, err = s.acceptNearest(ctx, slots, in.Body.Because)
	default:
		if err = s.mayBeUndone(ctx, verb, arrivals); err != nil {
			break
		}
		var list []ledger.Arrival
		list, err = s.ledger.Decide(ctx, verb, arrivals, callerOf(ctx), in.Body.Because)
		out.Done = int64(len(list))
	}
	return give(out, err)
}

// acceptNearest takes files for those of some slots to which their names come closest: one that comes close to two slots
// is taken for the nearer, and the other gets none.
func (s *Server) acceptNearest(ctx context.Context, slots []int64, because string) (api.Cured, error) {
	out := api.Cured{Left: []string{}}
	list, err := s.ledger.SlotsByNumber(ctx, slots)
	if err != nil {
		return out, err
	}
	slots = slices.DeleteFunc(slots, func(id int64) bool { return len(list[id].Near) == 0 })
	slices.SortStableFunc(slots, func(a, b int64) int { return cmp.Compare(list[a].Near[0].Distance, list[b].Near[0].Distance) })
	taken := map[[2]string]bool{}
	for _, id := range slots {
		slot := list[id]
		file := [2]string{slot.Feed, slot.Near[0].Path}
		if taken[file] {
			continue
		}
		taken[file] = true
		f, err := s.present(ctx, slot.Feed)
		if err == nil {
			_, err = s.inspect.Accept(ctx, f, slot.Near[0].Path, slot, inspect.RefuseLoaded, callerOf(ctx), because)
		}
		switch {
		case ctx.Err() != nil:
			return out, ctx.Err()
		case err != nil:
			out.Left = append(out.Left, fmt.Sprintf("%s for %s: %v", slot.Near[0].Path, slot.DueAt.UTC().Format(time.DateTime), err))
		default:
			out.Done++
		}
	}
	return out, nil
}

// decisionsShown is how many decisions are shown at a time.
const decisionsShown = 200

func (s *Server) decisions(ctx context.Context, in *struct {
	Since time.Time `query:"since" doc:"Default: 24 hours ago"`
}) (*body[api.DecisionList], error) {
	if in.Since.IsZero() {
		in.Since = time.Now().Add(-dayBack)
	}
	list, err := s.ledger.DecisionsSince(ctx, in.Since, decisionsShown)
	return give(api.DecisionList{Items: each(list, decisionOf)}, err)
}
