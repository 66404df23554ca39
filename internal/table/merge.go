package table

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"mullein/internal/core/balance"
	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// mergeTries is how often a merge is done again when somebody else writes to
// the target meanwhile.
const mergeTries = 5

// errMoved says that the target changed between two statements of a merge.
var errMoved = errors.New("the target changed during the merge")

// origin is what the lineage columns say.
type origin struct {
	run   int64
	parts []Part
}

// replaced lists the arrivals whose rows are undone, and those of them that
// are not loaded again themselves.
func (o origin) replaced() (all, others []int64) {
	for _, p := range o.parts {
		for _, id := range p.Replaces {
			all = append(all, id)
			if id != p.Arrival {
				others = append(others, id)
			}
		}
	}
	return all, others
}

// Merge writes the staged rows into the target and returns each part's counts:
// inserted, updated, unchanged, outdated, kept, deleted, duplicate and
// removed.
func (l *Load) Merge(ctx context.Context, run int64, parts []Part) ([]balance.Balance, error) {
	from := origin{run, parts}
	// What is done for the whole load is noted with its first part that is there: in a
	// group that was divided the others are not.
	l.own = max(0, slices.IndexFunc(parts, func(p Part) bool { return p.Arrival != 0 }))
	l.run, l.waived = run, !slices.ContainsFunc(parts, func(p Part) bool { return !p.Waived && p.Arrival != 0 })
	for try := 1; ; try++ {
		counts, err := l.way.merge(ctx, from, try)
		if err == nil {
			for part := range counts {
				c := &counts[part]
				c.Duplicate = l.counts[part].Duplicate
				if n := c.Inserted + c.Updated + c.Unchanged + c.Outdated + c.Kept + c.Deleted +
					c.Duplicate; n != l.staged[part] {
					return nil, fmt.Errorf("merge into %s: %d rows of %s staged, %d accounted for", l.table,
						l.staged[part], parts[part].File, n)
				}
			}
			return counts, nil
		}
		if !l.way.mayPass(err) || try == mergeTries {
			if _, staged := l.way.(*stagedWay); staged {
				err = l.atFault(ctx, from, err)
			}
			return nil, fmt.Errorf("merge into %s: %w", l.table, err)
		}
	}
}

// isKeyConflict distinguishes a foreign writer's row with the same key from other
// constraints, which refuse the delivery.
func (l *Load) isKeyConflict(err error) bool {
	var e *pgconn.PgError
	return errors.As(err, &e) && e.Code == "23505" && e.SchemaName == l.table.Schema &&
		(l.table.lateIndex == "" || e.ConstraintName == l.table.lateIndex)
}

// savepoint sets a savepoint and notes the transaction number that rows written
// after it bear. A row tells it that stands for no staged one.
func (l *Load) savepoint(ctx context.Context, name string) error {
	results, err := l.s.conn.PgConn().Exec(ctx, "SAVEPOINT "+name+
		"; INSERT INTO pg_temp.mullein_candidate VALUES ('(0,0)') RETURNING xmin::text::bigint").ReadAll()
	if err != nil {
		return err
	}
	id, err := strconv.ParseInt(string(results[1].Rows[0][0]), 10, 64)
	if err != nil {
		return fmt.Errorf("read the number of the transaction: %w", err)
	}
	l.writers = append(l.writers, id)
	return nil
}

// rollBack takes back what was done since a savepoint, and the savepoint: a row that was
// written after mere ROLLBACK TO would bear a number that nobody has noted.
func (l *Load) rollBack(ctx context.Context, savepoint string) error {
	return l.exec(ctx, "ROLLBACK TO SAVEPOINT "+savepoint+"; RELEASE SAVEPOINT "+savepoint)
}

