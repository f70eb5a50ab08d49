// Package mysql performs statements on MySQL and MariaDB by the driver that programs in Go use for them, without the
// pool that database/sql would put before it.
package mysql

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/shots"
)

// Engine opens connections to one database.
type Engine struct {
	config  *mysql.Config
	guard   guard.Guard
	address database.Address
	changes bool
	limit   time.Duration
}

// New reads an address; it connects to nobody. Statements that take longer than limit are given up by the server.
func New(a database.Address, g guard.Guard, changes bool, limit time.Duration) (*Engine, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = a.User, a.Password, a.Name
	config.Net, config.Addr = "tcp", net.JoinHostPort(a.Host, a.Port)
	if a.Socket != "" {
		config.Net, config.Addr = "unix", a.Socket
	}
	config.Logger, config.InterpolateParams, config.CheckConnLiveness = &mysql.NopLogger{}, true, false
	config.Params = map[string]string{}
	for key, values := range a.Options {
		switch key {
		case "tls":
			var err error
			if config.TLS, err = trust(values[0], a); err != nil {
				return nil, err
			}
		case "ca":
		default:
			config.Params[key] = values[0]
		}
	}
	return &Engine{config: config, guard: g, address: a, changes: changes, limit: limit}, nil
}

// trust is how far a server is trusted, by the word that the address has for it.
func trust(word string, a database.Address) (*tls.Config, error) {
	c := &tls.Config{ServerName: a.Host}
	switch word {
	case "false":
		return nil, nil
	case "skip-verify":
		c.InsecureSkipVerify = true
	case "true":
		if file := a.Options.Get("ca"); file != "" {
			pem, err := os.ReadFile(file)
			if err != nil {
				return nil, fmt.Errorf("read whom to trust: %w", err)
			}
			c.RootCAs = x509.NewCertPool()
			if !c.RootCAs.AppendCertsFromPEM(pem) {
				return nil, fmt.Errorf("%s holds no certificate", file)
			}
		}
	default:
		return nil, fmt.Errorf("tls=%s is not known, write true, false or skip-verify", word)
	}
	return c, nil
}

// Connect implements database.Engine.
func (e *Engine) Connect(ctx context.Context) (database.Conn, error) {
	c := &conn{engine: e, known: map[int]driver.Stmt{}}
	config := e.config.Clone()
	stop := func() bool { return false }
	config.DialFunc = func(dialing context.Context, network, address string) (net.Conn, error) {
		own, err := e.guard.DialContext(dialing, network, address)
		if err != nil {
			return nil, err
		}
		c.wire = database.NewWire(own)
		stop = context.AfterFunc(ctx, c.wire.Interrupt) // greeting takes as long as the server likes
		return c.wire, nil
	}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	own, err := connector.Connect(ctx)
	if !stop() && ctx.Err() != nil && err == nil {
		own.Close()
		err = ctx.Err()
	}
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case c.wire != nil && !greets(c.wire.Head()):
		return nil, errStranger
	default:
		return nil, err
	}
	c.own = own.(sqlConn)
	c.version, c.id = greeting(c.wire.Head())
	if err := c.exec(e.session(c.version)); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// greeting is what a server says of itself when it is connected to: its version, and the connection's number. They
// stand behind the packet's head and the version of the protocol.
func greeting(head []byte) (version string, id int64) {
	const before, numbers = 5, 4
	if len(head) < before {
		return "", 0
	}
	name, rest, _ := bytes.Cut(head[before:], []byte{0})
	if len(rest) >= numbers {
		id = int64(binary.LittleEndian.Uint32(rest))
	}
	return strings.TrimPrefix(string(name), "5.5.5-"), id // by which MariaDB calls itself younger
}

// session is what every connection is told, in one go: that it only reads, and that the server gives up by itself what
// nobody waits for any more, even where we had no time to say so.
func (e *Engine) session(version string) string {
	reads, seconds := "transaction_read_only", e.limit.Seconds()
	limit := fmt.Sprintf("max_execution_time = %d", e.limit.Milliseconds())
	if strings.Contains(version, "MariaDB") {
		reads, limit = "tx_read_only", fmt.Sprintf("max_statement_time = %.3f", seconds)
	}
	if e.changes {
		return "set session " + limit
	}
	return "set session " + limit + ", session " + reads + " = 1"
}

