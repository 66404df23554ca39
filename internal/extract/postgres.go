package extract

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"mullein/internal/core/feed"
	"mullein/internal/core/tabular"
)

// postgres reads rows of PostgreSQL by its COPY protocol, in its binary form.
type postgres struct {
	x        *feed.Extract
	conn     *pgx.Conn
	columns  []Column
	how      []pgColumn
	relation string // what is read, as it stands in a FROM
	by       Column
	byType   string // of the growing column, as SQL writes it
}

// pgColumn is how a column is read.
type pgColumn struct {
	column Column
	expr   string
	read   func(b *Batch, cell []byte, out *tabular.Value) error
}

// connectPatience bounds how long it takes to sign in.
const connectPatience = 15 * time.Second

func openPostgres(ctx context.Context, x *feed.Extract, url string) (_ Source, err error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the connection's URL cannot be read") // whose text has the password
	}
	config.ConnectTimeout = connectPatience
	config.RuntimeParams["application_name"] = "mullein extract " + x.Name
	config.RuntimeParams["DateStyle"] = "ISO, YMD"
	config.RuntimeParams["IntervalStyle"] = "iso_8601"
	config.RuntimeParams["TimeZone"] = x.New.Zone.String()
	config.RuntimeParams["idle_in_transaction_session_timeout"] = "0"
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect: %w", err)
	}
	p := &postgres{x: x, conn: conn}
	defer func() {
		if err != nil {
			conn.Close(context.WithoutCancel(ctx))
		}
	}()
	if _, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		return nil, err
	}
	p.relation = "(" + x.Select + "\n) q" // a comment at its end ends there
	if x.Table != "" {
		p.relation = pgx.Identifier(strings.Split(x.Table, ".")).Sanitize() + " q"
	}
	if err := p.describe(ctx); err != nil {
		return nil, unfitOf(err)
	}
	return p, nil
}

// unfitOf makes errors that trying again does not mend what they are: a table, a column or a right that is not there, SQL that
// is wrong.
func unfitOf(err error) error {
	var said *pgconn.PgError
	if errors.As(err, &said) && (strings.HasPrefix(said.Code, "42") || strings.HasPrefix(said.Code, "25006")) {
		return &UnfitError{said.Message}
	}
	return err
}

// describe asks which columns there are.
func (p *postgres) describe(ctx context.Context) error {
	wanted := "*"
	if p.x.Columns != nil {
		wanted = identifiers(p.x.Columns, func(name string) string { return "q." + pgx.Identifier{name}.Sanitize() })
	}
	d, err := p.conn.Prepare(ctx, "", "SELECT "+wanted+" FROM "+p.relation)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, f := range d.Fields {
		if seen[f.Name] {
			return &UnfitError{fmt.Sprintf("two columns are called %s; give one another name in the select", f.Name)}
		}
		seen[f.Name] = true
		p.how = append(p.how, pgColumnOf(f))
		p.columns = append(p.columns, p.how[len(p.how)-1].column)
	}
	if p.x.New.By == "" {
		return nil
	}
	known := p.columns
	if p.x.Columns != nil { // it need not be among those that are written
		if d, err = p.conn.Prepare(ctx, "", "SELECT "+p.growing()+" FROM "+p.relation); err != nil {
			return err
		}
		known = []Column{pgColumnOf(d.Fields[0]).column}
	}
	if p.by, err = growing(p.x, known); err != nil {
		return err
	}
	for _, f := range d.Fields {
		if f.Name == p.by.Name {
			return p.conn.QueryRow(ctx, "SELECT $1::oid::regtype::text", f.DataTypeOID).Scan(&p.byType)
		}
	}
	return nil
}

func identifiers(names []string, quote func(string) string) string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = quote(name)
	}
	return strings.Join(out, ", ")
}

func (p *postgres) growing() string {
	return "q." + pgx.Identifier{cmp.Or(p.by.Name, p.x.New.By)}.Sanitize()
}

func (p *postgres) Columns() []Column { return p.columns }

// The settings of the transaction that hold the ends of the window, since COPY takes no parameters.
const (
	lowSetting  = "mullein.low"
	highSetting = "mullein.high"
)

// setEnds tells the transaction the ends of a window.
func (p *postgres) setEnds(ctx context.Context, w Window) error {
	_, err := p.conn.Exec(ctx, "SELECT set_config($1, $2, true), set_config($3, $4, true)", lowSetting, w.Low, highSetting, w.High)
	return err
}