// write writes what is staged into the target. Only the first try may find it empty.
func (l *Load) write(ctx context.Context, from origin, try int) ([]balance.Balance, error) {
	replaced, _ := from.replaced()
	switch {
	case !l.table.keyed():
		return l.writeWithoutKey(ctx, from, replaced)
	case len(replaced) > 0 && l.table.Journal:
		return l.replace(ctx, from, replaced)
	}
	removed, err := l.undo(ctx, from)
	if err != nil {
		return nil, err
	}
	filled := true
	if try == 1 {
		if err := l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.name()+")",
			unprepared()...).Scan(&filled); err != nil {
			return nil, err
		}
	}
	var absent int64
	if filled {
		if absent, err = l.absent(ctx); err != nil {
			return nil, err
		}
	}
	var counts []balance.Balance
	if filled || l.table.Deletes || l.late || l.remembered {
		counts, err = l.merge(ctx, from)
	} else {
		counts, err = l.fillAll(ctx, from)
	}
	if err != nil {
		return nil, err
	}
	counts[l.own].Removed = absent
	for part, n := range removed {
		counts[part].Removed += n
		l.grown[part] -= n
	}
	return counts, nil
}

// undo takes out the rows that replaced arrivals last wrote and that are not
// loaded again, and returns how many for each part. Those that are loaded again
// are left for the merge to change in place.
func (l *Load) undo(ctx context.Context, from origin) ([]int64, error) {
	replaced, others := from.replaced()
	if len(replaced) == 0 || l.table.Lineage.FromArrival == "" && len(others) == 0 {
		return nil, nil // the same rows again have the same keys
	}
	if l.table.Lineage.FromArrival == "" {
		return nil, fmt.Errorf("what was loaded cannot be undone: %s has no lineage column that names the arrival",
			l.table)
	}
	column := "t." + quote(l.table.Lineage.FromArrival)
	rows, err := l.s.conn.Query(ctx, "WITH gone AS (DELETE FROM "+l.name()+" t WHERE "+column+
		" = ANY($1) AND NOT EXISTS (SELECT 1 FROM "+l.stage+" s WHERE "+l.sameKey()+
		") RETURNING "+column+" AS arrival) SELECT arrival, count(*) FROM gone GROUP BY 1", replaced)
	if err != nil {
		return nil, err
	}
	out := make([]int64, len(l.staged))
	var arrival, n int64
	_, err = pgx.ForEachRow(rows, []any{&arrival, &n}, func() error {
		part := slices.IndexFunc(from.parts, func(p Part) bool { return slices.Contains(p.Replaces, arrival) })
		out[part] += n
		return nil
	})
	return out, err
}

// fillAll writes into an empty target, where every row is new.
func (l *Load) fillAll(ctx context.Context, from origin) ([]balance.Balance, error) {
	return l.allInserted(l.fill(ctx, from))
}

// allInserted returns the counts of a load of which every row was inserted.
func (l *Load) allInserted(n int64, err error) ([]balance.Balance, error) {
	if err != nil {
		return nil, err
	}
	if n != l.rows() {
		return nil, errMoved
	}
	counts := make([]balance.Balance, len(l.staged))
	for part := range counts {
		counts[part].Inserted = l.staged[part] - l.counts[part].Duplicate
		if part == 0 { // rows are skipped of loads of one part
			counts[part].Inserted, counts[part].Unchanged = counts[part].Inserted-l.way.skipped(), l.way.skipped()
		}
		l.grown[part] += counts[part].Inserted
	}
	return counts, nil
}

func (l *Load) name() string {
	if l.table.standIn != "" {
		return l.table.standIn
	}
	return quote(l.table.Schema, l.table.Name)
}

func (l *Load) exec(ctx context.Context, statement string) error {
	_, err := l.s.conn.PgConn().Exec(ctx, statement).ReadAll()
	return err
}

// fill writes all rows into an empty target. For many rows, the key's index
// is built after them, which is several times faster than row by row, where
// nothing else hangs on it and nobody holds the table.
func (l *Load) fill(ctx context.Context, from origin) (int64, error) {
	if l.rows() < l.many || l.table.lateIndex == "" {
		return l.insert(ctx, from, l.stage+" s")
	}
	n, err := l.fillBeforeIndex(ctx, from)
	if err == nil {
		return n, nil
	}
	if undo := l.rollBack(ctx, "late_index"); undo != nil {
		return 0, errors.Join(err, undo)
	}
	if refuses(err) && !l.isKeyConflict(err) {
		return 0, err
	}
	return l.insert(ctx, from, l.stage+" s")
}

