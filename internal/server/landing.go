package server

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/inspect"
	"mullein/internal/landing"
	"mullein/internal/ledger"
)

type feedFilesInput struct {
	FeedPath
	Most int `query:"limit" default:"1000" minimum:"1" maximum:"20000"`
}

func (s *Server) feedFiles(ctx context.Context, in *feedFilesInput) (*body[api.FileList], error) {
	f, err := s.present(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	list, more, err := s.inspect.Which(ctx, f, in.Most)
	return give(api.FileList{Items: each(list, seenFileOf), More: more}, err)
}

// deliverInput takes a file as it comes: it is never in memory as a whole.
type deliverInput struct {
	FeedPath
	Path    string `query:"path" required:"true" minLength:"1" maxLength:"4096" doc:"Below the landing"`
	Replace bool   `query:"replace" doc:"Write over the file that lies there"`
	content io.Reader
}

// Resolve keeps the body, which huma would read whole.
func (in *deliverInput) Resolve(ctx huma.Context) []error {
	in.content = ctx.BodyReader()
	return nil
}

// maxDelivered bounds a file that is delivered through the API.
const maxDelivered = 16 << 30

func (s *Server) deliver(ctx context.Context, in *deliverInput) (*body[api.Delivered], error) {
	f, err := s.present(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	existing := landing.KeepExisting
	if in.Replace {
		existing = landing.WriteOver
	}
	entry, made, err := s.inspect.Deliver(ctx, f, in.Path, &bounded{in.content, maxDelivered}, existing)
	if err != nil {
		return nil, answer(err)
	}
	if made {
		s.engine.Changed() // the feed need not wait until its landing is looked for again
	}
	return give(api.Delivered{Feed: f.Name, Path: in.Path, Size: entry.Size,
		Captures: f.Landing.Look(in.Path, max(1, entry.Size)).Captures}, nil)
}

// bounded fails when more comes than is taken: half a file must not be taken
// for a whole one.
type bounded struct {
	r    io.Reader
	left int64
}

func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return 0, fmt.Errorf("a file of more than %d GiB cannot be delivered so; put it into the landing",
			maxDelivered>>30)
	}
	return n, err
}

func (s *Server) decide(ctx context.Context, in *struct{ Body api.Verdict }) (*body[api.Decided], error) {
	d := in.Body
	of := d.Arrivals
	if len(of) == 0 {
		var err error
		if of, err = s.picked(ctx, d); err != nil {
			return nil, answer(err)
		}
	}
	feeds, err := s.ledger.FeedsOf(ctx, of)
	if err != nil {
		return nil, answer(err)
	}
	if err := mayAll(ctx, feeds...); err != nil {
		return nil, err
	}
	if err := s.mayBeUndone(ctx, ledger.Verb(d.Verb), of); err != nil {
		return nil, answer(err)
	}
	list, err := s.ledger.Decide(ctx, ledger.Verb(d.Verb), of, callerOf(ctx), d.Because)
	const shown = 100
	return give(api.Decided{Arrivals: int64(len(list)), Items: each(list[:min(shown, len(list))], arrivalOf)}, err)
}

// mayBeUndone refuses to load arrivals again whose rows would be added to those that
// they have added already.
func (s *Server) mayBeUndone(ctx context.Context, verb ledger.Verb, of []int64) error {
	if verb != ledger.Redo {
		return nil
	}
	feeds, err := s.ledger.FeedsOf(ctx, of, ledger.Loaded)
	if err != nil {
		return err
	}
	for _, name := range feeds {
		f, _, err := s.inspect.Definition(ctx, name)
		if err != nil {
			return err
		}
		if how, adds := f.Target.Adds(); adds && !f.Target.Undoes() {
			return &ledger.ConflictError{Reason: fmt.Sprintf("files of %s cannot be loaded again (%s): %s", name, how,
				f.Target.CannotUndo())}
		}
	}
	return nil
}

