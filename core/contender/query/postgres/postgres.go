// Package postgres performs statements on PostgreSQL over its own protocol.
//
// Connecting is left to pgconn. From then on messages are written and read here: when each came is what parts of a
// latency are made of, and a row that nobody looks at need not be unpacked.
package postgres

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/shots"
)

// Engine opens connections to one database.
type Engine struct {
	config  *pgconn.Config
	guard   guard.Guard
	address database.Address
	changes bool
}

// Application is the name under which the server sees our connections.
const Application = "paceduel"

// New reads an address; it connects to nobody. Statements that take longer than limit are given up by the server, even
// where we had no time to say that nobody waits for them any more.
func New(a database.Address, g guard.Guard, changes bool, limit time.Duration) (*Engine, error) {
	host, port := a.Host, a.Port
	if a.Socket != "" {
		host = a.Socket
	}
	mode := a.Options.Get("sslmode")
	if mode == "" {
		mode = "disable" // trying it first would be a connection more for each one
	}
	// What is not said here would be taken from the environment and from files in the user's folder, of which a plan says
	// nothing.
	settings := []string{
		"host", host, "port", port, "user", a.User, "password", a.Password, "dbname", a.Name, "sslmode", mode,
		"passfile", "/dev/null", "sslrootcert", a.Options.Get("sslrootcert"), "sslcert", a.Options.Get("sslcert"),
		"sslkey", a.Options.Get("sslkey"), "target_session_attrs", "any", "application_name", Application,
	}
	var dsn strings.Builder
	for i := 0; i < len(settings); i += 2 {
		if settings[i+1] != "" {
			fmt.Fprintf(&dsn, "%s='%s' ", settings[i], escape.Replace(settings[i+1]))
		}
	}
	config, err := pgconn.ParseConfig(dsn.String())
	if err != nil {
		return nil, fmt.Errorf("read its options: %w", err)
	}
	config.RuntimeParams = map[string]string{
		"application_name": Application, "statement_timeout": strconv.FormatInt(limit.Milliseconds(), 10),
	}
	for key, values := range a.Options {
		if !strings.HasPrefix(key, "ssl") {
			config.RuntimeParams[key] = values[0]
		}
	}
	if !changes {
		config.RuntimeParams["default_transaction_read_only"] = "on"
	}
	config.Password, config.ConnectTimeout = a.Password, 0
	e := &Engine{config: config, guard: g, address: a, changes: changes}
	// Names are looked up by the guard, which also opens the connection.
	config.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	return e, nil
}

var escape = strings.NewReplacer(`\`, `\\`, `'`, `\'`)

// Connect implements database.Engine.
func (e *Engine) Connect(ctx context.Context) (database.Conn, error) {
	config := e.config.Copy()
	var wire *database.Wire
	config.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := e.guard.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		wire = database.NewWire(conn)
		return wire, nil
	}
	own, err := pgconn.ConnectConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	h, err := own.Hijack()
	if err != nil {
		return nil, err
	}
	return &conn{
		engine: e, wire: wire, net: h.Conn, front: h.Frontend, status: h.TxStatus, pid: h.PID, key: h.SecretKey,
		version: "PostgreSQL " + firstWord(h.ParameterStatuses["server_version"]), known: map[int]*known{},
	}, nil
}

func firstWord(text string) string {
	word, _, _ := strings.Cut(text, " ")
	return word
}

// conn is a connection.
type conn struct {
	engine  *Engine
	wire    *database.Wire
	net     net.Conn // the wire, or TLS over it
	front   *pgproto3.Frontend
	status  byte // of its transaction, as the server last said
	pid     uint32
	key     []byte
	version string
	known   map[int]*known
	types   []uint32 // of the columns at hand
	columns []database.Column
	values  []database.Value
	args    [][]byte
	text    []byte
	broken  bool
	under   bool // something is under way
}

// known is what is known of a statement that was prepared.
type known struct {
	columns []database.Column
	types   []uint32
}

// serverError is an error that the server told; the connection goes on unless it is fatal.
type serverError struct{ *pgproto3.ErrorResponse }

func (e *serverError) Error() string {
	text := e.Message
	if e.Detail != "" {
		text += " (" + strings.ReplaceAll(e.Detail, "\n", " ") + ")" // it stands in a line of ours
	}
	return text
}

