package load

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"slices"
	"time"

	"mullein/internal/core/check"
	"mullein/internal/core/decode"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
	"mullein/internal/reading"
	"mullein/internal/table"
)

// verdictError is the reason to refuse a delivery that could be read.
type verdictError struct {
	reason string
	// waivable says that a person may let it in all the same: only the tolerance
	// or a check of the delivery stands against it.
	waivable bool
}

func (v *verdictError) Error() string { return v.reason }

// ofThePast reports whether a question is about earlier loads, which the ledger
// answers; the target answers the others from the staged rows.
func ofThePast(q check.Question) bool {
	return q.Ask == "last_rows" || q.Ask == "usual_rows" || q.Ask == "last"
}

// judge finds what the database had to be asked for, and holds deliveries against
// the checks. The error names the part that is refused.
func (l *Attempt) judge(ctx context.Context, load *table.Load, deliveries ...[]*part) error {
	parts := slices.Concat(deliveries...)
	if err := l.holdAgainstOthers(ctx, load, parts); err != nil {
		return err
	}
	for _, p := range parts {
		err := l.judgeFile(p)
		if p.file != nil && !p.file.Unchanged() { // what is wrong with what was read says nothing of what is there
			err = ErrChanged
		}
		if err != nil {
			return &culpritError{p, err}
		}
	}
	for _, d := range deliveries {
		var read, rejected int64
		for _, p := range d {
			c := p.reading.Counts()
			read, rejected = read+c.Read, rejected+c.Rejected
		}
		if reason := l.recipe.Feed.Tolerate.Refuse(read, rejected); reason != "" && !d[0].arrival.Waived {
			return &culpritError{d[0], &verdictError{reason, true}}
		}
	}
	return l.judgeDeliveries(ctx, load, deliveries)
}

// judgeFile holds a file against its marker, its list and the checks of files
// and rows. Mended rows are part of a file that was held against them before.
func (l *Attempt) judgeFile(p *part) error {
	reason, err := p.refusal(&l.recipe.Feed.Checks)
	if err != nil {
		return err
	}
	if reason != "" {
		return &decode.FileError{Reason: reason}
	}
	p.results = p.reading.RowChecks()
	c := &l.recipe.Feed.Checks
	if (c.RowsFrom > 0 || c.RowsTo > 0) && p.arrival.Mends == nil {
		p.results = append(p.results, check.Rows(p.reading.Counts().Read, c.RowsFrom, c.RowsTo))
	}
	if c.Checksum != nil && p.arrival.Mends == nil && !p.sent {
		r, err := l.checksum(p)
		if err != nil {
			return err
		}
		p.results = append(p.results, r)
	}
	if t := p.reading.Trailer(); t != nil && p.arrival.Mends == nil {
		p.results = append(p.results, *t)
	}
	for _, r := range p.results {
		if !r.Held && r.Else == check.Refuse {
			return &decode.FileError{Reason: fmt.Sprintf("check %s: %s", r.Name, r.Saw)}
		}
	}
	return nil
}