// where returns the condition of a window.
func (p *postgres) where(bounds Bounds) string {
	low := fmt.Sprintf("current_setting('%s')::%s", lowSetting, p.byType)
	high := fmt.Sprintf("current_setting('%s')::%s", highSetting, p.byType)
	by := p.growing()
	switch bounds {
	case Since:
		return " WHERE " + by + " > " + low + " AND " + by + " <= " + high
	case From:
		return " WHERE " + by + " >= " + low + " AND " + by + " <= " + high
	case Day:
		return " WHERE " + by + " >= " + low + " AND " + by + " < " + high
	case UpTo:
		return " WHERE " + by + " <= " + high
	}
	return ""
}

// clock returns the database's clock as the growing column has it.
func (p *postgres) clock() string {
	switch p.byType {
	case "date":
		return "current_date"
	case "timestamp without time zone":
		return "localtimestamp"
	}
	return "now()"
}

func (p *postgres) Fresh(ctx context.Context, mark string) (Fresh, error) {
	var out Fresh
	if err := p.conn.QueryRow(ctx, "SELECT now()").Scan(&out.At); err != nil {
		return out, err
	}
	out.End = out.At.In(p.x.New.Zone).Format(windowForm)
	if p.x.New.By == "" {
		return out, nil
	}
	by := p.growing()
	if mark == "" {
		if err := p.conn.QueryRow(ctx, "SELECT count(*) FROM "+p.relation+" WHERE "+by+" IS NULL").Scan(&out.Blank); err != nil {
			return out, unfitOf(err)
		}
	}
	if p.x.New.Daily {
		first, err := p.firstDay(ctx, mark)
		if err != nil {
			return out, unfitOf(err)
		}
		err = freshDay(&p.x.New, first, mark, &out)
		return out, err
	}
	err := p.freshSince(ctx, mark, &out)
	return out, unfitOf(err)
}

// freshSince looks for what is greater than a mark.
func (p *postgres) freshSince(ctx context.Context, mark string, out *Fresh) error {
	by, n := p.growing(), &p.x.New
	low, bounds, above := begin(n, mark)
	condition, args := " WHERE "+by+" IS NOT NULL", []any{}
	if low != "" {
		condition, args = " WHERE "+by+above+"$1::text::"+p.byType, []any{low}
	}
	bound, less := "", " <= "
	switch {
	case p.by.Time && p.by.Coarse: // what this day brings is not whole
		bound, less = p.clock()+fmt.Sprintf(" - interval '%d seconds'", int64(n.HoldBack.Time.Seconds())), " < "
		bound = "(" + bound + ")::date"
	case p.by.Time:
		bound = p.clock() + fmt.Sprintf(" - interval '%d microseconds'", n.HoldBack.Time.Microseconds())
	case n.HoldBack.Count > 0:
		bound = fmt.Sprintf("(SELECT max(%s) - %d FROM %s)", by, n.HoldBack.Count, p.relation)
	}
	upTo := ""
	if bound != "" {
		upTo = " AND " + by + less + bound
	}
	back := fmt.Sprintf("%d", n.Overlap.Count)
	if p.by.Time {
		back = fmt.Sprintf("interval '%d microseconds'", n.Overlap.Time.Microseconds())
	}
	var high, after *string
	query := fmt.Sprintf("SELECT m::text, (m - %s)::%s::text FROM (SELECT max(%s) AS m FROM %s%s) x", back, p.byType, by, p.relation, condition+upTo)
	if err := p.conn.QueryRow(ctx, query, args...).Scan(&high, &after); err != nil {
		return err
	}
	if p.by.Time {
		ahead := "SELECT count(*) FROM " + p.relation + condition + " AND " + by + " > " + p.clock()
		if err := p.conn.QueryRow(ctx, ahead, args...).Scan(&out.Ahead); err != nil {
			return err
		}
	}
	if high == nil {
		out.Empty, out.Mark = true, mark
		out.Window = Window{Low: low, High: low, Bounds: bounds}
		return nil
	}
	out.Window, out.Mark, out.End = Window{Low: low, High: *high, Bounds: bounds}, *after, *high
	if mark != "" && !n.Overlap.IsZero() { // the mark never goes back by itself
		if err := p.conn.QueryRow(ctx, fmt.Sprintf("SELECT greatest($1::text::%[1]s, $2::text::%[1]s)::text", p.byType), mark, out.Mark).
			Scan(&out.Mark); err != nil {
			return err
		}
	}
	return p.endAt(ctx, out)
}

