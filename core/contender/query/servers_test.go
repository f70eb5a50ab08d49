package query

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/contender/query/database"
	"paceduel/core/keeper"
	"paceduel/core/plan"
	"paceduel/internal/servers"
)

// The servers, each started when a test first wants it.
var (
	postgresServer = sync.OnceValue(func() *servers.Server { return keptRunning(servers.Postgres()) })
	mariaServer    = sync.OnceValue(func() *servers.Server { return keptRunning(servers.Maria()) })

	mu      sync.Mutex
	running []*servers.Server
)

func keptRunning(s *servers.Server) *servers.Server {
	mu.Lock()
	defer mu.Unlock()
	running = append(running, s)
	return s
}

func TestMain(m *testing.M) {
	keeper.Run()
	code := m.Run()
	for _, s := range running {
		s.End()
	}
	os.Exit(code)
}

// base is a database with the tables of the tests in it, of each kind that there is here.
type base struct {
	kind   string
	scheme string
	at     plan.Address
	// hangs is a statement that takes very long; rows brings as many rows as it says.
	hangs, rows string
	server      *servers.Server // nil: a library
}

// bases are the databases, by the names of tests.
var bases = map[string]func(testing.TB) base{"SQLite": sqliteBase, "PostgreSQL": postgresBase, "MariaDB": mariaBase}

// eachBase runs a test on every kind of database.
func eachBase(t *testing.T, test func(*testing.T, base)) {
	for _, name := range slices.Sorted(maps.Keys(bases)) {
		t.Run(name, func(t *testing.T) { test(t, bases[name](t)) })
	}
}

// tables are what every database of the tests has: 40 berths, 1 000 calls, 100 vessels.
var tables = []string{
	"create table vessels (id int primary key, name varchar(40), length double precision)",
	"create table calls (id int primary key, berth int, vessel int, note varchar(40))",
	"create index calls_berth on calls (berth)",
	"create table journal (id int primary key, what varchar(80))",
}

func fillingStatements() (out []string) {
	out = slices.Clone(tables)
	var rows []string
	for i := range 100 {
		rows = append(rows, fmt.Sprintf("(%d, 'Vessel %d', %d.5)", i, i, 40+i))
	}
	out = append(out, "insert into vessels values "+strings.Join(rows, ", "))
	rows = rows[:0]
	for i := range 1000 {
		note := fmt.Sprintf("'call %d'", i)
		if i%10 == 3 {
			note = "null"
		}
		rows = append(rows, fmt.Sprintf("(%d, %d, %d, %s)", i, i%40, i*7%100, note))
	}
	return append(out, "insert into calls values "+strings.Join(rows, ", "))
}

func sqliteBase(t testing.TB) base {
	b := base{
		kind: "SQLite", scheme: database.SQLite, at: plan.Address("sqlite:" + filepath.Join(t.TempDir(), "harbour.db")),
		hangs: "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n",
		rows:  "with recursive n(i) as (select 1 union all select i + 1 from n where i < %d) select i from n",
	}
	if err := os.WriteFile(strings.TrimPrefix(string(b.at), "sqlite:"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	b.do(t, fillingStatements()...)
	return b
}

var fillPostgres, fillMaria sync.Once

func postgresBase(t testing.TB) base {
	s := postgresServer()
	b := base{
		kind: s.Kind, scheme: database.Postgres, at: plan.Address("postgres://harbour@127.0.0.1:" + s.Port + "/postgres"),
		hangs: "select pg_sleep(60)", rows: "select i from generate_series(1, %d) i", server: s,
	}
	if s.Missing != "" {
		t.Skip(s.Missing)
	}
	fillPostgres.Do(func() {
		b.do(t, append(fillingStatements(), "create extension pg_stat_statements", "analyze")...)
	})
	return b
}

func mariaBase(t testing.TB) base {
	s := mariaServer()
	b := base{
		kind: s.Kind, scheme: database.MySQL, at: plan.Address("mysql://harbour@127.0.0.1:" + s.Port + "/harbour"),
		hangs: "select sleep(60)", rows: "select seq as i from seq_1_to_%d", server: s,
	}
	if s.Missing != "" {
		t.Skip(s.Missing)
	}
	fillMaria.Do(func() { b.do(t, append(fillingStatements(), "analyze table vessels, calls")...) })
	return b
}

// asking are settings that ask the base something.
func (b base) asking(change func(*Settings)) *Settings {
	s := New().(*Settings)
	s.At, s.Statement, s.Timeout = b.at, "select 1 as one", plan.Span(20*time.Second)
	if b.server != nil {
		s.Password = servers.Password
	}
	if change != nil {
		change(s)
	}
	return s
}

// do performs statements, each as a shot of its own.
func (b base) do(t testing.TB, texts ...string) {
	t.Helper()
	for _, text := range texts {
		shoot(t, open1(t, b.asking(func(s *Settings) {
			s.Statement, s.Writes, s.Prepared = text, true, false
		})))
	}
}