func (l *Load) fillBeforeIndex(ctx context.Context, from origin) (int64, error) {
	if err := l.emptyForAll(ctx, "late_index"); err != nil {
		return 0, err
	}
	n, err := l.insert(ctx, from, l.stage+" s")
	if err != nil {
		return 0, err
	}
	err = l.exec(ctx, "ALTER TABLE "+l.name()+" ADD CONSTRAINT "+quote(l.table.lateIndex)+" "+l.table.lateDef+
		"; RELEASE SAVEPOINT late_index")
	return n, err
}

// merge classifies the rows against the target, then updates and inserts. The
// counts of the statements must agree. The classes: i to insert, o outdated, u
// to update, l unchanged but of a replaced arrival, so its lineage changes; d to
// delete, n to delete where nothing is, which is unchanged.
func (l *Load) merge(ctx context.Context, from origin) ([]balance.Balance, error) {
	replaced, others := from.replaced()
	if len(replaced) == 0 {
		if counts, err := l.insertAll(ctx, from); counts != nil || err != nil {
			return counts, err
		}
	}
	if len(replaced) == 0 && !(l.late && l.vouched) {
		return l.mergeAtOnce(ctx, from)
	}
	counts, classes, err := l.plan(ctx, replaced, others)
	if err != nil {
		return nil, err
	}
	return counts, l.carryOut(ctx, from, classes)
}

// mergeAtOnce classifies the rows and writes them in one statement: what is found is looked
// for once, and goes to the journal and the target in the order in which it lies there.
func (l *Load) mergeAtOnce(ctx context.Context, from origin) ([]balance.Balance, error) {
	classified, _, err := l.classified(ctx, nil, nil)
	if err != nil {
		return nil, err
	}
	with := []string{"found AS MATERIALIZED (SELECT s.*, " + classified + ")"}
	part := "0"
	if l.several() {
		part = "(place >> " + shift + ")::integer"
	}
	counts := []string{"SELECT class::text, " + part + ", count(*) FROM found GROUP BY 1, 2"}
	do := func(name, statement string) {
		with = append(with, name+" AS ("+statement+" RETURNING 1)")
		counts = append(counts, "SELECT '"+name+"', 0, count(*) FROM "+name)
	}
	const found = "found s"
	if l.table.Ranked || l.way.skipped() > 0 { // then it is asked what was planned
		with = append(with, "planned AS (INSERT INTO pg_temp.mullein_plan SELECT sid, class, tid, was, key FROM found)")
	}
	if l.table.Mode != feed.AddMissing {
		if l.table.Journal {
			statement, _ := l.journalSQL(from, found, "s")
			do("noted", statement)
		}
		statement, _ := l.updateSQL(from, found, "s", "s.class IN ('u', 'l')")
		do("updated", statement)
	}
	if l.table.Deletes {
		do("deleted", l.deleteSQL(found, "s"))
	}
	statement, args := l.insertSQL(from, found+" WHERE s.class = 'i'")
	do("inserted", statement)
	rows, err := l.s.conn.Query(ctx, "WITH "+strings.Join(with, ", ")+" "+strings.Join(counts, " UNION ALL "),
		unprepared(args...)...)
	if err != nil {
		return nil, err
	}
	out := l.allUnchanged()
	classes, err := l.tally(rows, out)
	if err != nil {
		return nil, err
	}
	changed := classes["u"] + classes["l"]
	if classes["inserted"] != classes["i"] || classes["deleted"] != classes["d"] || l.table.Mode != feed.AddMissing &&
		(classes["updated"] != changed || l.table.Journal && classes["noted"] != changed+classes["d"]) {
		return nil, errMoved
	}
	return l.keptInstead(out), nil
}

// allUnchanged returns the counts of the parts, as if all rows were unchanged.
func (l *Load) allUnchanged() []balance.Balance {
	counts := make([]balance.Balance, len(l.staged))
	for part := range counts {
		counts[part].Unchanged = l.staged[part] - l.counts[part].Duplicate
	}
	return counts
}

