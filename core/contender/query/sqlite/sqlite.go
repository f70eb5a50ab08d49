// Package sqlite performs statements on SQLite, which is a library: it runs within our own process, on the thread of
// whoever asks.
//
// It calls the library by its own functions, those of database/sql in between would cost more than a small statement
// does, and what the library counts of each statement would not be seen.
package sqlite

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"paceduel/core/contender/query/database"
	"paceduel/core/shots"
)

// Engine opens a database in a file.
type Engine struct {
	path    string
	changes bool          // whether statements may change it
	used    atomic.Int64  // nanoseconds of CPU in statements of connections so far
	held    atomic.Int64  // bytes that open connections hold
	most    atomic.Int64  // the most of that
	retry   time.Duration // how long a lock is waited for at a time
}

// New opens nothing yet; the path of a relative file starts in dir.
func New(dir, file string, changes bool) *Engine {
	if !filepath.IsAbs(file) && file != inMemory {
		file = filepath.Join(dir, file)
	}
	return &Engine{path: file, changes: changes, retry: 10 * time.Millisecond}
}

// inMemory is a database of one connection, which ends with it.
const inMemory = ":memory:"

// Used is the CPU time that statements took so far, on the threads that performed them.
func (e *Engine) Used() time.Duration { return time.Duration(e.used.Load()) }

// Held is the most memory that connections held at once since it was last asked.
func (e *Engine) Held() int64 { return e.most.Swap(e.held.Load()) }

func (e *Engine) hold(more int64) {
	now := e.held.Add(more)
	for {
		most := e.most.Load()
		if now <= most || e.most.CompareAndSwap(most, now) {
			return
		}
	}
}

// Connect implements database.Engine.
func (e *Engine) Connect(ctx context.Context) (database.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	flags := lib.SQLITE_OPEN_NOMUTEX | lib.SQLITE_OPEN_READONLY
	if e.changes || e.path == inMemory {
		flags = lib.SQLITE_OPEN_NOMUTEX | lib.SQLITE_OPEN_READWRITE
	}
	c := &conn{engine: e, tls: libc.NewTLS(), statements: map[int]*statement{}}
	c.room = libc.Xmalloc(c.tls, 16)
	name, err := libc.CString(e.path)
	if err != nil {
		c.Close()
		return nil, err
	}
	defer libc.Xfree(c.tls, name)
	rc := lib.Xsqlite3_open_v2(c.tls, name, c.room, int32(flags), 0)
	c.db = *(*uintptr)(memory(c.room))
	if rc != lib.SQLITE_OK {
		err := c.fail(rc)
		c.Close()
		return nil, err
	}
	lib.Xsqlite3_busy_timeout(c.tls, c.db, int32(e.retry/time.Millisecond))
	c.timer = time.AfterFunc(time.Hour, c.Interrupt)
	c.timer.Stop()
	c.weigh()
	return c, nil
}

// Account implements database.Engine: what SQLite counts, it counts for each connection.
func (e *Engine) Account(context.Context) (map[string]int64, error) { return nil, nil }

// Fault implements database.Engine.
func (e *Engine) Fault(err error, st *database.Statement) database.Fault {
	var own *Error
	if !errors.As(err, &own) {
		return database.Fault{Class: shots.Other, Err: err}
	}
	switch own.Code {
	case lib.SQLITE_CANTOPEN:
		return database.Fault{Class: shots.NoStart, Err: fmt.Errorf("open %s: %w", e.path, err),
			Try: "name a file that is there and may be read, from where the contender stands"}
	case lib.SQLITE_NOTADB:
		return database.Fault{Class: shots.Protocol, Err: fmt.Errorf("open %s: %w", e.path, err),
			Try: "name a file that SQLite wrote"}
	case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
		return database.Fault{Class: shots.Conflict, Err: err, Try: "see who else has the database open"}
	case lib.SQLITE_INTERRUPT:
		return database.Fault{Class: shots.Timeout, Err: err}
	case lib.SQLITE_READONLY:
		return database.Fault{Class: shots.Statement, Err: err, Try: database.TryChanges}
	}
	return database.Fault{Class: shots.Statement, Err: database.Placed(err, st, own.At), Try: database.TryStatement}
}

// Error is what SQLite says.
type Error struct {
	Code int32 // the primary result code
	Says string
	At   int // byte of the statement, from 0; -1 where it does not say
}

func (e *Error) Error() string { return e.Says }

// conn is a connection.
type conn struct {
	engine     *Engine
	tls        *libc.TLS
	db         uintptr
	room       uintptr // for what the library hands back
	statements map[int]*statement
	values     []database.Value
	timer      *time.Timer
	until      time.Time
	stopped    atomic.Bool
	mu         sync.Mutex // over what Interrupt needs
	busy       bool       // a statement is under way
	counted    [4]int64   // by the library, of statements: those of statusOps
	memory     int64      // as last added to what the engine holds
}