// errStranger is somebody who does not greet as a server does.
var errStranger = errors.New("its first bytes are no greeting")

// greets reports whether these may be the first bytes of a server: a packet's length, its number 0, and the version of
// the protocol, or that it is an error. None at all are no sign of anything.
func greets(head []byte) bool {
	const version, failed = 10, 0xff
	return len(head) == 0 || len(head) > 4 && head[3] == 0 && (head[4] == version || head[4] == failed)
}

// sqlConn is what a connection of the driver can do.
type sqlConn interface {
	driver.Conn
	driver.QueryerContext
	driver.ExecerContext
	driver.ConnPrepareContext
}

// conn is a connection. Contexts are not handed to the driver: it would watch each of them, where one interrupt for all
// does.
type conn struct {
	engine  *Engine
	wire    *database.Wire
	own     sqlConn
	known   map[int]driver.Stmt
	id      int64
	version string
	columns []database.Column
	values  []database.Value
	raw     []driver.Value
	args    []driver.NamedValue
	under   bool
	broken  bool
}

// row keeps one row as texts.
type row struct{ values []string }

func (r *row) Columns([]database.Column) {}
func (r *row) Changed(int64)             {}

func (r *row) Row(v []database.Value) bool {
	r.values = nil
	for i := range v {
		r.values = append(r.values, string(v[i].AppendText(nil)))
	}
	return true
}

// Prepare implements database.Conn.
func (c *conn) Prepare(st *database.Statement) error {
	own, err := c.own.PrepareContext(context.Background(), st.Text)
	if err == nil {
		c.known[st.Number] = own
	}
	return c.seen(err)
}

// seen takes note of an error that the connection does not survive.
func (c *conn) seen(err error) error {
	var told *mysql.MySQLError
	if err != nil && !errors.As(err, &told) {
		c.broken = true
	}
	return err
}

// Query implements database.Conn.
func (c *conn) Query(st *database.Statement, args []database.Value, into database.Reader) error {
	c.under = true
	defer func() { c.under = c.broken }()
	c.args = c.args[:0]
	for i := range args {
		c.args = append(c.args, driver.NamedValue{Ordinal: i + 1, Value: valueOf(&args[i])})
	}
	prepared := c.known[st.Number]
	if changes(st.Text) {
		return c.change(st, prepared, into)
	}
	rows, err := c.query(st, prepared)
	if err != nil {
		return c.seen(err)
	}
	err = c.rows(rows, st.Most, into)
	if closed := rows.Close(); err == nil {
		err = closed
	}
	return c.seen(err)
}

func (c *conn) query(st *database.Statement, prepared driver.Stmt) (driver.Rows, error) {
	if prepared != nil && st.Prepared {
		return prepared.(driver.StmtQueryContext).QueryContext(context.Background(), c.args)
	}
	return c.own.QueryContext(context.Background(), st.Text, c.args)
}

// change performs a statement that brings no rows but says how many it changed.
func (c *conn) change(st *database.Statement, prepared driver.Stmt, into database.Reader) (err error) {
	var done driver.Result
	if prepared != nil && st.Prepared {
		done, err = prepared.(driver.StmtExecContext).ExecContext(context.Background(), c.args)
	} else {
		done, err = c.own.ExecContext(context.Background(), st.Text, c.args)
	}
	if err != nil {
		return c.seen(err)
	}
	if n, err := done.RowsAffected(); err == nil {
		into.Changed(n)
	}
	return nil
}

// changes reports whether a statement tells how many rows it changed.
func changes(text string) bool {
	switch database.FirstWord(text) {
	case "insert", "update", "delete", "replace", "load":
		return !strings.Contains(strings.ToLower(text), "returning")
	}
	return false
}

// rows hands out what comes.
func (c *conn) rows(rows driver.Rows, most int, into database.Reader) error {
	c.columns = c.columns[:0]
	for _, name := range rows.Columns() {
		c.columns = append(c.columns, database.Column{Name: name})
	}
	n := len(c.columns)
	if n == 0 {
		return nil
	}
	if cap(c.raw) < n {
		c.raw, c.values = make([]driver.Value, n), make([]database.Value, n)
	}
	c.raw, c.values = c.raw[:n], c.values[:n]
	types := rows.(driver.RowsColumnTypeDatabaseTypeName)
	into.Columns(c.columns)
	for seen := 0; ; {
		switch err := rows.Next(c.raw); err {
		case nil:
		case io.EOF:
			return nil
		default:
			return err
		}
		for i := range c.raw {
			c.values[i] = read(c.raw[i], types.ColumnTypeDatabaseTypeName(i))
		}
		if seen++; !into.Row(c.values) || seen == most {
			return nil // closing reads what else is on its way
		}
	}
}