func (e *serverError) fatal() bool {
	return e.Severity == "FATAL" || e.Severity == "PANIC" || e.SeverityUnlocalized == "FATAL" ||
		e.SeverityUnlocalized == "PANIC"
}

func name(st *database.Statement) string { return "paceduel" + strconv.Itoa(st.Number) }

// flush sends what was written and says that an answer is awaited.
func (c *conn) flush() error {
	c.front.SendSync(&pgproto3.Sync{})
	c.under = true
	if err := c.front.Flush(); err != nil {
		c.broken = true
		return err
	}
	return nil
}

// answer reads messages until the server is ready again; each is handed to take, which may be nil. The error is the
// server's, or of the connection, which is then broken.
func (c *conn) answer(take func(pgproto3.BackendMessage) error) (err error) {
	for {
		m, failed := c.front.Receive()
		if failed != nil {
			c.broken = true
			if err != nil {
				return err // what it said before it went
			}
			return failed
		}
		switch m := m.(type) {
		case *pgproto3.ErrorResponse:
			copied := *m
			own := &serverError{&copied}
			if err == nil {
				err = own
			}
			if own.fatal() {
				c.broken = true
				return err
			}
		case *pgproto3.ReadyForQuery:
			c.status, c.under = m.TxStatus, false
			return err
		case *pgproto3.NoticeResponse, *pgproto3.ParameterStatus, *pgproto3.NotificationResponse, *pgproto3.CopyData,
			*pgproto3.CopyDone:
		case *pgproto3.CopyInResponse:
			c.front.Send(&pgproto3.CopyFail{Message: "there is nothing to copy"})
			if failed := c.flush(); failed != nil {
				return failed
			}
		default:
			if take != nil && err == nil {
				err = take(m)
			}
		}
	}
}

// Prepare implements database.Conn.
func (c *conn) Prepare(st *database.Statement) error {
	c.front.SendParse(&pgproto3.Parse{Name: name(st), Query: st.Text})
	c.front.SendDescribe(&pgproto3.Describe{ObjectType: 'S', Name: name(st)})
	if err := c.flush(); err != nil {
		return err
	}
	k := &known{}
	err := c.answer(func(m pgproto3.BackendMessage) error {
		if d, ok := m.(*pgproto3.RowDescription); ok {
			k.columns, k.types = described(d, nil, nil)
		}
		return nil
	})
	if err == nil {
		c.known[st.Number] = k
	}
	return err
}

func described(d *pgproto3.RowDescription, columns []database.Column, types []uint32) ([]database.Column, []uint32) {
	columns, types = columns[:0], types[:0]
	for i := range d.Fields {
		columns = append(columns, database.Column{Name: string(d.Fields[i].Name)})
		types = append(types, d.Fields[i].DataTypeOID)
	}
	return columns, types
}

// Query implements database.Conn.
func (c *conn) Query(st *database.Statement, args []database.Value, into database.Reader) error {
	bind := pgproto3.Bind{Parameters: c.encode(args)}
	k := c.known[st.Number]
	if k == nil || !st.Prepared {
		k = nil
		c.front.SendParse(&pgproto3.Parse{Query: st.Text})
	} else {
		bind.PreparedStatement = name(st)
	}
	c.front.SendBind(&bind)
	if k == nil {
		c.front.SendDescribe(&pgproto3.Describe{ObjectType: 'P'})
	}
	c.front.SendExecute(&pgproto3.Execute{MaxRows: uint32(st.Most)})
	if err := c.flush(); err != nil {
		return err
	}
	if k != nil && len(k.columns) > 0 {
		c.expect(k.columns, k.types, into)
	}
	enough := false
	return c.answer(func(m pgproto3.BackendMessage) error {
		switch m := m.(type) {
		case *pgproto3.RowDescription:
			c.columns, c.types = described(m, c.columns, c.types)
			c.expect(c.columns, c.types, into)
		case *pgproto3.DataRow:
			if !enough {
				enough = !into.Row(c.row(m.Values))
			}
		case *pgproto3.CommandComplete:
			if n, ok := changed(m.CommandTag); ok {
				into.Changed(n)
			}
		}
		return nil
	})
}

// expect prepares for rows of these columns.
func (c *conn) expect(columns []database.Column, types []uint32, into database.Reader) {
	c.types = append(c.types[:0], types...)
	c.values = slices.Grow(c.values[:0], len(columns))[:len(columns)]
	into.Columns(columns)
}