// memory is where the library says that something lies: in its own memory, which Go's collector knows nothing of.
func memory(p uintptr) unsafe.Pointer { return *(*unsafe.Pointer)(unsafe.Pointer(&p)) }

// statement is one that the library has taken apart.
type statement struct {
	handle  uintptr
	columns []database.Column
	reads   bool
	text    []uintptr // memory of its parameters
}

var statusOps = [4]int32{
	lib.SQLITE_STMTSTATUS_VM_STEP, lib.SQLITE_STMTSTATUS_FULLSCAN_STEP, lib.SQLITE_STMTSTATUS_SORT,
	lib.SQLITE_STMTSTATUS_AUTOINDEX,
}

var statusNames = [4]string{database.Steps, database.ScanSteps, database.Sorts, database.AutoIndexes}

func (c *conn) fail(rc int32) error {
	e := &Error{Code: rc & 0xff, At: -1, Says: fmt.Sprintf("result code %d", rc)}
	if c.db != 0 {
		e.Says, e.At = libc.GoString(lib.Xsqlite3_errmsg(c.tls, c.db)), int(lib.Xsqlite3_error_offset(c.tls, c.db))
	}
	return e
}

// prepare takes a text apart; there must be one statement in it.
func (c *conn) prepare(text string) (*statement, error) {
	sql, err := libc.CString(text)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, sql)
	tail := c.room + unsafe.Sizeof(uintptr(0))
	for {
		rc := lib.Xsqlite3_prepare_v2(c.tls, c.db, sql, -1, c.room, tail)
		if rc == lib.SQLITE_OK {
			break
		}
		if !c.mayWait(rc) { // it reads the tables' definitions, which may be locked
			return nil, c.fail(rc)
		}
	}
	st := &statement{handle: *(*uintptr)(memory(c.room))}
	if st.handle == 0 {
		return nil, &Error{Code: lib.SQLITE_ERROR, Says: "there is no statement in it", At: -1}
	}
	if rest := strings.TrimSpace(libc.GoString(*(*uintptr)(memory(tail)))); rest != "" {
		c.finalize(st)
		return nil, &Error{
			Code: lib.SQLITE_ERROR, Says: "more than one statement", At: len(text) - len(rest),
		}
	}
	st.reads = lib.Xsqlite3_stmt_readonly(c.tls, st.handle) != 0
	for i := range lib.Xsqlite3_column_count(c.tls, st.handle) {
		st.columns = append(st.columns, database.Column{Name: libc.GoString(lib.Xsqlite3_column_name(c.tls, st.handle, i))})
	}
	return st, nil
}

func (c *conn) finalize(st *statement) {
	c.take(st)
	lib.Xsqlite3_finalize(c.tls, st.handle)
	c.free(st)
}

func (c *conn) free(st *statement) {
	for _, p := range st.text {
		libc.Xfree(c.tls, p)
	}
	st.text = st.text[:0]
}

// take adds up what the library has counted of a statement.
func (c *conn) take(st *statement) {
	for i, op := range statusOps {
		c.counted[i] += int64(lib.Xsqlite3_stmt_status(c.tls, st.handle, op, 1))
	}
}

// Prepare implements database.Conn.
func (c *conn) Prepare(st *database.Statement) (err error) {
	defer c.finish(c.start())
	c.statements[st.Number], err = c.prepare(st.Text)
	if err != nil {
		delete(c.statements, st.Number)
		return err
	}
	if !c.engine.changes && !c.statements[st.Number].reads {
		return &Error{Code: lib.SQLITE_READONLY, Says: "it changes data", At: -1}
	}
	return nil
}

// Query implements database.Conn.
func (c *conn) Query(st *database.Statement, args []database.Value, into database.Reader) error {
	defer c.finish(c.start())
	own := c.statements[st.Number]
	if own == nil {
		var err error
		if own, err = c.prepare(st.Text); err != nil {
			return err
		}
		defer c.finalize(own)
	}
	if !own.reads && !c.engine.changes {
		return &Error{Code: lib.SQLITE_READONLY, Says: "it changes data", At: -1}
	}
	if err := c.bind(own, args); err != nil {
		return err
	}
	err := c.rows(own, st, into)
	lib.Xsqlite3_reset(c.tls, own.handle)
	c.free(own)
	return err
}