// keptInstead returns the counts for the target's mode.
func (l *Load) keptInstead(counts []balance.Balance) []balance.Balance {
	if l.table.Mode == feed.AddMissing {
		for part := range counts {
			counts[part].Kept, counts[part].Unchanged = counts[part].Unchanged, 0
		}
	}
	return counts
}

// plan classifies the rows against the target, and changes nothing in it. It
// gives the counts of each part, and those of the classes.
func (l *Load) plan(ctx context.Context, replaced, others []int64) ([]balance.Balance, map[string]int64, error) {
	classified, args, err := l.classified(ctx, replaced, others)
	if err != nil {
		return nil, nil, err
	}
	tag, err := l.s.conn.Exec(ctx, "INSERT INTO pg_temp.mullein_plan SELECT "+classified, unprepared(args...)...)
	if err != nil {
		return nil, nil, err
	}
	if err := l.passOver(ctx); err != nil {
		return nil, nil, err
	}
	counts := l.allUnchanged()
	var classes map[string]int64
	if tag.RowsAffected() > 0 {
		if classes, err = l.planned(ctx, counts); err != nil {
			return nil, nil, err
		}
	}
	return l.keptInstead(counts), classes, nil
}

// classified is the rest of a SELECT of the rows that are to change the target: where they
// are staged (sid), their class, where the row is that they change (tid), its digest (was)
// where that is asked for, and the hash of their key.
func (l *Load) classified(ctx context.Context, replaced, others []int64) (string, []any, error) {
	among := l.stage + " s"
	if len(replaced) == 0 {
		var err error
		if among, err = l.candidates(ctx); err != nil {
			return "", nil, err
		}
	}
	if l.kept > 0 {
		among = "(SELECT s.ctid, s.* FROM " + l.stage + " s WHERE NOT EXISTS (SELECT 1 FROM pg_temp.mullein_kept k" +
			" WHERE k.sid = s.ctid)) s"
	}
	older, relined := l.older(), "false"
	var args []any
	if len(replaced) > 0 && l.table.Lineage.FromArrival != "" {
		column := "t." + quote(l.table.Lineage.FromArrival)
		older = "(" + older + " AND NOT " + column + " = ANY($1))"
		relined = column + " = ANY($2)"
		args = []any{replaced, append([]int64{}, others...)}
	}
	key := "t." + quote(l.table.Key[0])
	found, digest := l.name()+" t ON "+l.sameKey(), "NULL"
	if l.way.mostDiffer() {
		digest = "t." + quote(l.table.Lineage.RowDigest)
	}
	if l.way.sparse() { // left to itself, the planner reads the whole target for its keys
		found = "LATERAL (SELECT t.ctid, t.* FROM " + l.name() + " t WHERE " + l.sameKey() + " OFFSET 0) t ON true"
	}
	differs := l.differs()
	if l.table.Mode == feed.AddMissing {
		differs, older, relined = "false", "false", "false"
		args = nil
	}
	first := ""
	if l.table.Deletes {
		differs = "(" + differs + " OR " + isGone + ")"
		first = "WHEN " + isGone + " AND " + key + " IS NULL THEN 'n' WHEN " + isGone + " AND NOT " + older +
			" THEN 'd' "
	}
	if since := l.goneSince(); since != "false" {
		first += "WHEN " + key + " IS NULL AND " + since + " THEN 'o' "
	}
	return `s.ctid AS sid, CASE ` + first + `WHEN ` + key + ` IS NULL THEN 'i' WHEN NOT ` + differs + ` THEN 'l'
		WHEN ` + older + ` THEN 'o' ELSE 'u' END::"char" AS class, t.ctid AS tid, ` + digest + `::bytea AS was, ` +
		l.keysHash() + ` AS key FROM ` + among + ` LEFT JOIN ` + found + `
		WHERE ` + key + ` IS NULL OR ` + differs + ` OR ` + relined, args, nil
}