// endAt reads the end of the window as a time, where it is one.
func (p *postgres) endAt(ctx context.Context, out *Fresh) error {
	if !p.by.Time {
		return nil
	}
	err := p.conn.QueryRow(ctx, "SELECT $1::text::"+p.byType+"::timestamptz", out.Window.High).Scan(&out.At)
	out.End = out.At.In(p.x.New.Zone).Format(windowForm)
	return err
}

// firstDay returns the first day that is not written yet; "" where there are no rows.
func (p *postgres) firstDay(ctx context.Context, mark string) (string, error) {
	if first := cmp.Or(mark, p.x.New.From); first != "" {
		return first, nil
	}
	var smallest *string
	err := p.conn.QueryRow(ctx, fmt.Sprintf("SELECT min(%s)::date::text FROM %s", p.growing(), p.relation)).Scan(&smallest)
	if err != nil || smallest == nil {
		return "", err
	}
	return *smallest, nil
}

func (p *postgres) Count(ctx context.Context, w Window) (n int64, err error) {
	if err := p.setEnds(ctx, w); err != nil {
		return 0, err
	}
	err = p.conn.QueryRow(ctx, "SELECT count(*) FROM "+p.relation+p.where(w.Bounds)).Scan(&n)
	return n, unfitOf(err)
}

func (p *postgres) Read(ctx context.Context, w Window, take func(*Batch) error) (int64, error) {
	if err := p.setEnds(ctx, w); err != nil {
		return 0, err
	}
	exprs := make([]string, len(p.how))
	for i := range p.how {
		exprs[i] = p.how[i].expr
	}
	rows := &copied{how: p.how, batch: newBatch(len(p.how)), take: take}
	_, err := p.conn.PgConn().CopyTo(ctx, rows, "COPY (SELECT "+strings.Join(exprs, ", ")+" FROM "+p.relation+p.where(w.Bounds)+") TO STDOUT (FORMAT binary)")
	if err == nil {
		err = rows.done()
	}
	return rows.rows, unfitOf(err)
}

func (p *postgres) Close(ctx context.Context) error { return p.conn.Close(ctx) }

// copied decodes rows of the binary form of COPY, as the PostgreSQL documentation of COPY has it under File Formats. What is
// written to it may end anywhere.
type copied struct {
	how   []pgColumn
	batch *Batch
	take  func(*Batch) error
	rest  []byte // of a row that has not come whole
	began bool   // the header has come
	ended bool
	rows  int64
}

var copySignature = []byte("PGCOPY\n\xff\r\n\x00")

// copyHeader is the length of the header: signature, flags, and the length of an extension, which is 0.
const copyHeader = 11 + 4 + 4

func (c *copied) Write(chunk []byte) (int, error) {
	text := chunk
	if len(c.rest) > 0 {
		c.rest = append(c.rest, chunk...)
		text = c.rest
	}
	used, err := c.decode(text)
	if err != nil {
		return 0, err
	}
	c.rest = append(c.rest[:0], text[used:]...)
	return len(chunk), nil
}

// decode decodes the rows that are there whole, and returns how many bytes they are.
func (c *copied) decode(text []byte) (used int, err error) {
	if !c.began {
		if len(text) < copyHeader {
			return 0, nil
		}
		if !bytes.HasPrefix(text, copySignature) {
			return 0, errors.New("the database does not answer in the binary form of COPY")
		}
		c.began, used = true, copyHeader
	}
	for !c.ended {
		n, err := c.row(text[used:])
		if err != nil || n == 0 {
			return used, err
		}
		used += n
	}
	return used, nil
}

