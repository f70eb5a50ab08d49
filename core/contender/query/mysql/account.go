package mysql

import (
	"context"
	"slices"
	"strings"

	"paceduel/core/contender/query/database"
)

// counters are those of the server's that are taken, by its own names.
var counters = map[string]string{
	"Handler_read_key": database.KeyReads, "Handler_read_first": database.KeyReads,
	"Handler_read_next": database.NextReads, "Handler_read_prev": database.NextReads,
	"Handler_read_rnd_next": database.ScanReads, "Handler_read_rnd": database.KeyReads,
	"Rows_sent":        database.Sent,
	"Innodb_rows_read": database.RowsLooked, "Innodb_buffer_pool_read_requests": database.BlocksHit,
	"Innodb_buffer_pool_reads": database.BlocksRead, "Innodb_buffer_pool_write_requests": database.Written,
	"Created_tmp_disk_tables": database.DiskTables, "Innodb_os_log_written": database.Logged,
}

// statements are those that count as performed. What a server counts as questions has also what connections are told,
// and that they are closed, which it may hear of late.
var statements = strings.Fields("select insert insert_select update update_multi delete delete_multi replace " +
	"replace_select call_procedure begin commit rollback")

// Account implements database.Engine.
func (e *Engine) Account(ctx context.Context) (map[string]int64, error) {
	own, err := e.Connect(ctx)
	if err != nil {
		return nil, err
	}
	defer own.Close()
	r := reading{into: map[string]int64{}}
	if err := own.Query(&database.Statement{Number: -1, Text: "show global status"}, nil, &r); err != nil {
		return nil, err
	}
	// A page that was not there is first read in and then counted among those asked for.
	r.into[database.BlocksHit] -= r.into[database.BlocksRead]
	return r.into, nil
}

// reading takes counters by name.
type reading struct{ into map[string]int64 }

func (r *reading) Columns([]database.Column) {}
func (r *reading) Changed(int64)             {}

func (r *reading) Row(v []database.Value) bool {
	counter, n := string(v[0].Bytes), database.Whole(v[1].AppendText(nil))
	if name, ok := counters[counter]; ok {
		r.into[name] += n
	}
	if what, ok := strings.CutPrefix(counter, "Com_"); ok && slices.Contains(statements, what) {
		r.into[database.Performed] += n
	}
	return true
}

// Explain implements database.Conn. The server's table is put into a line a row; what it estimates is no part of the
// shape.
func (c *conn) Explain(st *database.Statement, args []database.Value) (database.Explanation, error) {
	t := table{}
	err := c.Query(&database.Statement{Number: -1, Text: "explain " + st.Text}, args, &t)
	return database.Explanation{Text: strings.Join(t.full, "\n"), Shape: strings.Join(t.bare, "\n")}, err
}

// table reads the server's explanation, a row for each table that is looked at.
type table struct {
	columns    []string
	full, bare []string
}

func (t *table) Columns(columns []database.Column) {
	for _, c := range columns {
		t.columns = append(t.columns, c.Name)
	}
}

func (t *table) Changed(int64) {}

func (t *table) Row(v []database.Value) bool {
	var full, bare []string
	for i, name := range t.columns {
		if v[i].Type == database.Null {
			continue
		}
		value := string(v[i].AppendText(nil))
		switch name {
		case "rows", "filtered", "r_rows", "r_filtered":
			full = append(full, name+" "+value)
			continue
		case "id":
			value += ":"
		case "table":
			value = "on " + value
		case "key":
			value = "by " + value
		case "key_len", "partitions":
			continue
		case "possible_keys":
			value = "could use " + value
		case "ref":
			value = "= " + value
		}
		full, bare = append(full, value), append(bare, value)
	}
	t.full, t.bare = append(t.full, strings.Join(full, " ")), append(t.bare, strings.Join(bare, " "))
	return true
}