// read is a value as the driver hands it out.
func read(v driver.Value, name string) database.Value {
	switch v := v.(type) {
	case nil:
		return database.Value{}
	case int64:
		return database.Value{Type: database.Int, Int: v}
	case uint64:
		return database.Value{Type: database.Number, Bytes: strconv.AppendUint(nil, v, 10)}
	case float32:
		return database.Value{Type: database.Number, Bytes: strconv.AppendFloat(nil, float64(v), 'f', -1, 32)}
	case float64:
		return database.Value{Type: database.Float, Float: v}
	case []byte:
		return database.Value{Type: typeOf(name), Bytes: v}
	case string:
		return database.Value{Type: typeOf(name), Bytes: []byte(v)}
	}
	return database.Value{Type: database.Text, Bytes: fmt.Append(nil, v)}
}

// typeOf is what bytes are, by the database's name of their type.
func typeOf(name string) database.Type {
	switch strings.TrimPrefix(name, "UNSIGNED ") {
	case "DECIMAL", "INT", "BIGINT", "SMALLINT", "TINYINT", "MEDIUMINT", "FLOAT", "DOUBLE", "YEAR":
		return database.Number
	case "JSON":
		return database.JSON
	case "BLOB", "TINYBLOB", "MEDIUMBLOB", "LONGBLOB", "BINARY", "VARBINARY", "BIT", "GEOMETRY":
		return database.Blob
	}
	return database.Text
}

// valueOf is a value as the driver takes it.
func valueOf(v *database.Value) driver.Value {
	switch v.Type {
	case database.Null:
		return nil
	case database.Int, database.Bool:
		return v.Int
	case database.Float:
		return v.Float
	case database.Number, database.Text, database.JSON:
		return string(v.Bytes)
	}
	return v.Bytes
}

// exec performs a text that brings nothing.
func (c *conn) exec(text string) error {
	c.under = true
	_, err := c.own.ExecContext(context.Background(), text, nil)
	c.under = c.seen(err) != nil && c.broken
	return err
}

// Begin implements database.Conn.
func (c *conn) Begin() error { return c.exec("start transaction") }

// Commit implements database.Conn.
func (c *conn) Commit() error { return c.exec("commit") }

// Rollback implements database.Conn.
func (c *conn) Rollback() error { return c.exec("rollback") }

// InTransaction implements database.Conn. MariaDB has a variable for it; MySQL lists who is in one.
func (c *conn) InTransaction(ask bool) (bool, error) {
	if !ask {
		return false, nil
	}
	var r row
	text := "select @@in_transaction"
	if !strings.Contains(c.version, "MariaDB") {
		text = "select count(*) from information_schema.innodb_trx where trx_mysql_thread_id = connection_id()"
	}
	err := c.Query(&database.Statement{Number: -1, Text: text}, nil, &r)
	return len(r.values) == 1 && r.values[0] != "0", err
}

// Version implements database.Conn.
func (c *conn) Version() string {
	number, rest, _ := strings.Cut(c.version, "-")
	if strings.Contains(rest, "MariaDB") {
		return "MariaDB " + number
	}
	return "MySQL " + number
}

// Limit implements database.Conn.
func (c *conn) Limit(at time.Time) { c.wire.SetDeadline(at) }

// Interrupt implements database.Conn.
func (c *conn) Interrupt() { c.wire.Interrupt() }

// Gone implements database.Conn. A server says nothing unasked but that it closes.
func (c *conn) Gone() bool {
	if c.engine.config.TLS != nil {
		return c.wire.Gone(nil)
	}
	return c.wire.Gone(func(byte) bool { return true })
}

// Traffic implements database.Conn.
func (c *conn) Traffic() (sent, received int64) { return c.wire.Traffic() }

// Tally implements database.Conn: the server counts for itself.
func (c *conn) Tally(map[string]int64) {}

