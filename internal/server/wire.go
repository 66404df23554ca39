package server

import (
	"cmp"

	"mullein/internal/api"
	"mullein/internal/core/check"
	"mullein/internal/core/feed"
	"mullein/internal/core/filename"
	"mullein/internal/inspect"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

// What the parts below know becomes what goes over the wire: a function a type.

// each turns the items of a list into those of the wire. Without any, the list is
// empty and not null.
func each[T, W any](list []T, to func(*T) W) []W {
	out := make([]W, len(list))
	for i := range list {
		out[i] = to(&list[i])
	}
	return out
}

// optional turns a value that may be missing into that of the wire.
func optional[T, W any](v *T, to func(*T) W) *W {
	if v == nil {
		return nil
	}
	out := to(v)
	return &out
}

func feedOf(v *ledger.Feed) api.Feed {
	return api.Feed{
		Name:       v.Name,
		Version:    v.Version,
		Paused:     v.Paused,
		CreatedAt:  v.CreatedAt,
		Problem:    v.Problem,
		ListedAt:   v.ListedAt,
		ListedOnly: v.ListedOnly,
		Waits:      v.Waits,
		DueFrom:    v.DueFrom,
	}
}

func feedCountsOf(v *ledger.FeedCounts) api.FeedCounts { return api.FeedCounts(*v) }

func feedVersionOf(v *ledger.FeedVersion) api.FeedVersion { return api.FeedVersion(*v) }

func notableRejectOf(v *ledger.NotableReject) api.NotableReject {
	return api.NotableReject{
		Reject: rejectOf(&v.Reject),
		Path:   v.Path,
	}
}

func checkResultOf(v *ledger.CheckResult) api.CheckResult { return api.CheckResult(*v) }

func rejectGroupOf(v *ledger.RejectGroup) api.RejectGroup { return api.RejectGroup(*v) }

func runOf(v *ledger.Run) api.Run {
	return api.Run{
		ID:         v.ID,
		Feed:       v.Feed,
		Version:    v.Version,
		Cause:      v.Cause,
		By:         v.By,
		State:      string(v.State),
		Reason:     v.Reason,
		QueuedAt:   v.QueuedAt,
		StartedAt:  v.StartedAt,
		FinishedAt: v.FinishedAt,
		Loaded:     v.Loaded,
		Refused:    v.Refused,
		Failed:     v.Failed,
		Skipped:    v.Skipped,
		Balance:    api.Balance(v.Balance),
		Wanted:     wantedOf(&v.Wanted),
		Told:       runSlotsOf(&v.Told),
		CancelBy:   v.CancelBy,
	}
}

func arrivalOf(v *ledger.Arrival) api.Arrival {
	return api.Arrival{
		ID:         v.ID,
		Feed:       v.Feed,
		Path:       v.Path,
		Size:       v.Size,
		Modified:   v.Modified,
		SHA256:     v.SHA256,
		State:      string(v.State),
		Reason:     v.Reason,
		Captures:   v.Captures,
		Slot:       v.Slot,
		SlotNumber: v.SlotNumber,
		Delivery:   v.Delivery,
		IsList:     v.IsList,
		Forced:     v.Forced,
		Backlog:    v.Backlog,
		Waivable:   v.Waivable,
		Waived:     v.Waived,
		Mends:      v.Mends,
		CameAt:     v.CameAt,
		DueSlot:    v.DueSlot,
		Away:       string(v.Away),
		AwayTo:     v.AwayTo,
		Version:    v.Version,
		Generation: v.Generation,
		RunID:      v.RunID,
		CopyOf:     v.CopyOf,
		Attempts:   v.Attempts,
		TryAfter:   v.TryAfter,
		NoticedAt:  v.NoticedAt,
		SettlingAt: v.SettlingAt,
		ReadyAt:    v.ReadyAt,
		OpenedAt:   v.OpenedAt,
		StagedAt:   v.StagedAt,
		FinishedAt: v.FinishedAt,
		Balance:    api.Balance(v.Balance),
	}
}

func wantedOf(v *ledger.Wanted) api.Wanted {
	return api.Wanted{From: v.From, To: v.To, Paths: v.Paths}
}

func decisionOf(v *ledger.Decision) api.Decision { return api.Decision(*v) }

func slotOf(v *ledger.Slot) api.Slot {
	return api.Slot{
		ID:         v.ID,
		Feed:       v.Feed,
		DueAt:      v.DueAt,
		NameAt:     v.NameAt,
		Per:        v.Per,
		State:      string(v.State),
		Files:      v.Files,
		Came:       v.Came,
		Surplus:    v.Surplus,
		LateAt:     v.LateAt,
		MissingAt:  v.MissingAt,
		CompleteAt: v.CompleteAt,
		ChangedAt:  v.ChangedAt,
		Near:       each(v.Near, nearNameOf),
	}
}

func slotCountOf(v *ledger.SlotCount) api.SlotCount {
	return api.SlotCount{
		At:    v.At,
		State: string(v.State),
		N:     v.N,
	}
}

func serviceOf(v *ledger.Service) api.Service {
	return api.Service{
		ID:        v.ID,
		Name:      v.Name,
		StartedAt: v.StartedAt,
		SeenAt:    v.SeenAt,
		Alive:     v.Alive,
		Feeds:     v.Feeds,
	}
}

func totalsOf(v *ledger.Totals) api.Totals { return api.Totals(*v) }

func dayMarkOf(v *ledger.Mark) api.DayMark {
	return api.DayMark{
		Arrival: v.Arrival,
		At:      v.At,
		State:   string(v.State),
		Path:    v.Path,
		Rows:    v.Rows,
		Count:   v.Count,
	}
}

func daySlotOf(v *ledger.DaySlot) api.DaySlot {
	return api.DaySlot{
		At:      v.At,
		Missing: v.Missing,
		State:   string(v.State),
		Slots:   v.Slots,
		Good:    v.Good,
		Ahead:   v.Ahead,
	}
}

func rejectOf(v *ledger.Reject) api.Reject { return api.Reject(*v) }

func tableShapeOf(v *table.Described) api.TableShape {
	return api.TableShape{
		Table:      v.Table,
		There:      v.There,
		About:      v.About,
		Columns:    each(v.Columns, tableColumnOf),
		Unique:     append([][]string{}, v.Unique...),
		Rows:       v.Rows,
		Bytes:      v.Bytes,
		IndexBytes: v.IndexBytes,
		Partitions: v.Partitions,
		Entries:    v.Entries,
		Loads:      each(v.Loads, loadEntryOf),
		Recalls:    each(v.Recalls, recallEntryOf),
		Next:       v.Next,
	}
}

func rollupStateOf(v *table.RollupState) api.RollupState {
	return api.RollupState{
		Name:       v.Name,
		About:      v.About,
		Table:      v.Table,
		Key:        v.Key,
		Sources:    v.Sources,
		Definition: v.Definition,
		PutBy:      v.PutBy,
		PutAt:      v.PutAt,
		Filled:     v.Filled,
		ComputedAt: v.ComputedAt,
		Waiting:    v.Waiting,
		Problem:    v.Problem,
	}
}

func rollupVerifiedOf(v *table.RollupVerified) api.RollupVerified { return api.RollupVerified(*v) }

func verifiedOf(v *table.Verified) api.Verified {
	return api.Verified{
		Same:      v.Same,
		Later:     v.Later,
		Newer:     v.Newer,
		Gone:      v.Gone,
		Different: v.Different,
		Missing:   v.Missing,
		Repeated:  v.Repeated,
		Columns:   v.Columns,
		Samples:   each(v.Samples, sampleRowOf),
	}
}

func rowHistoryOf(v *table.History) api.RowHistory {
	return api.RowHistory{
		Table: v.Table,
		Key:   v.Key,
		Now:   v.Now,
		Hand:  v.Hand,
		Steps: each(v.Steps, rowStepOf),
	}
}

func tableRowsOf(v *table.Rows) api.TableRows { return api.TableRows(*v) }

func seenFileOf(v *inspect.Seen) api.SeenFile {
	return api.SeenFile{
		Path:     v.Path,
		Size:     v.Size,
		Modified: v.Modified,
		Taken:    v.Taken,
		Why:      v.Why,
		Captures: v.Captures,
		Arrival:  v.Arrival,
		State:    string(v.State),
	}
}

func differenceOf(v *inspect.Difference) api.Difference { return api.Difference(*v) }

func recalledOf(v *inspect.Recalled) api.Recalled {
	return api.Recalled{
		Feed:     v.Feed,
		Table:    v.Table,
		Key:      v.Key,
		Preview:  v.Preview,
		Arrivals: v.Arrivals,
		Back:     v.Back,
		Outcome:  optional(v.Outcome, recallOutcomeOf),
		Later:    each(v.Later, rereadOf),
	}
}

func rebuildingOf(v *inspect.Rebuilding) api.Rebuilding {
	return api.Rebuilding{
		Feed:       v.Feed,
		Table:      v.Table,
		There:      v.There,
		Rows:       v.Rows,
		RowsAfter:  v.RowsAfter,
		Others:     v.Others,
		Changed:    v.Changed,
		Arrivals:   v.Arrivals,
		Missing:    each(v.Missing, func(g *inspect.Gone) api.GoneArrival { return api.GoneArrival(*g) }),
		Superseded: v.Superseded,
	}
}

func rehearsalOf(v *inspect.Rehearsal) api.Rehearsal {
	return api.Rehearsal{
		Feed:     v.Feed,
		Path:     v.Path,
		Waits:    v.Waits,
		Refused:  v.Refused,
		Known:    v.Known,
		Balance:  api.Balance(v.Balance),
		Checks:   each(v.Checks, checkOutcomeOf),
		Shape:    v.Shape,
		Columns:  v.Columns,
		Samples:  each(v.Samples, sampleRowOf),
		Rejects:  each(v.Rejects, rejectOf),
		Deep:     v.Deep,
		Traces:   v.Traces,
		Warnings: append([]string{}, v.Warnings...),
		Took:     v.Took,
	}
}

func progressOf(v *load.Progress) api.Progress {
	return api.Progress{
		Work:    string(cmp.Or(v.Work, load.Loading)), // services of an older version tell of loads alone
		Feed:    v.Feed,
		Arrival: v.Arrival,
		Run:     v.Run,
		BeganAt: v.Began,
		Path:    v.Path,
		Files:   v.Files,
		Step:    string(v.Step),
		Bytes:   v.Bytes,
		Size:    v.Size,
		Rows:    v.Rows,
		Waits:   v.Waits,
	}
}

func plannedSlotOf(v *feed.PlannedSlot) api.PlannedSlot { return api.PlannedSlot(*v) }

func runSlotsOf(v *ledger.RunSlots) api.RunSlots { return api.RunSlots(*v) }

func nearNameOf(v *filename.Near) api.NearName { return api.NearName(*v) }

func tableColumnOf(v *table.DescribedColumn) api.TableColumn { return api.TableColumn(*v) }

func loadEntryOf(v *table.LoadEntry) api.LoadEntry {
	return api.LoadEntry{
		Nth:         v.Nth,
		Feed:        v.Feed,
		Path:        v.Path,
		Arrival:     v.Arrival,
		Generation:  v.Generation,
		Run:         v.Run,
		SHA256:      v.SHA256,
		Balance:     api.Balance(v.Balance),
		Active:      v.Active,
		Journal:     v.Journal,
		RowsBefore:  v.RowsBefore,
		RowsAfter:   v.RowsAfter,
		CommittedAt: v.CommittedAt,
	}
}

func recallEntryOf(v *table.RecallEntry) api.RecallEntry { return api.RecallEntry(*v) }

func sampleRowOf(v *table.Sample) api.SampleRow { return api.SampleRow(*v) }

func rowStepOf(v *table.Step) api.RowStep {
	return api.RowStep{
		What:   v.What,
		Load:   optional(v.Load, loadEntryOf),
		Line:   v.Line,
		At:     v.At,
		Before: v.Before,
		After:  v.After,
	}
}

func recallOutcomeOf(v *table.Outcome) api.RecallOutcome {
	return api.RecallOutcome{
		Removed:  v.Removed,
		Restored: v.Restored,
		Returned: v.Returned,
		Same:     v.Same,
		Left:     v.Left,
		Samples:  each(v.Samples, recallRowOf),
	}
}

func rereadOf(v *load.Reread) api.Reread {
	return api.Reread{
		LoadEntry: loadEntryOf(&v.LoadEntry),
		Rows:      v.Rows,
		Why:       v.Why,
	}
}

func checkOutcomeOf(v *check.Result) api.CheckOutcome {
	return api.CheckOutcome{
		Name:   v.Name,
		Scope:  string(v.Scope),
		Else:   string(v.Else),
		Held:   v.Held,
		Saw:    v.Saw,
		Value:  v.Value,
		Failed: v.Failed,
		Low:    v.Low,
		High:   v.High,
	}
}

func recallRowOf(v *table.RecallRow) api.RecallRow { return api.RecallRow(*v) }