// row is what the server sent as values, which all come as text.
func (c *conn) row(sent [][]byte) []database.Value {
	for i := range sent {
		v := &c.values[i]
		if v.Bytes = sent[i]; v.Bytes == nil {
			v.Type = database.Null
			continue
		}
		v.Type = typeOf(c.types[i])
		if v.Type == database.Bool {
			v.Int = 0
			if len(v.Bytes) > 0 && v.Bytes[0] == 't' {
				v.Int = 1
			}
		}
	}
	return c.values
}

// The server's own numbers of types, which never change (its catalogue pg_type).
const (
	oidBool, oidBytes, oidInt8, oidInt2, oidInt4, oidOid = 16, 17, 20, 21, 23, 26
	oidJSON, oidFloat4, oidFloat8, oidNumeric, oidJSONB  = 114, 700, 701, 1700, 3802
)

func typeOf(oid uint32) database.Type {
	switch oid {
	case oidBool:
		return database.Bool
	case oidInt8, oidInt2, oidInt4, oidOid, oidFloat4, oidFloat8, oidNumeric:
		return database.Number
	case oidJSON, oidJSONB:
		return database.JSON
	}
	return database.Text // of bytes too: they come as hexadecimal digits
}

// changed is how many rows a command says that it changed.
func changed(tag []byte) (n int64, ok bool) {
	word, rest, _ := strings.Cut(string(tag), " ")
	switch word {
	case "INSERT":
		_, rest, _ = strings.Cut(rest, " ")
	case "UPDATE", "DELETE", "MERGE", "COPY":
	default:
		return 0, false
	}
	n, err := strconv.ParseInt(rest, 10, 64)
	return n, err == nil
}

// encode writes parameters as text, whose types the server finds by where they stand.
func (c *conn) encode(args []database.Value) [][]byte {
	c.args, c.text = c.args[:0], c.text[:0]
	for i := range args {
		if args[i].Type == database.Null {
			c.args = append(c.args, nil)
			continue
		}
		from := len(c.text)
		c.text = args[i].AppendText(c.text)
		c.args = append(c.args, c.text[from:len(c.text):len(c.text)])
	}
	return c.args
}

// exec performs a text that brings nothing.
func (c *conn) exec(text string) error {
	c.front.SendQuery(&pgproto3.Query{String: text})
	c.under = true
	if err := c.front.Flush(); err != nil {
		c.broken = true
		return err
	}
	return c.answer(nil)
}

// Begin implements database.Conn.
func (c *conn) Begin() error { return c.exec("begin") }

// Commit implements database.Conn.
func (c *conn) Commit() error { return c.exec("commit") }

// Rollback implements database.Conn.
func (c *conn) Rollback() error { return c.exec("rollback") }

// InTransaction implements database.Conn.
func (c *conn) InTransaction(bool) (bool, error) { return c.status != 'I', nil }

// Version implements database.Conn.
func (c *conn) Version() string { return c.version }

// Limit implements database.Conn.
func (c *conn) Limit(at time.Time) { c.wire.SetDeadline(at) }

// Interrupt implements database.Conn.
func (c *conn) Interrupt() { c.wire.Interrupt() }

// Gone implements database.Conn. What a server says unasked is of no consequence, but for an error.
func (c *conn) Gone() bool {
	if c.net != net.Conn(c.wire) {
		return c.wire.Gone(nil) // encrypted
	}
	return c.wire.Gone(func(first byte) bool { return first == 'E' })
}

// Traffic implements database.Conn.
func (c *conn) Traffic() (sent, received int64) { return c.wire.Traffic() }

// Tally implements database.Conn: the server counts for itself.
func (c *conn) Tally(map[string]int64) {}

// closing is how long a server may take to be told that nobody waits any more.
const closing = time.Second

// Close implements database.Conn. What the server is at is cancelled, since it would go on otherwise until it has
// something to send.
func (c *conn) Close() {
	if c.under {
		c.cancel()
	} else if !c.broken {
		c.wire.Conn.SetDeadline(time.Now().Add(closing))
		c.front.Send(&pgproto3.Terminate{})
		c.front.Flush()
	}
	c.net.Close()
}