// plannedRows is the SQL of the staged rows (s) of the plan (p).
func (l *Load) plannedRows() string {
	return "pg_temp.mullein_plan p JOIN " + l.stage + " s ON s.ctid = p.sid"
}

// carryOut does what was planned.
func (l *Load) carryOut(ctx context.Context, from origin, classes map[string]int64) error {
	exec := func(expected int64, statement string, args ...any) error {
		tag, err := l.s.conn.Exec(ctx, statement, unprepared(args...)...)
		if err != nil || tag.RowsAffected() != expected {
			return orMoved(err)
		}
		return nil
	}
	planned := l.plannedRows()
	if n := classes["u"] + classes["l"] + classes["d"]; n > 0 && l.table.Journal {
		statement, args := l.journalSQL(from, planned, "p")
		if err := exec(n, statement, args...); err != nil {
			return err
		}
	}
	if n := classes["u"] + classes["l"]; n > 0 {
		statement, args := l.updateSQL(from, planned, "p", "p.class IN ('u', 'l')")
		if err := exec(n, statement, args...); err != nil {
			return err
		}
	}
	if n := classes["d"]; n > 0 {
		if err := exec(n, l.deleteSQL(planned, "p")); err != nil {
			return err
		}
	}
	if n := classes["i"]; n > 0 {
		statement, args := l.insertSQL(from, planned+" AND p.class = 'i'")
		return exec(n, statement, args...)
	}
	return nil
}

// fewRows is up to where it is not worth guessing that all rows are new.
const fewRows = 1000

// insertAll inserts all rows without looking for their keys first, when a
// sample of them says that all are new. counts is nil when they are not.
func (l *Load) insertAll(ctx context.Context, from origin) (counts []balance.Balance, err error) {
	if l.rows() < l.few || l.table.Deletes || l.late || l.remembered {
		return nil, nil
	}
	var known bool
	err = l.s.conn.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM "+l.stage+" s JOIN "+l.name()+" t ON "+l.sameKey()+
		" WHERE "+lineOf+" % 97 = 2)").Scan(&known)
	if err != nil || known {
		return nil, err
	}
	if err := l.savepoint(ctx, "all_new"); err != nil {
		return nil, err
	}
	counts, err = l.allInserted(l.insert(ctx, from, l.stage+" s"))
	if err == nil {
		return counts, l.exec(ctx, "RELEASE SAVEPOINT all_new")
	}
	if undo := l.rollBack(ctx, "all_new"); undo != nil {
		return nil, errors.Join(err, undo)
	}
	if l.isKeyConflict(err) { // the sample was wrong
		return nil, nil
	}
	return nil, err
}

// planned counts the classes of the plan, and sorts the rows of each part.
func (l *Load) planned(ctx context.Context, counts []balance.Balance) (map[string]int64, error) {
	query := "SELECT class, 0, count(*) FROM pg_temp.mullein_plan GROUP BY class"
	if l.several() {
		query = "SELECT p.class, s.place >> " + shift + ", count(*) FROM pg_temp.mullein_plan p JOIN " + l.stage +
			" s ON s.ctid = p.sid GROUP BY 1, 2"
	}
	rows, err := l.s.conn.Query(ctx, query)
	if err != nil {
		return nil, err
	}
	return l.tally(rows, counts)
}

// tally sums up classes, and takes those of each part out of the unchanged ones.
func (l *Load) tally(rows pgx.Rows, counts []balance.Balance) (map[string]int64, error) {
	classes := map[string]int64{}
	var class string
	var part, n int64
	_, err := pgx.ForEachRow(rows, []any{&class, &part, &n}, func() error {
		classes[class] += n
		c := &counts[part]
		switch class {
		case "n":
			l.never += n
			return nil
		case "i":
			c.Inserted += n
			l.grown[part] += n
		case "u":
			c.Updated += n
		case "o":
			c.Outdated += n
		case "d":
			c.Deleted += n
			l.grown[part] -= n
		default: // a row of which only the lineage changes, or what was done
			return nil
		}
		c.Unchanged -= n
		return nil
	})
	return classes, err
}