// row decodes a row, and returns how many bytes it is; 0 where it has not come whole.
func (c *copied) row(text []byte) (int, error) {
	if len(text) < 2 {
		return 0, nil
	}
	fields := int(int16(binary.BigEndian.Uint16(text)))
	if fields == -1 {
		c.ended = true
		return 2, nil
	}
	if fields != len(c.how) {
		return 0, fmt.Errorf("a row of %d columns, where %d were asked for", fields, len(c.how))
	}
	at, values, kept := 2, len(c.batch.Values), len(c.batch.text)
	for i := range c.how {
		if len(text) < at+4 {
			c.batch.Values, c.batch.text = c.batch.Values[:values], c.batch.text[:kept]
			return 0, nil
		}
		length := int(int32(binary.BigEndian.Uint32(text[at:])))
		at += 4
		v := c.batch.next()
		if length >= 0 {
			if len(text) < at+length {
				c.batch.Values, c.batch.text = c.batch.Values[:values], c.batch.text[:kept]
				return 0, nil
			}
			if err := c.how[i].read(c.batch, text[at:at+length], v); err != nil {
				return 0, fmt.Errorf("row %d, column %s: %w", c.rows+int64(c.batch.Rows)+1, c.how[i].column.Name, err)
			}
			at += length
		}
	}
	if c.batch.Rows++; c.batch.Rows == batchRows {
		if err := c.hand(); err != nil {
			return 0, err
		}
	}
	return at, nil
}

func (c *copied) hand() error {
	if c.batch.Rows == 0 {
		return nil
	}
	c.rows += int64(c.batch.Rows)
	err := c.take(c.batch)
	c.batch.reset()
	return err
}

// done hands on the last rows.
func (c *copied) done() error {
	if !c.ended {
		return errors.New("the rows ended before the database said so")
	}
	return c.hand()
}

// Microseconds and days from 1970-01-01 to 2000-01-01, from which PostgreSQL counts.
const (
	pgEpochDays   = 10957
	pgEpochMicros = pgEpochDays * 24 * int64(time.Hour/time.Microsecond)
)

// pgColumnOf says how a column is read: kinds that a file tells apart as they are, all else as the database writes it.
func pgColumnOf(f pgconn.FieldDescription) pgColumn {
	name := "q." + pgx.Identifier{f.Name}.Sanitize()
	c := Column{Name: f.Name, Kind: tabular.Text}
	of := func(kind tabular.Kind, read func(*Batch, []byte, *tabular.Value) error) pgColumn {
		c.Kind = kind
		return pgColumn{c, name, read}
	}
	switch f.DataTypeOID {
	case pgtype.BoolOID:
		return of(tabular.Boolean, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.I = tabular.Boolean, int64(b[0])
			return nil
		})
	case pgtype.Int2OID:
		c.Bits = 16
		return of(tabular.Integer, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.I = tabular.Integer, int64(int16(binary.BigEndian.Uint16(b)))
			return nil
		})
	case pgtype.Int4OID:
		c.Bits = 32
		return of(tabular.Integer, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.I = tabular.Integer, int64(int32(binary.BigEndian.Uint32(b)))
			return nil
		})
	case pgtype.Int8OID:
		c.Bits = 64
		return of(tabular.Integer, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.I = tabular.Integer, int64(binary.BigEndian.Uint64(b))
			return nil
		})
	case pgtype.Float4OID:
		return of(tabular.Float, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind = tabular.Float
			// the shortest decimal of the smaller type: 0.1, and not 0.10000000149
			v.X, _ = strconv.ParseFloat(strconv.FormatFloat(float64(math.Float32frombits(binary.BigEndian.Uint32(b))), 'g', -1, 32), 64)
			return nil
		})
	case pgtype.Float8OID:
		return of(tabular.Float, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.X = tabular.Float, math.Float64frombits(binary.BigEndian.Uint64(b))
			return nil
		})
	case pgtype.NumericOID:
		if f.TypeModifier >= 4 {
			c.Precision, c.Scale = int((f.TypeModifier-4)>>16)&0xffff, int(f.TypeModifier-4)&0x7ff
			if c.Scale > c.Precision { // rare, and no file's decimal
				c.Precision, c.Scale = 0, 0
			}
		}
		return of(tabular.Decimal, pgNumeric)
	case pgtype.DateOID:
		c.Time, c.Coarse = true, true
		return of(tabular.Day, func(b *Batch, cell []byte, v *tabular.Value) error {
			days := int64(int32(binary.BigEndian.Uint32(cell)))
			v.Kind, v.I = tabular.Day, days+pgEpochDays
			endless(v, days == math.MaxInt32, days == math.MinInt32)
			return nil
		})
	case pgtype.TimeOID:
		return of(tabular.Clock, func(_ *Batch, b []byte, v *tabular.Value) error {
			v.Kind, v.I = tabular.Clock, int64(binary.BigEndian.Uint64(b))
			return nil
		})
	case pgtype.TimestampOID:
		c.Time = true
		return of(tabular.Wall, pgTime(tabular.Wall))
	case pgtype.TimestamptzOID:
		c.Time = true
		return of(tabular.Instant, pgTime(tabular.Instant))
	case pgtype.UUIDOID:
		return of(tabular.UUID, pgBytes(tabular.UUID))
	case pgtype.ByteaOID:
		return of(tabular.Binary, pgBytes(tabular.Binary))
	case pgtype.JSONOID:
		return of(tabular.JSON, pgBytes(tabular.JSON))
	case pgtype.JSONBOID:
		return of(tabular.JSON, func(b *Batch, cell []byte, v *tabular.Value) error {
			if len(cell) == 0 || cell[0] != 1 {
				return errors.New("a form of jsonb that is not known")
			}
			v.Kind, v.B = tabular.JSON, b.keep(cell[1:])
			return nil
		})
	case pgtype.TextOID, pgtype.VarcharOID, pgtype.BPCharOID, pgtype.NameOID:
		return of(tabular.Text, pgBytes(tabular.Text))
	}
	return pgColumn{c, name + "::text", pgBytes(tabular.Text)}
}