// cancel asks the server to end what this connection is at, over a connection of its own.
func (c *conn) cancel() {
	ctx, stop := context.WithTimeout(context.Background(), closing)
	defer stop()
	network, address := pgconn.NetworkAddress(c.engine.config.Host, c.engine.config.Port)
	other, err := c.engine.guard.DialContext(ctx, network, address)
	if err != nil {
		return
	}
	defer other.Close()
	other.SetDeadline(time.Now().Add(closing))
	request, err := (&pgproto3.CancelRequest{ProcessID: c.pid, SecretKey: c.key}).Encode(nil)
	if err != nil {
		return
	}
	if _, err := other.Write(request); err == nil {
		io.Copy(io.Discard, other) // it closes when it has passed it on
	}
}

// Fault implements database.Engine.
func (e *Engine) Fault(err error, st *database.Statement) database.Fault {
	var own *serverError
	var theirs *pgconn.PgError
	var connect *pgconn.ConnectError
	switch {
	case errors.As(err, &own):
		return e.refused(err, own.Code, own.Hint, int(own.Position), st)
	case errors.As(err, &theirs):
		said := error(&serverError{&pgproto3.ErrorResponse{Message: theirs.Message, Detail: theirs.Detail}})
		return e.refused(said, theirs.Code, theirs.Hint, 0, nil)
	}
	where := e.address.String()
	if isTLS(err) {
		return database.Fault{Class: shots.TLS, Err: fmt.Errorf("connect to %s: %w", where, err),
			Try: "see what sslmode, sslrootcert and sslcert of the address say"}
	}
	if f, ok := database.Unconnected(err, where); ok {
		return f
	}
	if errors.As(err, &connect) || strings.Contains(err.Error(), "unknown message type") ||
		strings.Contains(err.Error(), "invalid body length") || strings.Contains(err.Error(), "invalid message") {
		return database.Fault{
			Class: shots.Protocol, Err: strange(err, where), Try: database.TryAddress,
		}
	}
	return database.Fault{Class: shots.Other, Err: err}
}

// strange is somebody who does not answer as a server does. What pgconn says of it is added where that is a sentence.
func strange(err error, where string) error {
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) && connect.Unwrap() != nil {
		err = connect.Unwrap()
	}
	if strings.Contains(err.Error(), "%!") { // it met a message that it has no words for
		return fmt.Errorf("%s does not answer as PostgreSQL does", where)
	}
	return fmt.Errorf("%s does not answer as PostgreSQL does: %w", where, err)
}

func isTLS(err error) bool {
	var verify *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	return errors.As(err, &verify) || errors.As(err, &record) || strings.Contains(err.Error(), "server refused TLS")
}

// refused sorts what the server says by its code (the appendix of its manual lists them).
func (e *Engine) refused(err error, code, hint string, position int, st *database.Statement) database.Fault {
	f := database.Fault{Class: shots.Statement, Err: err, Try: hint}
	switch {
	case strings.HasPrefix(code, "28"), code == "3D000":
		f.Class, f.Err = shots.Access, fmt.Errorf("connect to %s: %w", e.address, err)
		f.Try = "correct user, password or name of the database"
	case code == "53300":
		f.Class, f.Try = shots.Refused, "take fewer connections, or raise max_connections of the server"
	case code == "57P03":
		f.Class = shots.Refused
		f.Try = "wait until it is ready: for a service of the plan, ready: { line: database system is ready to accept }"
	case strings.HasPrefix(code, "57P"), strings.HasPrefix(code, "08"):
		f.Class, f.Try = shots.Reset, "see the server's own log"
	case code == "40001", code == "40P01", code == "55P03":
		f.Class = shots.Conflict
	case code == "57014":
		f.Class = shots.Timeout
	case code == "25006":
		f.Try = database.TryChanges
	default:
		if f.Try == "" {
			f.Try = database.TryStatement
		}
		if position > 0 && st != nil {
			f.Err = database.Placed(err, st, byteOf(st.Text, position))
		}
	}
	return f
}

// byteOf is where the n-th character of a text begins, counted from 1; -1 where it has none.
func byteOf(text string, n int) int {
	for at := range text {
		if n--; n == 0 {
			return at
		}
	}
	if n == 1 {
		return len(text)
	}
	return -1
}

var (
	_ database.Engine = (*Engine)(nil)
	_ database.Conn   = (*conn)(nil)
)