// candidates returns the staged rows that are to be classified, as a FROM item
// with the alias s: all of them, or, when a sample says that most of many rows
// are unchanged, those whose digest the target does not hold. A digest covers
// the key, so a row with a known digest is unchanged; comparing digests alone
// is much cheaper than finding each row by its key.
func (l *Load) candidates(ctx context.Context) (string, error) {
	digest := l.table.Lineage.RowDigest
	if digest == "" || l.way.mostDiffer() || l.rows() < l.many || len(l.table.Merge) > 0 ||
		l.table.Lineage.AbsentSince != "" {
		return l.stage + " s", nil
	}
	const sample = 1000
	var same int
	err := l.s.conn.QueryRow(ctx, `SELECT count(*) FROM (SELECT * FROM `+l.stage+` LIMIT $1) s JOIN `+l.name()+
		` t ON `+l.sameKey()+
		` AND t.`+quote(digest)+` = s.digest`, sample).Scan(&same)
	if err != nil {
		return "", err
	}
	if same < sample/2 {
		return l.stage + " s", nil
	}
	// What is kept in memory are to be the staged digests, not those of the whole target: an anti join would
	// keep the latter, and so would any join if it were not known that each staged digest is another.
	if err := l.exec(ctx, "ANALYZE "+l.stage+" (digest)"); err != nil {
		return "", err
	}
	_, err = l.s.conn.Exec(ctx, `INSERT INTO pg_temp.mullein_candidate SELECT s.ctid FROM `+l.stage+` s
		LEFT JOIN `+l.name()+` t ON t.`+quote(digest)+` = s.digest WHERE t.ctid IS NULL`)
	return "pg_temp.mullein_candidate c JOIN " + l.stage + " s ON s.ctid = c.sid", err
}

func orMoved(err error) error {
	if err != nil {
		return err
	}
	return errMoved
}

func (l *Load) sameKey() string {
	var same []string
	for i, k := range l.keys() {
		same = append(same, "t."+quote(l.table.Key[i])+" = "+k)
	}
	return strings.Join(same, " AND ")
}

// sameRow is the condition on a target's row (t) that it is the one that was found
// for a staged row (s), at p.tid. Where it lies tells which it is, and is cheaper to
// look for than its key; the key says that no other row lies there by now.
func (l *Load) sameRow(p string) string {
	same := "t.ctid = " + p + ".tid"
	for i, k := range l.keys() {
		// In this form the planner does not take the key for the way to the row.
		same += " AND NOT t." + quote(l.table.Key[i]) + " IS DISTINCT FROM " + k
	}
	return same
}

// differs distinguishes changed rows from unchanged ones: by the digest where the
// target keeps it, else column by column. A row that was marked as absent and
// has come again is changed.
func (l *Load) differs() string {
	back := ""
	if a := l.table.Lineage.AbsentSince; a != "" {
		back = " OR t." + quote(a) + " IS NOT NULL"
	}
	if d := l.table.Lineage.RowDigest; d != "" && len(l.table.Merge) == 0 {
		return "(t." + quote(d) + " IS DISTINCT FROM s.digest" + back + ")"
	}
	var differs []string
	for i, c := range l.table.Own {
		if slices.Contains(l.table.Key, c.Name) {
			continue
		}
		old := "t." + quote(c.Name)
		differs = append(differs, distinct(c.Kind, old, merged(l.table.Merge[c.Name], old,
			fmt.Sprintf("s.c%d%s", i, l.table.casts[c.Name]))))
	}
	return "(" + strings.Join(append(differs, "false"), " OR ") + back + ")"
}

// distinct is the SQL that reports whether two values of a kind differ.
func distinct(k tabular.Kind, a, b string) string {
	switch sqlTypes[k][0] {
	case "point":
		a, b = "("+a+")::text", "("+b+")::text"
	case "jsonb": // others may have made a column of json, which has no equality
		a, b = "("+a+")::jsonb", "("+b+")::jsonb"
	}
	return a + " IS DISTINCT FROM " + b
}