// picked returns the arrivals that a decision selects.
func (s *Server) picked(ctx context.Context, d api.Verdict) ([]int64, error) {
	record, err := s.ledger.Feed(ctx, d.Feed)
	if err != nil {
		return nil, err
	}
	if d.Text == "" && d.Day == "" && d.State == "" && !d.Backlog {
		return nil, &ledger.ConflictError{Reason: "say which arrivals: by number, or by text, day, state or backlog"}
	}
	filter := ledger.Filter{Feed: d.Feed, Text: d.Text, State: ledger.State(d.State), Backlog: d.Backlog}
	if d.Day != "" {
		f, err := s.definition(ctx, record)
		if err != nil {
			return nil, err
		}
		if filter.Since, err = time.ParseInLocation(time.DateOnly, d.Day, f.Landing.Zone); err != nil {
			return nil, &ledger.ConflictError{Reason: d.Day + " is no day; write it as 2026-07-01"}
		}
		filter.Until = filter.Since.AddDate(0, 0, 1)
	}
	of, err := s.ledger.Pick(ctx, filter, ledger.Verb(d.Verb))
	if err == nil && len(of) == 0 {
		err = &ledger.ConflictError{Reason: "no arrivals of " + d.Feed + " are such that they can be taken for " +
			d.Verb}
	}
	return of, err
}

func (s *Server) arrivalDecisions(ctx context.Context, in *NumberPath) (*body[api.DecisionList], error) {
	if _, err := s.ledger.Arrival(ctx, in.ID); err != nil {
		return nil, answer(err)
	}
	list, err := s.ledger.Decisions(ctx, in.ID, 0)
	return give(api.DecisionList{Items: each(list, decisionOf)}, err)
}

type slotsInput struct {
	Number int64     `query:"number" minimum:"0" doc:"One slot, whenever it was due"`
	Feed   string    `query:"feed"`
	Text   string    `query:"text" maxLength:"200" doc:"Words, each a part of the feed's name or of what tells the slot from others at its time"`
	From   time.Time `query:"from" doc:"Default: 24 hours ago"`
	To     time.Time `query:"to" doc:"Default: now"`
	Most   int       `query:"limit" default:"1000" minimum:"1" maximum:"20000"`
}

func (s *Server) slots(ctx context.Context, in *slotsInput) (*body[api.SlotList], error) {
	if in.To.IsZero() {
		in.To = time.Now()
	}
	if in.From.IsZero() {
		in.From = in.To.Add(-dayBack)
	}
	list, err := s.ledger.SlotsBetween(ctx, ledger.SlotFilter{Number: in.Number, Feed: in.Feed, Text: in.Text, From: in.From, To: in.To,
		Most: in.Most + 1})
	if err != nil {
		return nil, answer(err)
	}
	more := len(list) > in.Most
	views, err := s.slotViews(ctx, list[:min(in.Most, len(list))])
	return give(api.SlotList{Items: views, More: more}, err)
}

type slotCountsInput = planInput

