package query

import (
	"bytes"
	"fmt"
	"slices"
	"sync"
	"time"
	"unsafe"

	"paceduel/core/clock"
	"paceduel/core/contender/query/database"
	"paceduel/core/shots"
)

// interruptible is a connection that somebody else may interrupt while it is at hand.
type interruptible struct {
	mu   sync.Mutex
	conn database.Conn
}

func (i *interruptible) set(conn database.Conn) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.conn = conn
}

func (i *interruptible) clear() { i.set(nil) }

func (i *interruptible) interrupt() {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.conn != nil {
		i.conn.Interrupt()
	}
}

// reader counts what comes, and keeps it where that is wanted.
type reader struct {
	clock     *clock.Clock // nil: nobody wants to know when
	conn      database.Conn
	most      int64 // bytes of a shot's rows; 0: any
	rows      int64
	bytes     int64
	changed   int64
	first     time.Duration // when the first row of the shot came, on the clock
	over      bool
	didChange bool
	into      *kept // nil: rows are only counted
	room      int64 // for what is kept in view, in bytes
	cut       bool  // there was more
	last      *kept // keeps the latest row alone; nil: nobody wants it
}

// Columns implements database.Reader.
func (r *reader) Columns(columns []database.Column) {
	if r.into != nil {
		r.into.head(columns)
	}
	if r.last != nil {
		r.last.head(columns)
	}
}

// Row implements database.Reader.
func (r *reader) Row(row []database.Value) bool {
	if r.rows == 0 && r.clock != nil {
		r.first = r.clock.Now()
	}
	r.rows++
	for i := range row {
		r.bytes += int64(row[i].Size())
	}
	if r.most > 0 && r.bytes > r.most {
		r.over = true
		r.conn.Interrupt() // reading it to its end would take as long as it likes
		return false
	}
	switch {
	case r.into == nil:
	case r.room > 0 && r.into.size() > r.room:
		r.cut = true
	default:
		r.into.add(row)
	}
	if r.last != nil {
		r.last.clear()
		r.last.add(row)
	}
	return true
}

// Changed implements database.Reader.
func (r *reader) Changed(rows int64) { r.changed, r.didChange = r.changed+rows, true }

// kept are rows that are kept.
type kept struct {
	columns []string
	values  []database.Value // row by row
	text    []byte           // that values stand in
}

func (k *kept) clear() { k.values, k.text = k.values[:0], k.text[:0] }

// emptied is the same without rows and columns; it takes over the memory.
func (k *kept) emptied() kept { return kept{k.columns[:0], k.values[:0], k.text[:0]} }

// head takes the columns of rows to come. Rows of several statements follow one another, each with its own columns.
func (k *kept) head(columns []database.Column) {
	k.columns = k.columns[:0]
	for _, c := range columns {
		k.columns = append(k.columns, c.Name)
	}
}

func (k *kept) add(row []database.Value) {
	for _, v := range row {
		if v.Type != database.Null && v.Bytes != nil {
			from := len(k.text)
			k.text = append(k.text, v.Bytes...)
			v.Bytes = k.text[from:len(k.text):len(k.text)]
		}
		k.values = append(k.values, v)
	}
}

// size is about how much memory it takes.
func (k *kept) size() int64 {
	return int64(len(k.text)) + int64(len(k.values))*int64(unsafe.Sizeof(database.Value{}))
}

func (k *kept) count() int {
	if len(k.columns) == 0 {
		return 0
	}
	return len(k.values) / len(k.columns)
}

func (k *kept) row(i int) []database.Value {
	n := len(k.columns)
	return k.values[i*n : (i+1)*n]
}

// work is what one shot does, and how far it has come. It is reused from shot to shot.
type work struct {
	d        *driver
	row      []database.Value // of the table
	in       reader
	outer    kept // rows of the first statements, where there is one for each of them
	at       int  // which of them
	after    kept // the last row of the page before
	offset   int64
	args     []database.Value
	asked    int64 // statements
	replaced int64 // connections
	merged   int64 // rows of the answer, where there is a statement for each
	pages    int64
	viewed   bool
	room     int64 // for rows in view
	rows     kept  // as they came, where they are in view
	parts    answer
	took
}