// merged is the SQL of the value that an old and a new one become.
func merged(m feed.Merge, old, now string) string {
	switch m {
	case feed.KeepFirst:
		return "coalesce(" + old + ", " + now + ")"
	case feed.KeepWhenBlank:
		return "coalesce(" + now + ", " + old + ")"
	case feed.Greatest:
		return "greatest(" + old + ", " + now + ")"
	case feed.Least:
		return "least(" + old + ", " + now + ")"
	case feed.Add:
		return "CASE WHEN " + old + " IS NULL THEN " + now + " WHEN " + now + " IS NULL THEN " + old + " ELSE " +
			old + " + " + now + " END"
	}
	return now
}

// written lists the target's columns and what is written into them.
func (l *Load) written(from origin) (columns, values []string, args []any) {
	for i, c := range l.table.Own {
		columns = append(columns, quote(c.Name))
		values = append(values, fmt.Sprintf("s.c%d", i))
	}
	add := func(column, value string, arg ...any) {
		if column == "" {
			return
		}
		columns = append(columns, quote(column))
		if len(arg) > 0 {
			args = append(args, arg[0])
			value = fmt.Sprintf("$%d::%s", len(args), value)
			if i := strings.Index(value, "]["); i > 0 { // an element of an array
				value = "(" + value[:i+1] + ")" + value[i+1:]
			}
		}
		values = append(values, value)
	}
	g := l.table.Lineage
	if l.several() {
		var files []string
		var arrivals []int64
		for _, p := range from.parts {
			files, arrivals = append(files, p.File), append(arrivals, p.Arrival)
		}
		nth := "[(s.place >> " + shift + ")::integer + 1]"
		add(g.FromFile, "text[]"+nth, files)
		add(g.FromLine, lineOf)
		add(g.FromArrival, "bigint[]"+nth, arrivals)
	} else {
		add(g.FromFile, "text", from.parts[0].File)
		add(g.FromLine, lineOf)
		add(g.FromArrival, "bigint", from.parts[0].Arrival)
	}
	add(g.LoadedRun, "bigint", from.run)
	add(g.LoadedAt, "now()")
	add(g.RowDigest, "s.digest")
	if l.late && g.AbsentSince != "" && l.whole > Unranked {
		add(g.AbsentSince, "CASE WHEN "+l.beforeWhole()+" THEN now() END")
	}
	return columns, values, args
}

func (l *Load) insert(ctx context.Context, from origin, rows string) (int64, error) {
	statement, args := l.insertSQL(from, rows)
	tag, err := l.s.conn.Exec(ctx, statement, unprepared(args...)...)
	return tag.RowsAffected(), err
}

// insertSQL inserts staged rows (s).
func (l *Load) insertSQL(from origin, rows string) (string, []any) {
	columns, values, args := l.written(from)
	return "INSERT INTO " + l.name() + " (" + strings.Join(columns, ", ") + ") SELECT " + strings.Join(values, ", ") +
		" FROM " + rows, args
}

// updateSQL writes those of some staged rows (s) over the rows of the target that were found
// for them, at p.tid, of which something is said.
func (l *Load) updateSQL(from origin, rows, p, which string) (string, []any) {
	columns, values, args := l.written(from)
	var sets []string
	for i := range columns {
		if i < len(l.table.Own) && slices.Contains(l.table.Key, l.table.Own[i].Name) {
			continue
		}
		value := values[i]
		if i < len(l.table.Own) {
			value = merged(l.table.Merge[l.table.Own[i].Name], "t."+columns[i], value)
		}
		sets = append(sets, columns[i]+" = "+value)
	}
	if a := l.table.Lineage.AbsentSince; a != "" && !slices.Contains(columns, quote(a)) {
		sets = append(sets, quote(a)+" = NULL")
	}
	return "UPDATE " + l.name() + " t SET " + strings.Join(sets, ", ") + " FROM " + rows + " WHERE " + which + " AND " +
		l.sameRow(p), args
}

// deleteSQL deletes the rows of the target that were found for staged rows which say so.
func (l *Load) deleteSQL(rows, p string) string {
	return "DELETE FROM " + l.name() + " t USING " + rows + " WHERE " + p + ".class = 'd' AND " + l.sameRow(p)
}
