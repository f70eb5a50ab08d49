package postgres

import (
	"context"
	"errors"
	"strings"

	"paceduel/core/contender/query/database"
)

// marker stands in statements of ours that are no part of what is measured.
const marker = "/* paceduel itself */"

// What the server counts of statements, where it has the extension that does, and else of the whole database. Pages
// are counted in blocks of block_size bytes.
const (
	byStatement = "select " + marker + ` coalesce(sum(calls), 0)::int8, coalesce(sum(rows), 0)::int8,
		coalesce(sum(total_exec_time) * 1e6, 0)::int8,
		coalesce(sum(shared_blks_hit + local_blks_hit), 0)::int8,
		coalesce(sum(shared_blks_read + local_blks_read), 0)::int8,
		coalesce(sum(shared_blks_written + local_blks_written), 0)::int8,
		coalesce(sum(temp_blks_written), 0)::int8 * current_setting('block_size')::int8,
		coalesce(sum(wal_bytes), 0)::int8
		from pg_stat_statements s join pg_database d on d.oid = s.dbid
		where d.datname = current_database() and s.query not like '%` + marker + `%'`
	byDatabase = "select " + marker + ` null, null, null, blks_hit, blks_read, null, temp_bytes,
		(select wal_bytes::int8 from pg_stat_wal) from pg_stat_database where datname = current_database()`
	hasStatements = "select " + marker + ` 1 from pg_extension where extname = 'pg_stat_statements'`
	othersOfOurs  = "select " + marker + ` 1 from pg_stat_activity where application_name = '` + Application +
		`' and pid <> pg_backend_pid() limit 1`
)

var accountNames = []string{
	database.Performed, database.Sent, database.ServerTime, database.BlocksHit, database.BlocksRead, database.Written,
	database.Temporary, database.Logged,
}

// Account implements database.Engine. A connection of ours that has just been closed may still be about to add to the
// counts, so that it is waited for until it has gone.
func (e *Engine) Account(ctx context.Context) (map[string]int64, error) {
	own, err := e.Connect(ctx)
	if err != nil {
		return nil, err
	}
	defer own.Close()
	var n found
	for range 200 {
		if n = (found{}); own.Query(&database.Statement{Text: othersOfOurs}, nil, &n) != nil || !n.any || ctx.Err() != nil {
			break
		}
		own.Query(&database.Statement{Text: "select " + marker + " pg_sleep(0.002)"}, nil, &found{})
	}
	n = found{}
	if err := own.Query(&database.Statement{Text: hasStatements}, nil, &n); err != nil {
		return nil, err
	}
	text := byDatabase
	if n.any {
		text = byStatement
	}
	r := reading{into: map[string]int64{}}
	err = own.Query(&database.Statement{Text: text}, nil, &r)
	const notLoaded = "55000"
	if said := (*serverError)(nil); errors.As(err, &said) && said.Code == notLoaded {
		r = reading{into: map[string]int64{}}
		err = own.Query(&database.Statement{Text: byDatabase}, nil, &r)
	}
	return r.into, err
}

// found says whether any row came.
type found struct{ any bool }

func (f *found) Columns([]database.Column) {}
func (f *found) Row([]database.Value) bool { f.any = true; return true }
func (f *found) Changed(int64)             {}

// reading takes one row of counts.
type reading struct{ into map[string]int64 }

func (r *reading) Columns([]database.Column) {}
func (r *reading) Changed(int64)             {}

func (r *reading) Row(v []database.Value) bool {
	for i, name := range accountNames {
		if i < len(v) && v[i].Type != database.Null {
			r.into[name] = database.Whole(v[i].Bytes)
		}
	}
	return true
}

// Explain implements database.Conn.
func (c *conn) Explain(st *database.Statement, args []database.Value) (database.Explanation, error) {
	var full, bare lines
	if err := c.Query(&database.Statement{Number: -1, Text: "explain " + st.Text}, args, &full); err != nil {
		return database.Explanation{}, err
	}
	err := c.Query(&database.Statement{Number: -1, Text: "explain (costs off) " + st.Text}, args, &bare)
	return database.Explanation{Text: strings.Join(full.all, "\n"), Shape: strings.Join(bare.all, "\n")}, err
}

// lines are rows of one text each.
type lines struct{ all []string }

func (l *lines) Columns([]database.Column) {}
func (l *lines) Changed(int64)             {}

func (l *lines) Row(v []database.Value) bool {
	l.all = append(l.all, string(v[0].Bytes))
	return true
}