// took is how long the parts of a shot took.
type took struct {
	aside, waited, connected time.Duration
	prepared, early          time.Duration // early: what of preparing came before the first row
	each, committed          time.Duration
}

// begin makes ready for a shot.
func (w *work) begin(d *driver, row []database.Value, shot *shots.Shot) {
	*w = work{
		d: d, row: row, viewed: shot.View != nil, in: reader{clock: d.clock, most: int64(d.settings.MaxResult)},
		args: w.args, outer: w.outer.emptied(), after: w.after.emptied(), rows: w.rows.emptied(),
	}
	if w.viewed {
		w.room = int64(shot.View.Room())
	}
}

// perform does all of it. The error comes with the statement that it is of, where it is of one.
func (w *work) perform(s *session) (st *database.Statement, err error) {
	w.in.conn = s.Conn
	if w.d.settings.Transaction {
		if err := s.Begin(); err != nil {
			return nil, err
		}
	}
	main := w.d.statements
	if w.d.each {
		main = main[:len(main)-1]
	}
	for i := range main {
		if w.d.settings.Pages != nil {
			err = w.page(s, &main[i])
		} else {
			err = w.ask(s, &main[i], w.d.each || w.viewed)
		}
		if err != nil {
			return &main[i].Statement, err
		}
	}
	if w.d.each {
		from := w.d.clock.Now()
		known := w.prepared
		last := &w.d.statements[len(main)]
		for w.at = 0; w.at < w.outer.count(); w.at++ {
			before := w.in.rows
			if err := w.ask(s, last, w.viewed); err != nil {
				return &last.Statement, err
			}
			w.merged += max(w.in.rows-before, 1)
			if w.viewed {
				began := w.d.clock.Now()
				w.parts.merge(w.outer.columns, w.outer.row(w.at), &w.rows)
				w.rows.clear()
				w.aside += w.d.clock.Now() - began
			}
		}
		w.each = w.d.clock.Now() - from - (w.prepared - known)
	}
	if w.d.settings.Transaction {
		began := w.d.clock.Now()
		err = s.Commit()
		w.committed = w.d.clock.Now() - began
	}
	return nil, err
}

// ask performs one statement, and keeps its rows where they are wanted.
func (w *work) ask(s *session, st *statement, keep bool) error {
	if st.Prepared && !s.prepared[st.Number] {
		began := w.d.clock.Now()
		if err := s.Prepare(&st.Statement); err != nil {
			return err
		}
		s.prepared[st.Number] = true
		took := w.d.clock.Now() - began
		w.prepared += took
		if w.in.first == 0 {
			w.early += took
		}
	}
	args, known := w.argsFor(st)
	if !known {
		return w.unknown(st)
	}
	w.in.into, w.in.room = nil, 0
	if keep {
		w.in.into, w.in.room = &w.rows, max(w.room-int64(len(w.parts.text)), 1)
		if w.d.each && st.key != "each" {
			w.in.into, w.in.room = &w.outer, 0 // all of them are asked for
		}
	}
	w.asked++
	before := w.in.rows
	if err := s.Query(&st.Statement, args, &w.in); err != nil {
		return err
	}
	if w.in.first == 0 && w.in.rows == before {
		w.in.first = w.d.clock.Now() // it is known that there is none
	}
	if w.viewed && !w.d.each {
		began := w.d.clock.Now()
		w.parts.add(&w.rows)
		w.rows.clear()
		w.aside += w.d.clock.Now() - began
	}
	return nil
}

// page performs a statement until a page is not full.
func (w *work) page(s *session, st *statement) error {
	p := w.d.settings.Pages
	most := p.Most
	if most == 0 {
		most = maxPages
	}
	w.in.last = &w.after
	var before []byte
	for {
		came := w.in.rows
		if err := w.ask(s, st, w.viewed); err != nil {
			return err
		}
		w.pages++
		came = w.in.rows - came
		w.offset += came
		if came < int64(p.Of) || w.pages == int64(most) && p.Most > 0 {
			return nil
		}
		if w.pages == int64(most) {
			return fmt.Errorf("%d pages were read and there is no end; set pages: { most: } if there are more", most)
		}
		if usesAfter(st) {
			now := w.key(st)
			if bytes.Equal(now, before) {
				return fmt.Errorf("page %d ends where the one before it did: it would go on for ever", w.pages)
			}
			before = now
		}
	}
}