// rows steps through what a statement brings.
func (c *conn) rows(own *statement, st *database.Statement, into database.Reader) error {
	if len(own.columns) > 0 {
		into.Columns(own.columns)
	}
	if cap(c.values) < len(own.columns) {
		c.values = make([]database.Value, len(own.columns))
	}
	values := c.values[:len(own.columns)]
	for n := 0; ; {
		switch rc := c.step(own, n == 0); rc & 0xff {
		case lib.SQLITE_ROW:
			c.read(own, values)
			if n++; !into.Row(values) || n == st.Most {
				return nil
			}
		case lib.SQLITE_DONE:
			if !own.reads && len(own.columns) == 0 {
				into.Changed(int64(lib.Xsqlite3_changes64(c.tls, c.db)))
			}
			return nil
		default:
			return c.fail(rc)
		}
	}
}

// step performs one step. A lock that somebody else holds is waited for while nothing of a transaction is at stake,
// since one who holds a lock himself may be who is waited for.
func (c *conn) step(own *statement, first bool) int32 {
	for {
		if c.stopped.Load() {
			return lib.SQLITE_INTERRUPT
		}
		rc := lib.Xsqlite3_step(c.tls, own.handle)
		if !first || !c.mayWait(rc) {
			return rc
		}
		lib.Xsqlite3_reset(c.tls, own.handle)
	}
}

// mayWait reports whether a lock was met that may be waited for.
func (c *conn) mayWait(rc int32) bool {
	return rc&0xff == lib.SQLITE_BUSY && lib.Xsqlite3_get_autocommit(c.tls, c.db) != 0 && !c.stopped.Load()
}

// read takes the values of the row at hand.
func (c *conn) read(own *statement, values []database.Value) {
	for i := range values {
		v, at := &values[i], int32(i)
		switch lib.Xsqlite3_column_type(c.tls, own.handle, at) {
		case lib.SQLITE_INTEGER:
			*v = database.Value{Type: database.Int, Int: lib.Xsqlite3_column_int64(c.tls, own.handle, at)}
		case lib.SQLITE_FLOAT:
			*v = database.Value{Type: database.Float, Float: lib.Xsqlite3_column_double(c.tls, own.handle, at)}
		case lib.SQLITE_TEXT:
			v.Type = database.Text
			v.Bytes = c.bytes(lib.Xsqlite3_column_text(c.tls, own.handle, at), own, at)
		case lib.SQLITE_BLOB:
			v.Type = database.Blob
			v.Bytes = c.bytes(lib.Xsqlite3_column_blob(c.tls, own.handle, at), own, at)
		default:
			*v = database.Value{}
		}
	}
}

func (c *conn) bytes(p uintptr, own *statement, at int32) []byte {
	n := int(lib.Xsqlite3_column_bytes(c.tls, own.handle, at))
	if p == 0 || n == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(memory(p)), n)
}

// bind gives the statement its parameters.
func (c *conn) bind(own *statement, args []database.Value) error {
	for i := range args {
		v, at, rc := &args[i], int32(i+1), int32(lib.SQLITE_OK)
		switch v.Type {
		case database.Null:
			rc = lib.Xsqlite3_bind_null(c.tls, own.handle, at)
		case database.Int, database.Bool:
			rc = lib.Xsqlite3_bind_int64(c.tls, own.handle, at, v.Int)
		case database.Float:
			rc = lib.Xsqlite3_bind_double(c.tls, own.handle, at, v.Float)
		default:
			p := libc.Xmalloc(c.tls, libc.Tsize_t(len(v.Bytes)+1))
			copy(unsafe.Slice((*byte)(memory(p)), len(v.Bytes)+1), v.Bytes)
			own.text = append(own.text, p)
			if v.Type == database.Blob {
				rc = lib.Xsqlite3_bind_blob(c.tls, own.handle, at, p, int32(len(v.Bytes)), 0)
			} else {
				rc = lib.Xsqlite3_bind_text(c.tls, own.handle, at, p, int32(len(v.Bytes)), 0)
			}
		}
		if rc != lib.SQLITE_OK {
			return c.fail(rc)
		}
	}
	return nil
}

// exec performs a text that brings nothing.
func (c *conn) exec(text string) error {
	defer c.finish(c.start())
	st, err := c.prepare(text)
	if err != nil {
		return err
	}
	defer c.finalize(st)
	if rc := c.step(st, true); rc != lib.SQLITE_DONE && rc != lib.SQLITE_ROW {
		return c.fail(rc)
	}
	return nil
}

// Begin implements database.Conn.
func (c *conn) Begin() error { return c.exec("begin") }

// Commit implements database.Conn.
func (c *conn) Commit() error { return c.exec("commit") }

// Rollback implements database.Conn.
func (c *conn) Rollback() error {
	if open, _ := c.InTransaction(false); !open {
		return nil // it was rolled back by what failed
	}
	return c.exec("rollback")
}