// closing is how long a server may take to be told that nobody waits any more.
const closing = time.Second

// Close implements database.Conn. What the server is at is ended, since it would go on otherwise.
func (c *conn) Close() {
	if c.under {
		c.kill()
		c.wire.Conn.Close()
		return
	}
	if !c.broken {
		c.wire.Conn.SetDeadline(time.Now().Add(closing))
		for _, st := range c.known {
			st.Close()
		}
	}
	c.own.Close()
	c.wire.Conn.Close()
}

// kill ends this connection at the server, over one of its own.
func (c *conn) kill() {
	ctx, stop := context.WithTimeout(context.Background(), closing)
	defer stop()
	other, err := c.engine.Connect(ctx)
	if err != nil {
		return
	}
	defer other.Close()
	other.Limit(time.Now().Add(closing))
	other.(*conn).exec("kill " + strconv.FormatInt(c.id, 10))
}

// Fault implements database.Engine.
func (e *Engine) Fault(err error, st *database.Statement) database.Fault {
	where := e.address.String()
	var told *mysql.MySQLError
	if errors.As(err, &told) {
		return e.refused(told, st)
	}
	var verify *tls.CertificateVerificationError
	if errors.As(err, &verify) || errors.Is(err, mysql.ErrNoTLS) {
		return database.Fault{Class: shots.TLS, Err: fmt.Errorf("connect to %s: %w", where, err),
			Try: "see what tls and ca of the address say"}
	}
	if isStrange(err) {
		return database.Fault{
			Class: shots.Protocol, Err: fmt.Errorf("%s does not answer as MySQL does: %w", where, err),
			Try: database.TryAddress,
		}
	}
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) {
		err = fmt.Errorf("%w (%w)", io.EOF, err)
	}
	if f, ok := database.Unconnected(err, where); ok {
		return f
	}
	return database.Fault{Class: shots.Other, Err: err}
}

// isStrange reports whether an error says that somebody speaks another protocol.
func isStrange(err error) bool {
	return slices.ContainsFunc([]error{
		errStranger, mysql.ErrMalformPkt, mysql.ErrPktSync, mysql.ErrPktSyncMul, mysql.ErrOldProtocol, mysql.ErrPktTooLarge,
	}, func(is error) bool { return errors.Is(err, is) }) || strings.Contains(err.Error(), "unsupported protocol")
}

// The server's own numbers of errors.
const (
	tooManyConnections, accessDenied, unknownDatabase, noDatabaseAccess = 1040, 1045, 1049, 1044
	lockWait, deadlock, readOnly, shutDown, killed, interrupted         = 1205, 1213, 1792, 1053, 1927, 1317
	wantsPlugin, tooLong, tooLongThere                                  = 1698, 1969, 3024
)

func (e *Engine) refused(told *mysql.MySQLError, st *database.Statement) database.Fault {
	said := errors.New(told.Message)
	f := database.Fault{Class: shots.Statement, Err: said, Try: database.TryStatement}
	switch told.Number {
	case accessDenied, unknownDatabase, noDatabaseAccess, wantsPlugin:
		f.Class, f.Err = shots.Access, fmt.Errorf("connect to %s: %w", e.address, said)
		f.Try = "correct user, password or name of the database"
	case tooManyConnections:
		f.Class, f.Try = shots.Refused, "take fewer connections, or raise max_connections of the server"
	case shutDown, killed:
		f.Class, f.Try = shots.Reset, "see the server's own log"
	case lockWait, deadlock:
		f.Class, f.Try = shots.Conflict, ""
	case interrupted, tooLong, tooLongThere:
		f.Class = shots.Timeout
	case readOnly:
		f.Try = database.TryChanges
	default:
		f.Err = database.Placed(said, st, place(told.Message, st))
	}
	return f
}

// place is where in the statement the server's "near '…' at line N" points to; -1 where that is not to be found.
func place(message string, st *database.Statement) int {
	_, rest, found := strings.Cut(message, "near '")
	end := strings.LastIndex(rest, "' at line ")
	if !found || end < 0 || st == nil {
		return -1
	}
	if near := rest[:end]; near != "" {
		return strings.Index(st.Text, near)
	}
	return len(st.Text)
}

var (
	_ database.Engine = (*Engine)(nil)
	_ database.Conn   = (*conn)(nil)
)
