package server

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"mullein/internal/api"
	"mullein/internal/core/feed"
	"mullein/internal/engine"
	"mullein/internal/ledger"
	"mullein/internal/load"
	"mullein/internal/table"
)

func (s *Server) recall(ctx context.Context, in *struct {
	NumberPath
	Body api.Recall
}) (*body[api.Recalled], error) {
	if !in.Body.Preview && in.Body.Because == "" {
		return nil, answer(&ledger.ConflictError{Reason: "say why: because is kept with who and when"})
	}
	aim := table.TakeOut
	if in.Body.Back {
		aim = table.PutBack
	}
	if in.Body.Preview {
		return giveAs(recalledOf)(s.inspect.PreviewRecall(ctx, in.ID, aim))
	}
	return giveAs(recalledOf)(s.inspect.Recall(ctx, in.ID, aim, callerOf(ctx), in.Body.Because))
}

func (s *Server) rebuildFeed(ctx context.Context, in *struct {
	FeedPath
	Body api.Rebuild
}) (*body[api.Run], error) {
	if _, err := s.present(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	run, err := s.ledger.QueueRun(ctx, in.Feed, engine.CauseRebuild, callerOf(ctx), ledger.Wanted{
		Rebuild: &ledger.Rebuilding{WithoutMissing: in.Body.Without, WithoutOthers: in.Body.WithoutOthers,
			Because: in.Body.Because}})
	return give(runOf(&run), err)
}

func (s *Server) planRebuild(ctx context.Context, in *FeedPath) (*body[api.Rebuilding], error) {
	if _, err := s.present(ctx, in.Feed); err != nil {
		return nil, answer(err)
	}
	return giveAs(rebuildingOf)(s.inspect.PlanRebuild(ctx, in.Feed))
}

func (s *Server) loadsOf(ctx context.Context, in *NumberPath) (*body[api.LoadList], error) {
	list, err := s.inspect.Loads(ctx, in.ID)
	if err != nil {
		return nil, answer(err)
	}
	a, err := s.ledger.Arrival(ctx, in.ID)
	if err != nil {
		return nil, answer(err)
	}
	items := each(list, loadEntryOf)
	for _, e := range append(a.Earlier, ledger.EarlierLoad{Generation: a.Generation, ReadyAt: a.ReadyAt,
		OpenedAt: a.OpenedAt, StagedAt: a.StagedAt}) {
		for i := range items {
			if items[i].Generation == e.Generation {
				items[i].ReadyAt, items[i].OpenedAt, items[i].ReadAt = e.ReadyAt, e.OpenedAt, e.StagedAt
			}
		}
	}
	return give(api.LoadList{Items: items}, nil)
}

func (s *Server) verify(ctx context.Context, in *NumberPath) (*body[api.Verified], error) {
	return giveAs(verifiedOf)(s.inspect.Verify(ctx, in.ID))
}

func (s *Server) original(ctx context.Context, in *struct {
	NumberPath
	Line int64 `query:"line" minimum:"1" required:"true"`
}) (*body[api.Original], error) {
	text, why, err := s.inspect.Original(ctx, in.ID, in.Line)
	return give(api.Original{Text: text, Why: why}, err)
}

// TablePath names a target in a path.
type TablePath struct {
	Table string `path:"table" maxLength:"200" doc:"schema.table; without a schema, public"`
}

func (t TablePath) split() (schema, name string) {
	if schema, name, two := strings.Cut(t.Table, "."); two {
		return schema, name
	}
	return "public", t.Table
}

// feedsOf returns the feeds that end in a table.
func (s *Server) feedsOf(ctx context.Context, t TablePath) ([]*feed.Feed, error) {
	schema, name := t.split()
	records, err := s.ledger.FeedsOfTable(ctx, schema+"."+name)
	if err != nil {
		return nil, err
	}
	var out []*feed.Feed
	for _, r := range records {
		f, err := s.definition(ctx, r)
		if err != nil {
			continue
		}
		if of := f.Ends(schema, name); of != nil {
			out = append(out, of)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("a feed that ends in %s.%s: %w", schema, name, ledger.ErrNotFound)
	}
	return out, nil
}

// mayEndThere says why a feed cannot end in its target: the service does not know
// its database, its landing is not for suppliers, or another feed ends there and they would write over each other.
func (s *Server) mayEndThere(ctx context.Context, f *feed.Feed) error {
	if _, err := s.engine.Database(f); err != nil {
		return &ledger.ConflictError{Reason: err.Error()}
	}
	if err := s.inspect.CheckLanding(ctx, f); err != nil {
		return err
	}
	if err := s.isNoRollup(ctx, f); err != nil {
		return err
	}
	find := func(ctx context.Context) ([]ledger.Feed, error) {
		return s.ledger.FeedsOfTable(ctx, f.Target.Schema+"."+f.Target.Table)
	}
	if f.HasKinds() {
		find = s.ledger.Feeds
	}
	records, err := find(ctx)
	if err != nil {
		return err
	}
	for _, r := range records {
		o, err := s.definition(ctx, r)
		if err != nil {
			continue // it is said elsewhere
		}
		if why := f.Shares(o); why != "" {
			return &ledger.ConflictError{Reason: why}
		}
	}
	return nil
}

// isNoRollup refuses a feed that would write into the table of a rollup.
func (s *Server) isNoRollup(ctx context.Context, f *feed.Feed) error {
	database, err := s.engine.Database(f)
	if err != nil {
		return err
	}
	rollups, err := database.Rollups(ctx)
	if err != nil {
		return nil // a database that does not answer is said when files are to be loaded
	}
	for _, r := range rollups {
		if r.Table == f.Target.Schema+"."+f.Target.Table {
			return &ledger.ConflictError{Reason: fmt.Sprintf("rollup %s keeps its rows in %s; no feed can write "+
				"there", r.Name, r.Table)}
		}
	}
	return nil
}

func (s *Server) describe(ctx context.Context, in *struct {
	TablePath
	Limit
	Before int64 `query:"before" minimum:"0"`
}) (*body[api.TargetView], error) {
	feeds, err := s.feedsOf(ctx, in.TablePath)
	if err != nil {
		return nil, answer(err)
	}
	schema, name := in.split()
	database, err := s.engine.Database(feeds[0])
	if err != nil {
		return nil, answer(err)
	}
	d, err := database.Describe(ctx, schema, name, in.Before, in.Most)
	if err != nil {
		return nil, answer(err)
	}
	v := api.TargetView{TableShape: tableShapeOf(d), Feeds: []string{}, Mode: string(feeds[0].Target.Mode),
		Key: append([]string{}, feeds[0].Schema.PrimaryKey...), Kept: feed.Span(feeds[0].Target.Recall)}
	for _, f := range feeds {
		v.Feeds = append(v.Feeds, f.Name)
	}
	shape, err := load.Wanted(feeds[0])
	if err == nil {
		v.DDL = shape.DDL()
	}
	return give(v, err)
}

func (s *Server) table(ctx context.Context, in *struct {
	TablePath
	Connection string `query:"connection" default:"main" doc:"A database by the name that feeds know it by"`
}) (*body[api.TableShape], error) {
	database, err := s.engine.Database(&feed.Feed{Target: feed.Target{Connection: in.Connection}})
	if err != nil {
		return nil, answer(err)
	}
	schema, name := in.split()
	d, err := database.Describe(ctx, schema, name, 0, 1)
	if err == nil && !d.There {
		err = fmt.Errorf("table %s.%s: %w", schema, name, ledger.ErrNotFound)
	}
	if err != nil {
		return nil, answer(err)
	}
	return give(tableShapeOf(d), nil)
}

func (s *Server) collapse(ctx context.Context, in *TablePath) (*body[api.Collapsed], error) {
	feeds, err := s.feedsOf(ctx, *in)
	if err != nil {
		return nil, answer(err)
	}
	database, err := s.engine.Database(feeds[0])
	if err != nil {
		return nil, answer(err)
	}
	shape, err := load.Wanted(feeds[0])
	if err != nil {
		return nil, answer(err)
	}
	n, err := database.Collapse(ctx, shape)
	s.log.Info("keys that stood twice were collapsed", "table", shape.String(), "rows", n, "by", callerOf(ctx))
	return give(api.Collapsed{Rows: n}, rollupError(err))
}

func (s *Server) row(ctx context.Context, in *struct {
	TablePath
	Key []string `query:"key,explode" minItems:"1" required:"true" doc:"column=value, once for each column of the key"`
}) (*body[api.RowHistory], error) {
	feeds, err := s.feedsOf(ctx, in.TablePath)
	if err != nil {
		return nil, answer(err)
	}
	columns := feeds[0].Schema.PrimaryKey
	if len(columns) == 0 {
		return nil, answer(&ledger.ConflictError{Reason: fmt.Sprintf("%s has no key, by which a row's history could "+
			"be found", in.Table)})
	}
	key := map[string]string{}
	for _, k := range in.Key {
		column, value, ok := strings.Cut(k, "=")
		if !ok || !slices.Contains(columns, column) {
			return nil, answer(&ledger.ConflictError{Reason: fmt.Sprintf("%q does not name a column of the key (%s) "+
				"with its value, as in %s=...", k, strings.Join(columns, ", "), columns[0])})
		}
		key[column] = value
	}
	return giveAs(rowHistoryOf)(s.inspect.History(ctx, feeds[0], key))
}

func (s *Server) targetRows(ctx context.Context, in *struct {
	TablePath
	Limit
	Where     []string `query:"where,explode" maxItems:"20" doc:"COLUMN WAY VALUE, such as level >= 3; the ways are = != < <= > >= contains empty filled. All of them must hold"`
	After     []string `query:"after,explode" maxItems:"32" doc:"The key of the last row of the page before, a value for each of its columns"`
	Ascending bool     `query:"ascending" doc:"The smallest keys first, and not the greatest"`
}) (*body[api.TableRows], error) {
	feeds, err := s.feedsOf(ctx, in.TablePath)
	if err != nil {
		return nil, answer(err)
	}
	shape, err := load.Wanted(feeds[0])
	if err != nil {
		return nil, answer(err)
	}
	database, err := s.engine.Database(feeds[0])
	if err != nil {
		return nil, answer(&ledger.ConflictError{Reason: err.Error()})
	}
	var columns []string
	for _, c := range shape.Columns {
		columns = append(columns, c.Name)
	}
	wish := table.Wish{After: in.After, Ascending: in.Ascending, Most: in.Most}
	for _, text := range in.Where {
		c, err := table.ParseCondition(text, columns)
		if err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		wish.Where = append(wish.Where, c)
	}
	return giveAs(tableRowsOf)(database.Page(ctx, shape, wish))
}
