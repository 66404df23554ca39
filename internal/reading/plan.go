package reading

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/expression"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// Plan is how the files of a feed, or of one kind of its files, are read: made
// once for all of them, and never changed. Its programs keep scratch space, so
// one goroutine at a time reads by a plan.
type Plan struct {
	Feed    *feed.Feed // with the schema of the kind, and the columns that were learned from files
	Columns []*tabular.Column

	derived   []*expression.Program
	leaveOut  *expression.Program
	deletes   *expression.Program
	checks    []rowCheck
	allChecks *expression.Program // true when all checks of rows hold; nil where it is not worth while
	own       []int               // values that are those of the target's own columns, in their order
	digested  []int               // values that the digest covers, in the order of their names
	limits    []limit
}

// limit is what the target's column of a value cannot take.
type limit struct {
	tabular.Limit
	name string
	at   int // in values
}

// rowCheck is a check of rows and what it saw.
type rowCheck struct {
	check.Check
	program *expression.Program
	failed  int64
	first   int64 // line that broke it
}

// derivation computes a derived column.
type derivation struct {
	name    string
	program *expression.Program
	at      int  // in values
	key     bool // it must have a value
}

// NewPlan compiles the schema and the expressions of a feed.
func NewPlan(f *feed.Feed) (*Plan, error) {
	p := &Plan{Feed: f}
	var err error
	if p.Columns, err = f.Schema.Compile(f.Zone); err != nil {
		return nil, err
	}
	scope, err := f.Scope()
	if err != nil {
		return nil, err
	}
	for _, d := range f.Derive {
		program, err := scope.Compile(d.Expression)
		if err != nil {
			return nil, fmt.Errorf("derive.%s: %w", d.Name, err)
		}
		p.derived = append(p.derived, program)
	}
	for _, e := range []struct {
		source string
		to     **expression.Program
	}{{f.LeaveOut, &p.leaveOut}, {f.DeleteWhen, &p.deletes}} {
		if e.source == "" {
			continue
		}
		if *e.to, err = scope.Compile(e.source); err != nil {
			return nil, err
		}
	}
	for _, k := range f.Checks.Row {
		program, err := scope.Compile(k.Must)
		if err != nil {
			return nil, fmt.Errorf("check %s: %w", k.Name, err)
		}
		p.checks = append(p.checks, rowCheck{Check: k, program: program})
	}
	p.allChecks = together(scope, f.Checks.Row)
	for i, c := range p.Columns {
		if !c.Field.Unstored {
			p.own = append(p.own, i)
		}
	}
	for i := range f.Derive {
		p.own = append(p.own, len(p.Columns)+i)
	}
	p.digested = p.toDigest()
	return p, nil
}

// Limit has rows rejected that a column of the target cannot take.
func (p *Plan) Limit(column string, l tabular.Limit) {
	at := p.own[slices.Index(p.Feed.OwnColumns(), column)]
	if at < len(p.Columns) && p.Columns[at].Field.Constraints.Required {
		l.NotNull = false // as the schema has it
	}
	if l.Computed = at >= len(p.Columns); l.Any() {
		p.limits = append(p.limits, limit{l, column, at})
	}
}

// together makes one expression of all checks of rows: asked as one they take
// much less time. It is nil where there are fewer than two.
func together(scope *expression.Scope, checks []check.Check) *expression.Program {
	if len(checks) < 2 {
		return nil
	}
	var all []string
	for _, k := range checks {
		all = append(all, "("+k.Must+")")
	}
	program, err := scope.Compile(strings.Join(all, " && "))
	if err != nil { // too long, or a comment in one of them
		return nil
	}
	return program
}

// toDigest chooses the columns of the digest: not those that say something of
// the run, or the same row of two runs would never be the same.
func (p *Plan) toDigest() (out []int) {
	for _, at := range p.own {
		if d := at - len(p.Columns); d >= 0 && p.Feed.Derive[d].OfRun() {
			continue
		}
		out = append(out, at)
	}
	sort.Slice(out, func(a, b int) bool { return p.nameOf(out[a]) < p.nameOf(out[b]) })
	return out
}

// nameOf returns the column of a value.
func (p *Plan) nameOf(at int) string {
	if at < len(p.Columns) {
		return p.Columns[at].Field.Name
	}
	return p.Feed.Derive[at-len(p.Columns)].Name
}

// Digested returns the columns of the digest, in its order.
func (p *Plan) Digested() []string {
	out := make([]string, len(p.digested))
	for i, at := range p.digested {
		out[i] = p.nameOf(at)
	}
	return out
}

// how says how a file is read, or what was mended of one.
func (p *Plan) how(mended bool) decode.How {
	if mended {
		return MendedHow(p.Feed)
	}
	return p.Feed.How()
}

// isPrivate reports whether the values of a column are never shown.
func (p *Plan) isPrivate(column string) bool { return slices.Contains(p.Feed.Private, column) }