// InTransaction implements database.Conn.
func (c *conn) InTransaction(bool) (bool, error) {
	return lib.Xsqlite3_get_autocommit(c.tls, c.db) == 0, nil
}

// Version implements database.Conn.
func (c *conn) Version() string { return "SQLite " + libc.GoString(lib.Xsqlite3_libversion(c.tls)) }

// again is how often a statement is told to end until it has.
const again = 5 * time.Millisecond

// Limit implements database.Conn.
func (c *conn) Limit(at time.Time) {
	c.until = at
	if at.IsZero() {
		c.timer.Stop()
		return
	}
	c.timer.Reset(time.Until(at))
}

// Interrupt implements database.Conn. A statement that is about to begin misses it, so it is told again while one is
// under way.
func (c *conn) Interrupt() {
	c.stopped.Store(true)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.busy {
		lib.Xsqlite3_interrupt(nil, c.db)
		time.AfterFunc(again, c.Interrupt)
	}
}

func (c *conn) set(busy bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.busy = busy
}

// start says that something is under way, and is the CPU time of this thread until then; finish counts what it took.
func (c *conn) start() (began int64) {
	c.set(true)
	runtime.LockOSThread()
	return threadTime()
}

func (c *conn) finish(began int64) {
	c.engine.used.Add(threadTime() - began)
	runtime.UnlockOSThread()
	c.set(false)
	c.weigh()
}

// threadTime is the CPU time that the calling thread has used.
func threadTime() int64 {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return t.Nano()
}

// weigh adds what the connection holds to what all of them do.
func (c *conn) weigh() {
	now := int64(0)
	for _, op := range []int32{lib.SQLITE_DBSTATUS_CACHE_USED, lib.SQLITE_DBSTATUS_SCHEMA_USED} {
		now += int64(c.status(op))
	}
	if now != c.memory {
		c.engine.hold(now - c.memory)
		c.memory = now
	}
}

// status reads one of the connection's own counts.
func (c *conn) status(op int32) int32 {
	if lib.Xsqlite3_db_status(c.tls, c.db, op, c.room, c.room+4, 0) != lib.SQLITE_OK {
		return 0
	}
	return *(*int32)(memory(c.room))
}

// Gone implements database.Conn: there is nobody who could have closed it.
func (c *conn) Gone() bool { return false }

// Traffic implements database.Conn: nothing goes over a wire.
func (c *conn) Traffic() (sent, received int64) { return 0, 0 }

// Tally implements database.Conn.
func (c *conn) Tally(into map[string]int64) {
	for _, st := range c.statements {
		c.take(st)
	}
	for i, name := range statusNames {
		into[name] += c.counted[i]
	}
	into[database.BlocksHit] += int64(c.status(lib.SQLITE_DBSTATUS_CACHE_HIT))
	into[database.BlocksRead] += int64(c.status(lib.SQLITE_DBSTATUS_CACHE_MISS))
	into[database.Written] += int64(c.status(lib.SQLITE_DBSTATUS_CACHE_WRITE))
}

// Close implements database.Conn.
func (c *conn) Close() {
	if c.timer != nil {
		c.timer.Stop()
	}
	for _, st := range c.statements {
		lib.Xsqlite3_finalize(c.tls, st.handle)
		c.free(st)
	}
	if c.db != 0 {
		lib.Xsqlite3_close_v2(c.tls, c.db)
		c.engine.hold(-c.memory)
	}
	libc.Xfree(c.tls, c.room)
	c.tls.Close()
}

// Explain implements database.Conn.
func (c *conn) Explain(st *database.Statement, args []database.Value) (database.Explanation, error) {
	var tree explained
	err := c.Query(&database.Statement{Number: -1, Text: "explain query plan " + st.Text}, args, &tree)
	text := tree.text()
	return database.Explanation{Text: text, Shape: text}, err
}

// explained reads a plan, which is a tree: each line has a number and that of the line it belongs to.
type explained struct {
	depths map[int64]int
	lines  []string
}

func (e *explained) Columns([]database.Column) { e.depths = map[int64]int{} }

func (e *explained) Row(v []database.Value) bool {
	if len(v) >= 4 {
		depth := e.depths[v[1].Int]
		e.depths[v[0].Int] = depth + 1
		e.lines = append(e.lines, strings.Repeat("  ", depth)+string(v[3].Bytes))
	}
	return true
}

func (e *explained) Changed(int64) {}

func (e *explained) text() string { return strings.Join(e.lines, "\n") }

var (
	_ database.Engine = (*Engine)(nil)
	_ database.Conn   = (*conn)(nil)
)
