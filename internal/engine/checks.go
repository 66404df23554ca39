package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/tabular"
	"mullein/internal/table"
)

// verdict is the reason to refuse a delivery that could be read.
type verdict struct {
	reason string
	// waivable says that a person may let it in all the same: only the tolerance
	// or a check of the delivery stands against it.
	waivable bool
}

func (v *verdict) Error() string { return v.reason }

func (w *worker) compileDelivery(c *compiled) error {
	kinds, err := w.kind().ColumnKinds()
	if err != nil {
		return err
	}
	var names []string
	for _, k := range w.feed.Checks.Row {
		names = append(names, k.Name)
	}
	for _, k := range w.feed.Checks.Delivery {
		names = append(names, k.Name)
	}
	known := map[check.Question]bool{}
	for _, k := range w.feed.Checks.Delivery {
		p, err := check.Compile(k, kinds, names)
		if err != nil {
			return fmt.Errorf("check %s: %w", k.Name, err)
		}
		c.delivery = append(c.delivery, p)
		for _, q := range p.Questions {
			if !known[q] {
				known[q] = true
				c.questions = append(c.questions, q)
			}
		}
	}
	return nil
}

// ofThePast reports whether a question is about earlier loads, which the ledger
// answers; the target answers the others from the staged rows.
func ofThePast(q check.Question) bool {
	return q.Ask == "last_rows" || q.Ask == "usual_rows" || q.Ask == "last"
}

// judge finds what the database had to be asked for, and holds the parts
// against the checks: as one delivery, or each alone. The error names the part
// that is refused.
func (l *loading) judge(ctx context.Context, load *table.Load, parts []*part, together bool) error {
	if err := l.w.heldAgainstOthers(ctx, load, parts); err != nil {
		return err
	}
	for _, p := range parts {
		if p.file != nil && !p.file.Unchanged() {
			return &culpritError{p, errChanged}
		}
		if err := l.judgeFile(p); err != nil {
			return &culpritError{p, err}
		}
	}
	deliveries := [][]*part{parts}
	if !together {
		deliveries = nil
		for _, p := range parts {
			deliveries = append(deliveries, []*part{p})
		}
	}
	for _, d := range deliveries {
		var read, rejected int64
		for _, p := range d {
			read, rejected = read+p.reading.read, rejected+p.reading.rejected
		}
		if reason := l.w.feed.Tolerate.Refuse(read, rejected); reason != "" && !d[0].arrival.Waived {
			return &culpritError{d[0], &verdict{reason, true}}
		}
	}
	return l.judgeDeliveries(ctx, load, deliveries)
}

// judgeFile holds a file against its marker, its list and the checks of files
// and rows. Mended rows are part of a file that was held against them before.
func (l *loading) judgeFile(p *part) error {
	reason, err := p.refusal()
	if err != nil {
		return err
	}
	if reason != "" {
		return &decode.FileError{Reason: reason}
	}
	p.results = p.reading.results()
	c := &l.w.feed.Checks
	if (c.RowsFrom > 0 || c.RowsTo > 0) && p.arrival.Mends == nil {
		p.results = append(p.results, check.Rows(p.reading.read, c.RowsFrom, c.RowsTo))
	}
	if c.Checksum != nil && p.arrival.Mends == nil && p.sent == nil {
		r, err := l.checksum(p)
		if err != nil {
			return err
		}
		p.results = append(p.results, r)
	}
	if t := p.reading.trailer; t != nil && p.arrival.Mends == nil {
		p.results = append(p.results, t.Judge(p.reading.read))
	}
	for _, r := range p.results {
		if !r.Held && r.Else == check.Refuse {
			return &decode.FileError{Reason: fmt.Sprintf("check %s: %s", r.Name, r.Saw)}
		}
	}
	return nil
}

func (l *loading) checksum(p *part) (check.Result, error) {
	land := &l.w.feed.Landing
	at := l.w.feed.Checks.Checksum.Expand(p.arrival.Path, land.Files.Read(p.arrival.Captures), land.Zone)
	const most = 64 << 10
	text, err := l.folder.ReadSmall(at, most)
	if errors.Is(err, fs.ErrNotExist) {
		return check.Result{}, fmt.Errorf("its checksum %s is not there", at)
	}
	if err != nil {
		return check.Result{}, err
	}
	m := check.ReadMarker(string(text))
	digest, err := p.digestBy(m.Algorithm)
	if err != nil {
		return check.Result{}, err
	}
	return check.Checksum(m, digest, at), nil
}