func usesAfter(st *statement) bool {
	return slices.ContainsFunc(st.parameters, func(p parameter) bool { return p.from == fromAfter })
}

// key is where the page at hand ends.
func (w *work) key(st *statement) (key []byte) {
	args, _ := w.argsFor(st)
	for i := range args {
		if st.parameters[i].from == fromAfter {
			key = append(args[i].AppendText(key), 0)
		}
	}
	return key
}

// argsFor are a statement's parameters; known is false where a row lacks one, or there is none.
func (w *work) argsFor(st *statement) (args []database.Value, known bool) {
	w.args = w.args[:0]
	for _, p := range st.parameters {
		v, ok := w.value(p)
		if !ok {
			return nil, false
		}
		if p.text {
			v = asWritten(v)
		}
		w.args = append(w.args, v)
	}
	return w.args, true
}

func (w *work) value(p parameter) (database.Value, bool) {
	switch p.from {
	case fromTable:
		return w.row[p.column], true
	case fromOffset:
		return database.Value{Type: database.Int, Int: w.offset}, true
	case fromAfter:
		if w.after.count() == 0 {
			v, ok := w.d.first[p.name]
			return v, ok
		}
		return named(&w.after, 0, p.name)
	}
	if w.at >= w.outer.count() {
		return database.Value{}, false
	}
	return named(&w.outer, w.at, p.name)
}

func named(k *kept, row int, name string) (database.Value, bool) {
	at := slices.Index(k.columns, name)
	if at < 0 {
		return database.Value{}, false
	}
	return k.row(row)[at], true
}

// unknownError is a parameter that the rows do not have.
type unknownError struct {
	name string
	has  []string
}

func (e *unknownError) Error() string {
	return fmt.Sprintf("the rows that came have no column %s; they have %s", e.name, joined(e.has))
}

func (w *work) unknown(st *statement) error {
	for _, p := range st.parameters {
		if _, ok := w.value(p); !ok {
			k := &w.outer
			if p.from == fromAfter {
				k = &w.after
			}
			return &unknownError{p.name, slices.Clone(k.columns)}
		}
	}
	return nil
}

// find performs the statements before the i-th for the rows that it is for.
func (w *work) find(s *session, i int) error {
	w.in = reader{conn: s.Conn, into: &w.outer, most: int64(w.d.settings.MaxResult)}
	for j := range w.d.statements[:i] {
		st := &w.d.statements[j]
		args, _ := w.argsFor(st)
		args = slices.Clone(args)
		one := st.Statement
		one.Prepared, one.Most, one.Number = false, 1, -1
		if err := s.Query(&one, args, &w.in); err != nil {
			return err
		}
	}
	return nil
}

// enter puts what a shot was made of into it.
func (w *work) enter(shot *shots.Shot) {
	shot.Aside += w.aside
	shot.Count(statements, w.asked)
	shot.Count(rowsRead, w.in.rows)
	shot.Count(rowsChanged, w.in.changed)
	shot.Count(pagesRead, w.pages)
	shot.Count(replaced, w.replaced)
	if w.connected > 0 {
		shot.Count(connections, 1)
	}
	if shot.Class != shots.OK {
		return
	}
	if w.d.pool != nil {
		shot.Took(pooled, w.waited)
	}
	if w.connected > 0 {
		shot.Took(connect, w.connected)
	}
	if w.prepared > 0 {
		shot.Took(prepare, w.prepared)
	}
	whole := shot.End - shot.Start - shot.Aside
	first := max(w.in.first-shot.Start-w.waited-w.connected-w.early, 0)
	shot.Took(firstRow, first)
	each := max(w.each-w.aside, 0)
	if w.d.each {
		shot.Took(forEach, each)
	}
	if w.d.settings.Transaction {
		shot.Took(commit, w.committed)
	}
	rest := whole - w.waited - w.connected - w.prepared - first - w.committed
	if w.d.each {
		rest -= each
	}
	shot.Took(allRows, max(rest, 0))
}