func (l *Attempt) checksum(p *part) (check.Result, error) {
	land := &l.recipe.Feed.Landing
	at := l.recipe.Feed.Checks.Checksum.Expand(p.arrival.Path, land.Files.Read(p.arrival.Captures), land.Zone)
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
func (l *Attempt) judgeDeliveries(ctx context.Context, load *table.Load, deliveries [][]*part) error {
	if len(l.recipe.deliveryChecks) == 0 {
		return nil
	}
	var staged []check.Question
	for _, q := range l.recipe.questions {
		if q.Ask != "rows" && !ofThePast(q) {
			staged = append(staged, q)
		}
	}
	earlier, err := l.remember(ctx, l.recipe.questions)
	if err != nil {
		return err
	}
	ask := load.Answer
	if len(deliveries) == 1 {
		ask = load.AnswerTogether
	}
	answers, err := ask(ctx, staged)
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
			read += p.reading.Counts().Read
		}
		known[check.Question{Ask: "rows"}] = check.Answer{Value: tabular.Value{Kind: tabular.Integer, I: read}}
		if err := judgeDelivery(d[0], l.recipe.deliveryChecks, known, now); err != nil {
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
func (l *Attempt) remember(ctx context.Context, questions []check.Question) (*past, error) {
	p := &past{values: map[string]*float64{}}
	for _, q := range questions {
		if !ofThePast(q) {
			continue
		}
		var err error
		p.questions = append(p.questions, q)
		switch {
		case q.Ask == "last":
			p.values[q.Column], err = l.env.Ledger.LastValue(ctx, l.recipe.Feed.Name, q.Column)
		case p.rows == nil:
			p.rows, err = l.env.Ledger.RecentRows(ctx, l.recipe.Feed.Name, usualLoads)
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
			return &verdictError{err.Error(), true}
		}
		p.results = append(p.results, r)
		if !r.Held && r.Else == check.Refuse && !p.arrival.Waived && refused == nil {
			refused = &verdictError{fmt.Sprintf("check %s: %s; it must be %s", r.Name, r.Saw, program.Check.Must), true}
		}
	}
	return refused
}

// refusal returns the reason to refuse a file that was read, other than its
// rejects, or "".
func (p *part) refusal(of *feed.Checks) (string, error) {
	if p.reading.Counts().Read == 0 && !of.MayBeEmpty {
		return "the file holds no rows", nil
	}
	if p.wantSum != "" && p.wantSum != p.digest {
		return fmt.Sprintf("its list gives the SHA-256 %s; the file's is %s", p.wantSum, p.digest), nil
	}
	digest, err := p.digestBy(p.marker.Algorithm)
	if err != nil {
		return "", err
	}
	return p.marker.Refuse(digest, p.reading.Counts().Read), nil
}

// digestBy takes a digest of the file by another algorithm than SHA-256.
func (p *part) digestBy(algorithm string) (string, error) {
	var h hash.Hash
	switch algorithm {
	case "md5":
		h = md5.New() // what suppliers send; it guards against torn files, not against malice
	case "sha1":
		h = sha1.New()
	case "sha512":
		h = sha512.New()
	default:
		return p.digest, nil
	}
	file, err := p.reading.Again()
	if err != nil {
		return "", err
	}
	if _, err := io.Copy(h, file); err != nil {
		return "", fmt.Errorf("read %s: %w", p.arrival.Path, err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// holdAgainstOthers makes rejects of rows whose values in a unique column, or in
// the fields of a unique key, stood in an earlier line of their file, and of
// those whose values do not stand in the table that a foreign key names.
func (l *Attempt) holdAgainstOthers(ctx context.Context, load *table.Load, parts []*part) error {
	schema := &l.recipe.Feed.Schema
	byN := map[int]*part{}
	for _, p := range parts {
		byN[p.n] = p
	}
	reject := func(fields []string, rule, reason string, counts []int64, dropped []table.Dropped) {
		first := map[int][]reading.Reject{}
		for _, d := range dropped {
			first[d.Part] = append(first[d.Part], reading.Reject{Line: d.Line, Value: d.Value})
		}
		for n, p := range byN {
			p.reading.Found(counts[n], fields, rule, reason, first[n])
		}
	}
	for i := range schema.Fields {
		if field := &schema.Fields[i]; field.Constraints.Unique {
			counts, dropped, err := load.DropNotUnique(ctx, []string{field.Name}, reading.MaxRejects)
			if err != nil {
				return err
			}
			reject([]string{field.Name}, "unique", "the value stands in an earlier row too, and the column is unique",
				counts, dropped)
		}
	}
	for _, key := range schema.UniqueKeys {
		counts, dropped, err := load.DropNotUnique(ctx, key, reading.MaxRejects)
		if err != nil {
			return err
		}
		reject(key, "uniqueKeys", "the values stand in an earlier row too, and are a unique key", counts, dropped)
	}
	for _, key := range schema.ForeignKeys {
		counts, dropped, err := load.DropStrangers(ctx, key, reading.MaxRejects)
		if err != nil {
			return err
		}
		reject(key.Fields, "foreignKeys", "not in "+key.Table, counts, dropped)
	}
	for _, p := range parts {
		if err := p.reading.Originals(); err != nil {
			return err
		}
	}
	return nil
}