// judgeDeliveries holds each delivery against the checks of deliveries. What
// they saw is kept with its first file.
func (l *loading) judgeDeliveries(ctx context.Context, load *table.Load, deliveries [][]*part) error {
	compiled, err := l.w.compile()
	if err != nil || len(compiled.delivery) == 0 {
		return err
	}
	var staged []check.Question
	for _, q := range compiled.questions {
		if q.Ask != "rows" && !ofThePast(q) {
			staged = append(staged, q)
		}
	}
	earlier, err := l.w.remember(ctx, compiled.questions)
	if err != nil {
		return err
	}
	answers, err := load.Answer(ctx, staged, len(deliveries) == 1)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, d := range deliveries {
		if d[0].arrival.Mends != nil { // a few rows are no delivery
			continue
		}
		known := answers[d[0].n]
		if len(deliveries) == 1 {
			known = answers[0]
		}
		if known == nil {
			known = map[check.Question]check.Answer{}
		}
		earlier.answer(known)
		var read int64
		for _, p := range d {
			read += p.reading.read
		}
		known[check.Question{Ask: "rows"}] = check.Answer{Value: tabular.Value{Kind: tabular.Integer, I: read}}
		if err := judgeDelivery(d[0], compiled.delivery, known, now); err != nil {
			return &culpritError{d[0], err}
		}
		earlier.add(read, d[0].results)
	}
	return nil
}

// usualLoads is of how many loads the usual number of rows is the median.
const usualLoads = 10

// past is what is known of the loads before one. Loads that share a transaction
// come one after the other here too.
type past struct {
	questions []check.Question
	rows      []float64 // the newest first
	values    map[string]*float64
}

// remember looks up what questions ask of the past.
func (w *worker) remember(ctx context.Context, questions []check.Question) (*past, error) {
	p := &past{values: map[string]*float64{}}
	for _, q := range questions {
		if !ofThePast(q) {
			continue
		}
		var err error
		p.questions = append(p.questions, q)
		switch {
		case q.Ask == "last":
			p.values[q.Column], err = w.e.Ledger.LastValue(ctx, w.feed.Name, q.Column)
		case p.rows == nil:
			p.rows, err = w.e.Ledger.RecentRows(ctx, w.feed.Name, usualLoads)
		}
		if err != nil {
			return nil, err
		}
	}
	return p, nil
}

// answer answers the questions; Null where nothing came before.
func (p *past) answer(known map[check.Question]check.Answer) {
	for _, q := range p.questions {
		var x *float64
		switch {
		case q.Ask == "last":
			x = p.values[q.Column]
		case len(p.rows) == 0:
		case q.Ask == "last_rows":
			x = &p.rows[0]
		default:
			sorted := slices.Sorted(slices.Values(p.rows[:min(len(p.rows), usualLoads)]))
			middle := (sorted[(len(sorted)-1)/2] + sorted[len(sorted)/2]) / 2
			x = &middle
		}
		known[q] = check.Answer{}
		if x != nil {
			known[q] = check.Answer{Value: tabular.Value{Kind: tabular.Float, X: *x}}
		}
	}
}

// add remembers a load that was judged to be good.
func (p *past) add(read int64, results []check.Result) {
	p.rows = append([]float64{float64(read)}, p.rows[:min(len(p.rows), usualLoads)]...)
	for _, r := range results {
		if r.Value != nil {
			p.values[r.Name] = r.Value
		}
	}
}

func judgeDelivery(p *part, programs []*check.Program, answers map[check.Question]check.Answer, now time.Time) error {
	var refused error
	for _, program := range programs {
		r, err := program.Judge(answers, now)
		if err != nil {
			return &verdict{err.Error(), true}
		}
		p.results = append(p.results, r)
		if !r.Held && r.Else == check.Refuse && !p.arrival.Waived && refused == nil {
			refused = &verdict{fmt.Sprintf("check %s: %s; it must be %s", r.Name, r.Saw, program.Check.Must), true}
		}
	}
	return refused
}