func (s *Server) slotCounts(ctx context.Context, in *slotCountsInput) (*body[api.SlotCountList], error) {
	if _, err := s.ledger.Feed(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	if in.To.Sub(in.From) > maxPlan {
		return nil, huma.Error422UnprocessableEntity("a span of up to 400 days")
	}
	list, err := s.ledger.SlotCounts(ctx, in.Feed, in.From, in.To)
	return give(api.SlotCountList{Items: each(list, slotCountOf)}, err)
}

// wrong returns the slots that need a person.
func (s *Server) wrong(ctx context.Context, feed string) ([]api.SlotView, error) {
	list, err := s.ledger.WrongSlots(ctx, feed, needsShown)
	if err != nil {
		return nil, err
	}
	return s.slotViews(ctx, list)
}

func (s *Server) slotViews(ctx context.Context, list []ledger.Slot) ([]api.SlotView, error) {
	out := make([]api.SlotView, len(list))
	names := make([]string, len(list))
	for i := range list {
		names[i] = list[i].Feed
	}
	slices.Sort(names)
	records, err := s.ledger.FeedsNamed(ctx, slices.Compact(names))
	if err == nil {
		err = s.read(ctx, records)
	}
	if err != nil {
		return nil, err
	}
	feeds := make(map[string]*feed.Feed, len(records))
	for _, r := range records {
		feeds[r.Name], _ = s.definition(ctx, r) // one that cannot be read has said so
	}
	for i := range list {
		f := feeds[list[i].Feed]
		out[i].Slot = slotOf(&list[i])
		if f != nil && f.Due != nil {
			out[i].Say = f.Due.Say
			if f.Due.Times != nil {
				out[i].Zone = f.Due.Times.Zone().String()
			}
			if list[i].Files > 0 && list[i].CompleteAt == nil { // of others, what came is known
				out[i].Expected = inspect.Expected(f, &list[i])
			}
		}
	}
	return out, nil
}

func (s *Server) slot(ctx context.Context, in *NumberPath) (*body[api.SlotDetail], error) {
	return give(s.slotDetail(ctx, in.ID))
}

func (s *Server) slotDetail(ctx context.Context, id int64) (api.SlotDetail, error) {
	var out api.SlotDetail
	slot, err := s.ledger.Slot(ctx, id)
	if err != nil {
		return out, err
	}
	views, err := s.slotViews(ctx, []ledger.Slot{slot})
	if err != nil {
		return out, err
	}
	out.SlotView = views[0]
	const shown = 1000
	arrivals, err := s.ledger.OfSlot(ctx, id, shown)
	if err != nil {
		return out, err
	}
	decisions, err := s.ledger.Decisions(ctx, 0, id)
	out.Arrivals, out.Decisions = each(arrivals, arrivalOf), each(decisions, decisionOf)
	return out, err
}

type acceptInput struct {
	NumberPath
	Body api.AcceptFile
}

func (s *Server) accept(ctx context.Context, in *acceptInput) (*body[api.Arrival], error) {
	slot, err := s.ledger.Slot(ctx, in.ID)
	if err != nil {
		return nil, answer(err)
	}
	f, err := s.present(ctx, slot.Feed)
	if err != nil {
		return nil, answer(err)
	}
	loaded := inspect.RefuseLoaded
	if in.Body.Although {
		loaded = inspect.TakeLoaded
	}
	return giveAs(arrivalOf)(s.inspect.Accept(ctx, f, in.Body.Path, slot, loaded, callerOf(ctx), in.Body.Because))
}

type excuseInput struct {
	NumberPath
	Body api.Because
}

func (s *Server) excuse(ctx context.Context, in *excuseInput) (*body[api.SlotDetail], error) {
	if _, err := s.ledger.ExcuseSlot(ctx, in.ID, callerOf(ctx), in.Body.Because); err != nil {
		return nil, answer(err)
	}
	return give(s.slotDetail(ctx, in.ID))
}

type planInput struct {
	FeedPath
	From time.Time `query:"from" required:"true"`
	To   time.Time `query:"to" required:"true"`
}

// maxPlan bounds the span of a plan.
const maxPlan = 400 * 24 * time.Hour

func (s *Server) plan(ctx context.Context, in *planInput) (*body[api.Plan], error) {
	f, err := s.present(ctx, in.Feed)
	if err != nil {
		return nil, answer(err)
	}
	if f.Due == nil || f.Due.Times == nil {
		return nil, huma.Error422UnprocessableEntity("feed " + f.Name + " has no schedule of what is due")
	}
	if in.To.Sub(in.From) > maxPlan {
		return nil, huma.Error422UnprocessableEntity("a span of up to 400 days")
	}
	return give(api.Plan{Zone: f.Due.Times.Zone().String(), Items: each(f.Plan(in.From, in.To), plannedSlotOf)}, nil)
}

type reconcileInput struct {
	FeedPath
	Mend bool `query:"mend" doc:"Mend what is safe"`
}

func (s *Server) reconcile(ctx context.Context, in *reconcileInput) (*body[api.DifferenceList], error) {
	if _, err := s.ledger.Feed(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	reconcile := s.inspect.Reconcile
	if in.Mend {
		reconcile = s.inspect.ReconcileAndMend
	}
	list, err := reconcile(ctx, in.Feed)
	return give(api.DifferenceList{Items: each(list, differenceOf)}, err)
}