func pgBytes(kind tabular.Kind) func(*Batch, []byte, *tabular.Value) error {
	return func(b *Batch, cell []byte, v *tabular.Value) error {
		v.Kind, v.B = kind, b.keep(cell)
		return nil
	}
}

func pgTime(kind tabular.Kind) func(*Batch, []byte, *tabular.Value) error {
	return func(_ *Batch, cell []byte, v *tabular.Value) error {
		micros := int64(binary.BigEndian.Uint64(cell))
		v.Kind, v.I = kind, micros+pgEpochMicros
		endless(v, micros == math.MaxInt64, micros == math.MinInt64)
		return nil
	}
}

// endless marks times that never come, or were always.
func endless(v *tabular.Value, plus, minus bool) {
	switch {
	case plus:
		v.Odd = tabular.PlusInf
	case minus:
		v.Odd = tabular.MinusInf
	}
}

// pgNumeric decodes a numeric: groups of four digits, with the power of 10,000 of the first.
func pgNumeric(b *Batch, cell []byte, v *tabular.Value) error {
	if len(cell) < 8 {
		return errors.New("a numeric that is cut off")
	}
	groups, weight := int(binary.BigEndian.Uint16(cell)), int(int16(binary.BigEndian.Uint16(cell[2:])))
	sign, scale := binary.BigEndian.Uint16(cell[4:]), int(binary.BigEndian.Uint16(cell[6:]))
	if len(cell) < 8+2*groups {
		return errors.New("a numeric that is cut off")
	}
	v.Kind = tabular.Decimal
	switch sign {
	case 0xC000:
		v.Odd = tabular.NaN
		return nil
	case 0xD000:
		v.Odd = tabular.PlusInf
		return nil
	case 0xF000:
		v.Odd = tabular.MinusInf
		return nil
	}
	v.Scale = int32(scale)
	group := func(i int) int64 {
		if i < 0 || i >= groups {
			return 0
		}
		return int64(binary.BigEndian.Uint16(cell[8+2*i:]))
	}
	after, first := (scale+3)/4, max(weight, -1) // groups after the point; the power of the first that is looked at
	if (first+1+after)*4 <= 18 {
		n := int64(0)
		for power := first; power >= -after; power-- {
			n = n*10000 + group(weight-power)
		}
		for range after*4 - scale {
			n /= 10
		}
		if sign == 0x4000 {
			n = -n
		}
		v.I = n
		return nil
	}
	at := len(b.text)
	if sign == 0x4000 {
		b.text = append(b.text, '-')
	}
	begin := len(b.text)
	for power := first; power >= -after; power-- {
		g := group(weight - power)
		b.text = append(b.text, byte('0'+g/1000), byte('0'+g/100%10), byte('0'+g/10%10), byte('0'+g%10))
	}
	b.text = b.text[:len(b.text)-(after*4-scale)]
	digits := bytes.TrimLeft(b.text[begin:], "0")
	if b.text = append(b.text[:begin], digits...); len(digits) == 0 {
		b.text = append(b.text[:at], '0')
	}
	v.B = b.text[at:len(b.text):len(b.text)]
	return nil
}
