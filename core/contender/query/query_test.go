package query

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"paceduel/core/clock"
	"paceduel/core/contender"
	"paceduel/core/contender/conformance"
	"paceduel/core/contender/query/database"
	"paceduel/core/contender/query/sqlite"
	"paceduel/core/plan"
	"paceduel/core/shots"
	"paceduel/internal/servers"
)

// open1 opens a driver for settings, closed with the test.
func open1(t testing.TB, s *Settings) contender.Driver {
	t.Helper()
	d, err := Kind.Open(contender.Setup{Dir: t.TempDir(), PlanDir: t.TempDir(), Clock: clock.Start()}, s)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// shoot performs one shot in view, which has to succeed.
func shoot(t testing.TB, d contender.Driver) shots.Shot {
	t.Helper()
	c := d.Client(0, 1)
	defer c.Close()
	shot := shots.Shot{View: &shots.View{Limit: 64 << 20}}
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.OK {
		t.Fatalf("%s: %v", shot.Class, shot.Err)
	}
	return shot
}

// table writes a table for rows: and returns its path.
func table(t testing.TB, lines ...string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "rows.csv")
	if err := os.WriteFile(path, []byte(strings.Join(lines, "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// stranger is somebody who listens and speaks another protocol.
func stranger(t *testing.T) (host string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	t.Cleanup(func() { l.Close(); wg.Wait() })
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, "HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n")
			conn.Close()
		}
	})
	return l.Addr().String()
}

func TestConformance(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		const limit = 200 * time.Millisecond
		asks := func(text string) *Settings { return b.asking(func(s *Settings) { s.Statement = text }) }
		failures := map[shots.Class]plan.Settings{
			shots.Statement: asks("select nothing frm nowhere"),
			shots.Length: b.asking(func(s *Settings) {
				s.Statement, s.MaxResult = fmt.Sprintf(b.rows, 100_000), 1000
			}),
		}
		var elsewhere []plan.Settings
		if b.server == nil {
			failures[shots.NoStart] = b.asking(func(s *Settings) { s.At = "sqlite:/nowhere/harbour.db" })
			text := filepath.Join(t.TempDir(), "text.db")
			os.WriteFile(text, []byte(strings.Repeat("no database of any kind\n", 100)), 0o644)
			failures[shots.Protocol] = b.asking(func(s *Settings) { s.At = plan.Address("sqlite:" + text) })
		} else {
			failures[shots.Access] = b.asking(func(s *Settings) { s.Password = "wrong-password" })
			failures[shots.Refused] = b.asking(func(s *Settings) {
				s.At = plan.Address(b.scheme + "://harbour@127.0.0.1:" + servers.FreePort() + "/harbour")
			})
			failures[shots.Protocol] = b.asking(func(s *Settings) {
				s.At = plan.Address(b.scheme + "://harbour@" + stranger(t) + "/harbour")
			})
			for _, host := range []string{"10.1.2.3:5432", "berths.example", "[2001:db8::1]:3306"} {
				elsewhere = append(elsewhere, b.asking(func(s *Settings) {
					s.At = plan.Address(b.scheme + "://harbour@" + host + "/harbour")
				}))
			}
		}
		conformance.Run(t, conformance.Subject{
			Kind: Kind, Good: asks("select 'all berths are taken' as board"), Body: `[{"board":"all berths are taken"}]`,
			Carries: len("all berths are taken"), Hangs: asks(b.hangs),
			Slow: b.asking(func(s *Settings) { s.Statement, s.Timeout = b.hangs, plan.Span(limit) }), Limit: limit,
			Failures: failures, Elsewhere: elsewhere, LeftBehind: func() int { return b.underWay(t) },
		})
	})
}

// underWay counts statements that a server is still at. One that was told to end is given the time to do so.
func (b base) underWay(t *testing.T) (n int) {
	text := map[string]string{
		database.Postgres: "select count(*) as n from pg_stat_activity " +
			"where state = 'active' and query like 'select pg_sleep%'",
		database.MySQL: "select count(*) as n from information_schema.processlist where info like 'select sleep%'",
	}[b.scheme]
	if text == "" {
		return 0
	}
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		if n = b.count(t, text); n == 0 {
			break
		}
	}
	return n
}

// count is what a statement calls n.
func (b base) count(t *testing.T, text string) int {
	t.Helper()
	var rows []struct{ N int }
	read(t, shoot(t, open1(t, b.asking(func(s *Settings) { s.Statement = text }))), &rows)
	return rows[0].N
}

// read takes the rows of a shot in view.
func read(t *testing.T, shot shots.Shot, into any) {
	t.Helper()
	if err := json.Unmarshal(shot.View.Body, into); err != nil {
		t.Fatalf("%v: %s", err, shot.View.Body)
	}
}

// The same board asked in every way is the same answer, and what each way takes is counted.
func TestWaysToAskTheSame(t *testing.T) {
	const columns = "c.id, c.berth, c.vessel, v.name from calls c join vessels v on v.id = c.vessel " +
		"where c.berth = {{berth}}"
	eachBase(t, func(t *testing.T, b base) {
		path := table(t, "berth", "7", "8")
		ways := map[string]struct {
			change func(*Settings)
			counts [4]int64 // statements, rows, rows changed, pages
			parts  []string
		}{
			"joined": {func(s *Settings) { s.Statement = "select " + columns + " order by c.id" },
				[4]int64{1, 25}, []string{"connect", "prepare", "first row", "all rows"}},
			"not prepared": {func(s *Settings) { s.Statement, s.Prepared = "select "+columns+" order by c.id", false },
				[4]int64{1, 25}, []string{"connect", "first row", "all rows"}},
			"row by row": {func(s *Settings) {
				s.Statement = "select id, berth, vessel from calls where berth = {{berth}} order by id"
				s.Each = "select name from vessels where id = {{vessel}}"
			}, [4]int64{26, 50}, []string{"connect", "prepare", "first row", "all rows", "for each row"}},
			"in pages": {func(s *Settings) {
				s.Statement = "select " + columns + " and c.id > {{after.id}} order by c.id limit 10"
				s.Pages = &Pages{Of: 10, First: map[string]plan.Word{"id": "-1"}}
			}, [4]int64{3, 25, 0, 3}, []string{"connect", "prepare", "first row", "all rows"}},
			"by offset": {func(s *Settings) {
				s.Statement = "select " + columns + " order by c.id limit 10 offset {{offset}}"
				s.Pages = &Pages{Of: 10}
			}, [4]int64{3, 25, 0, 3}, []string{"connect", "prepare", "first row", "all rows"}},
			"in a transaction": {func(s *Settings) { s.Statement, s.Transaction = "select "+columns+" order by c.id", true },
				[4]int64{1, 25}, []string{"connect", "prepare", "first row", "all rows", "commit"}},
			"from a pool": {func(s *Settings) { s.Statement, s.Connections = "select "+columns+" order by c.id", 2 },
				[4]int64{1, 25}, []string{"for a connection", "connect", "prepare", "first row", "all rows"}},
		}
		var want []map[string]any
		for _, name := range slices.Sorted(maps.Keys(ways)) {
			way := ways[name]
			shot := shoot(t, open1(t, b.asking(func(s *Settings) { s.Rows = path; way.change(s) })))
			var got []map[string]any
			read(t, shot, &got)
			if want == nil {
				want = got
			}
			if len(got) != 25 || !reflect.DeepEqual(got, want) {
				t.Errorf("%s: %d rows, the first %v; want %v", name, len(got), got[0], want[0])
			}
			if shot.View.Outcome != "25 rows" {
				t.Errorf("%s: outcome %q", name, shot.View.Outcome)
			}
			if counts := [4]int64(shot.Amounts[:4]); counts != way.counts {
				t.Errorf("%s: counts %v, want %v", name, counts, way.counts)
			}
			partsAddUp(t, name, &shot, way.parts)
		}
		if want[0]["id"] != 7.0 || want[0]["name"] != "Vessel 49" {
			t.Errorf("the first row is %v", want[0])
		}
	})
}

// partsAddUp wants just these parts, which make up the latency.
func partsAddUp(t *testing.T, name string, shot *shots.Shot, want []string) {
	t.Helper()
	var sum time.Duration
	var got []string
	for i, part := range shape.Parts {
		if shot.PartsTaken()&(1<<i) != 0 {
			got, sum = append(got, part), sum+shot.Parts[i]
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s: parts %v, want %v", name, got, want)
	}
	if off := shot.Latency() - sum; off < 0 || off > max(shot.Latency()/100, 50*time.Microsecond) {
		t.Errorf("%s: parts make %s of %s", name, sum, shot.Latency())
	}
}

// What was asked for each row stands with the row, also where there is nothing.
func TestEachKeepsRowsWithoutAny(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		shot := shoot(t, open1(t, b.asking(func(s *Settings) {
			s.Statement = "select id, vessel from calls where id < 2 order by id"
			s.Each = "select name from vessels where id = {{vessel}} and id < 5"
		})))
		if got := string(shot.View.Body); got != `[{"id":0,"vessel":0,"name":"Vessel 0"},{"id":1,"vessel":7,"name":null}]` {
			t.Error(got)
		}
	})
}

// Values come as what they are, and those without one as null.
func TestValuesAreWhatTheyAre(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		for _, prepared := range []bool{true, false} {
			shot := shoot(t, open1(t, b.asking(func(s *Settings) {
				s.Statement, s.Prepared = "select id, note, length, 'a\"b' as q from calls c join (select id as v, length "+
					"from "+
					"vessels) w on w.v = c.vessel where id in (3, 4) order by id", prepared
			})))
			want := `[{"id":3,"note":null,"length":61.5,"q":"a\"b"},{"id":4,"note":"call 4","length":68.5,"q":"a\"b"}]`
			if got := string(shot.View.Body); got != want {
				t.Errorf("prepared %v: %s", prepared, got)
			}
		}
	})
}

// Parameters are bound: a value that looks like SQL is a value.
func TestParametersAreBound(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		path := table(t, "name,n", "' or 1 = 1 --,5", "Vessel 7,5")
		for _, prepared := range []bool{true, false} {
			d := open1(t, b.asking(func(s *Settings) {
				s.Statement, s.Rows, s.Prepared = "select id from vessels where name = {{name}} and id > {{n}}", path, prepared
			}))
			c := d.Client(0, 1)
			for i, want := range []string{"[]", `[{"id":7}]`, "[]"} {
				shot := shots.Shot{View: &shots.View{}}
				c.Shoot(t.Context(), &shot)
				if shot.Class != shots.OK || string(shot.View.Body) != want {
					t.Errorf("prepared %v, shot %d: %s %v, %s", prepared, i, shot.Class, shot.Err, shot.View.Body)
				}
			}
			c.Close()
		}
	})
}

// What changes data is refused by the database where the plan does not say that it may, whatever it begins with.
func TestChangesAreRefused(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		hidden := "insert into journal values (1, 'x')"
		if b.scheme == database.Postgres {
			hidden = "with n as (insert into journal values (1, 'x') returning id) select id from n"
		}
		c := open1(t, b.asking(func(s *Settings) { s.Statement = hidden })).Client(0, 1)
		defer c.Close()
		shot := shots.Shot{View: &shots.View{}}
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.Statement || contender.HintOf(shot.Err) != database.TryChanges {
			t.Errorf("%s, %v; try %q", shot.Class, shot.Err, contender.HintOf(shot.Err))
		}
		var left []any
		look := b.asking(func(s *Settings) { s.Statement = "select id from journal where id = 1" })
		read(t, shoot(t, open1(t, look)), &left)
		if len(left) > 0 {
			t.Error("it was written all the same")
		}
	})
}

func TestChangesAreCounted(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		for _, transaction := range []bool{false, true} {
			shot := shoot(t, open1(t, b.asking(func(s *Settings) {
				s.Statement, s.Writes, s.Transaction = "", true, transaction
				s.Statements = []string{
					"insert into journal values (11, 'a'), (12, 'b')", "update journal set what = 'c' where id > 10",
					"delete from journal where id > 10",
				}
			})))
			if shot.View.Outcome != "6 rows changed" || shot.Amounts[rowsChanged] != 6 || shot.Amounts[statements] != 3 {
				t.Errorf("transaction %v: %s, %v", transaction, shot.View.Outcome, shot.Amounts[:4])
			}
		}
	})
}

// A transaction that fails is rolled back, and the connection is good for the next shot.
func TestFailedTransactionsAreRolledBack(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		b.do(t, "delete from journal")
		path := table(t, "id", "21", "21", "22")
		d := open1(t, b.asking(func(s *Settings) {
			s.Rows, s.Transaction, s.Writes, s.Statement = path, true, true, ""
			s.Statements = []string{
				"insert into journal values ({{id}} + 100, 'first')", "insert into journal values ({{id}}, 'second')",
			}
		}))
		c := d.Client(0, 1)
		defer c.Close()
		var classes []shots.Class
		var opened int64
		for range 3 {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			classes, opened = append(classes, shot.Class), opened+shot.Amounts[connections]
		}
		if want := []shots.Class{shots.OK, shots.Statement, shots.OK}; !slices.Equal(classes, want) || opened != 1 {
			t.Errorf("%v over %d connections", classes, opened)
		}
		var rows []struct{ ID int }
		read(t, shoot(t, open1(t, b.asking(func(s *Settings) { s.Statement = "select id from journal order by id" }))),
			&rows)
		if fmt.Sprint(rows) != "[{21} {22} {121} {122}]" {
			t.Errorf("left in the journal: %v", rows)
		}
		b.do(t, "delete from journal")
	})
}

// A transaction that a statement opens and leaves open is told, and is none for the next shot.
func TestTransactionsLeftOpen(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		opening := map[string]string{database.MySQL: "set autocommit = 0"}[b.scheme]
		if opening == "" {
			opening = "begin"
		}
		d := open1(t, b.asking(func(s *Settings) {
			s.Statement, s.Prepared = "", false
			s.Statements = []string{opening, "select count(*) as n from calls"}
		}))
		c := d.Client(0, 1)
		defer c.Close()
		shot := shots.Shot{View: &shots.View{}}
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.Statement || !strings.Contains(fmt.Sprint(shot.Err), "left a transaction open") {
			t.Errorf("%s: %v", shot.Class, shot.Err)
		}
	})
}

// The place of a mistake is shown.
func TestMistakesHaveTheirPlace(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		c := open1(t, b.asking(func(s *Settings) {
			s.Statement = "select id,\n       name\n  frum vessels v where v.id = 1"
		})).Client(0, 1)
		defer c.Close()
		shot := shots.Shot{View: &shots.View{}}
		c.Shoot(t.Context(), &shot)
		var placed *database.PlacedError
		if !errors.As(shot.Err, &placed) || placed.Line != 3 || !strings.Contains(placed.Shows, "frum vessels") {
			t.Errorf("%s: %v", shot.Class, shot.Err)
		}
	})
}

// A result without an end is given up, at the database, too.
func TestEndlessResults(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		c := open1(t, b.asking(func(s *Settings) {
			s.Statement, s.MaxResult = fmt.Sprintf(b.rows, 10_000_000), 1<<20
		})).Client(0, 1)
		defer c.Close()
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.Length || shot.Received > 16<<20 {
			t.Errorf("%s %v, %d bytes received", shot.Class, shot.Err, shot.Received)
		}
		shot = shots.Shot{}
		c.Shoot(t.Context(), &shot)
		if shot.Class != shots.Length || shot.Amounts[connections] != 1 {
			t.Errorf("the next shot: %s %v over %d new connections", shot.Class, shot.Err, shot.Amounts[connections])
		}
	})
}

// Of rows that are wanted no more is read.
func TestReadsToALimit(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		d := open1(t, b.asking(func(s *Settings) { s.Statement, s.Read = "select id from calls order by id", 30 }))
		c := d.Client(0, 1)
		defer c.Close()
		for range 2 {
			var shot shots.Shot
			c.Shoot(t.Context(), &shot)
			if shot.Class != shots.OK || shot.Amounts[rowsRead] != 30 {
				t.Errorf("%s %v, %d rows", shot.Class, shot.Err, shot.Amounts[rowsRead])
			}
			if whole := int64(1000 * 8); b.scheme == database.Postgres && shot.Received > whole/4 {
				t.Errorf("%d bytes came", shot.Received)
			}
		}
	})
}

// A pool opens as many connections as it has places, however many clients there are; a new one each is one a shot.
func TestConnections(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		const clients, fired = 5, 8
		for how, want := range map[plan.Connections]int64{plan.Kept: clients, plan.Fresh: clients * fired, 2: 2} {
			d := open1(t, b.asking(func(s *Settings) { s.Connections = how }))
			var wg sync.WaitGroup
			var mu sync.Mutex
			opened, failed := int64(0), 0
			all := make([]contender.Client, clients)
			for i := range all {
				all[i] = d.Client(i, clients)
			}
			for _, c := range all {
				wg.Go(func() {
					for range fired {
						var shot shots.Shot
						c.Shoot(t.Context(), &shot)
						mu.Lock()
						opened += shot.Amounts[connections]
						if shot.Class != shots.OK {
							failed++
						}
						mu.Unlock()
					}
				})
			}
			wg.Wait()
			for _, c := range all {
				c.Close()
			}
			if opened > want || how != 2 && opened != want || opened == 0 || failed > 0 {
				t.Errorf("%v: %d connections were opened, want %d; %d shots failed", how, opened, want, failed)
			}
		}
	})
}

// A pool opens no more than are wanted at once.
func TestPoolsOpenWhatIsWanted(t *testing.T) {
	b := sqliteBase(t)
	c := open1(t, b.asking(func(s *Settings) { s.Connections = 5 })).Client(0, 1)
	defer c.Close()
	for i := range 10 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if opened := shot.Amounts[connections]; shot.Class != shots.OK || (i == 0) != (opened == 1) {
			t.Errorf("shot %d: %s, %d opened", i, shot.Class, opened)
		}
	}
}

// A shot that gets no connection of the pool in its time says so.
func TestPoolsThatAreTakenUp(t *testing.T) {
	b := sqliteBase(t)
	d := open1(t, b.asking(func(s *Settings) { s.Connections, s.Timeout = 1, plan.Span(20*time.Millisecond) }))
	taken, _, err := d.(embedded).pool.get(t.Context(), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	c := d.Client(0, 1)
	defer c.Close()
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if shot.Class != shots.Timeout || !strings.Contains(fmt.Sprint(shot.Err), "no connection of the pool was free") {
		t.Errorf("%s: %v", shot.Class, shot.Err)
	}
	d.(embedded).pool.put(taken)
	var next shots.Shot
	if c.Shoot(t.Context(), &next); next.Class != shots.OK {
		t.Errorf("with one free: %s: %v", next.Class, next.Err)
	}
}

// A connection that could not be opened is none.
func TestFailedConnections(t *testing.T) {
	b := sqliteBase(t)
	d := open1(t, b.asking(func(s *Settings) { s.At = "sqlite:nowhere.db" }))
	c := d.Client(0, 1)
	defer c.Close()
	var shot shots.Shot
	if c.Shoot(t.Context(), &shot); shot.Class != shots.NoStart || shot.Amounts[connections] != 0 {
		t.Errorf("%s: %v, %d connections", shot.Class, shot.Err, shot.Amounts[connections])
	}
}

// What is said to each new connection is part of connecting.
func TestSessions(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		said := map[string][2]string{
			database.SQLite:   {"pragma cache_size = 77", "select cache_size as s from pragma_cache_size"},
			database.Postgres: {"set work_mem = '77MB'", "select current_setting('work_mem') as s"},
			database.MySQL:    {"set session sort_buffer_size = 77777", "select @@sort_buffer_size as s"},
		}[b.scheme]
		shot := shoot(t, open1(t, b.asking(func(s *Settings) {
			s.Session, s.Statement, s.Connections = plan.Lines{said[0]}, said[1], plan.Fresh
		})))
		if !strings.Contains(string(shot.View.Body), "77") {
			t.Errorf("%s", shot.View.Body)
		}
	})
}

// breaking ends the connections of all but the one who asks.
func (b base) breaking(t *testing.T, where string) {
	t.Helper()
	shoot(t, open1(t, b.asking(func(s *Settings) {
		s.Statement = "select count(pg_terminate_backend(pid)) as n from pg_stat_activity " +
			"where application_name = 'paceduel' and pid <> pg_backend_pid() and " + where
	})))
}

// A connection that the server has closed meanwhile is replaced before anything is sent over it.
func TestClosedConnectionsAreReplaced(t *testing.T) {
	b := postgresBase(t)
	c := open1(t, b.asking(nil)).Client(0, 1)
	defer c.Close()
	for i := range 3 {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		if again := int64(min(i, 1)); shot.Class != shots.OK || i < 2 && shot.Amounts[replaced] != again {
			t.Errorf("shot %d: %s %v, %d replaced", i, shot.Class, shot.Err, shot.Amounts[replaced])
		}
		if i == 0 {
			b.breaking(t, "true")
			time.Sleep(2 * fresh) // what was used just now is not looked at
		}
	}
}

// One that breaks in the midst of a shot fails it, and the next is good.
func TestConnectionsThatBreak(t *testing.T) {
	b := postgresBase(t)
	path := table(t, "s", "60", "0")
	settings := b.asking(func(s *Settings) { s.Statement, s.Rows = "select pg_sleep({{s}}) as broken", path })
	c := open1(t, settings).Client(0, 1)
	defer c.Close()
	done := make(chan shots.Shot)
	go func() {
		var shot shots.Shot
		c.Shoot(t.Context(), &shot)
		done <- shot
	}()
	for b.count(t, "select count(*) as n from pg_stat_activity where query like '%as broken' and state = 'active'") != 1 {
		time.Sleep(time.Millisecond)
	}
	b.breaking(t, "query like '%as broken'")
	if shot := <-done; shot.Class != shots.Reset {
		t.Errorf("%s: %v", shot.Class, shot.Err)
	}
	var shot shots.Shot
	if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
		t.Errorf("the next shot: %s %v", shot.Class, shot.Err)
	}
}

// The database's account of a heat has just what the heat's shots did.
func TestAccountIsOfTheHeatAlone(t *testing.T) {
	const text = "select c.id, v.name from calls c join vessels v on v.id = c.vessel where c.berth = 7"
	eachBase(t, func(t *testing.T, b base) {
		heat := func(n int) map[string]int64 {
			d := open1(t, b.asking(func(s *Settings) { s.Statement = text })).(contender.Accounted)
			if err := d.BeginAccount(t.Context()); err != nil {
				t.Fatal(err)
			}
			c := d.(contender.Driver).Client(0, 1)
			for range n {
				var shot shots.Shot
				if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
					t.Fatal(shot.Err)
				}
			}
			c.Close()
			counts, err := d.EndAccount(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			return counts
		}
		heat(10) // what is done once for all
		few, many := heat(20), heat(60)
		exact := map[string][]string{
			database.SQLite: {database.Steps, database.BlocksHit}, database.MySQL: {database.KeyReads, database.NextReads},
			database.Postgres: {database.BlocksHit, database.Sent},
		}[b.scheme]
		for _, name := range exact {
			// Connecting and preparing look at a few things, too, and are in both once.
			if one := float64(many[name]-few[name]) / 40; few[name] == 0 || one < 5 || one != float64(int64(one)) {
				t.Errorf("%s: %d in 20 shots, %d in 60", name, few[name], many[name])
			}
		}
		if b.server != nil && (few[database.Performed] != 20 || many[database.Performed] != 60) {
			t.Errorf("the server counted %d statements in 20 shots, %d in 60", few[database.Performed],
				many[database.Performed])
		}
		if none := heat(0); b.scheme != database.Postgres && none[exact[0]] != 0 {
			t.Errorf("%s: %d in no shot", exact[0], none[exact[0]])
		}
	})
}

// fired is what shots of a client were told to be: statements, rows and bytes.
type fired [3]int64

// fire performs so many shots, which have to succeed.
func fire(t *testing.T, c contender.Client, n int) (all fired) {
	t.Helper()
	for range n {
		var shot shots.Shot
		if c.Shoot(t.Context(), &shot); shot.Class != shots.OK {
			t.Fatal(shot.Err)
		}
		for i, more := range []int64{shot.Amounts[statements], shot.Amounts[rowsRead], shot.Received} {
			all[i] += more
		}
	}
	return all
}

// rowByRow asks for calls, and for the vessel of each.
func rowByRow(s *Settings) {
	s.Statement = "select id, vessel from calls where berth = 11 and id >= 0"
	s.Each = "select name from vessels where id = {{vessel}}"
}

// Statements and rows are those that the server counted.
func TestCountsArePostgreSQLs(t *testing.T) {
	b := postgresBase(t)
	counted := func() (calls, rows int64) {
		var r []struct{ Calls, Rows int64 }
		read(t, shoot(t, open1(t, b.asking(func(s *Settings) {
			s.Statement = "select coalesce(sum(calls), 0)::int as calls, coalesce(sum(rows), 0)::int as rows " +
				"from pg_stat_statements where query like 'select id, vessel from calls where berth = $1 and id >=%' " +
				"or query = 'select name from vessels where id = $1'"
		}))), &r)
		return r[0].Calls, r[0].Rows
	}
	calls, rows := counted()
	c := open1(t, b.asking(rowByRow)).Client(0, 1)
	defer c.Close()
	all := fire(t, c, 40)
	callsAfter, rowsAfter := counted()
	if callsAfter-calls != all[0] || rowsAfter-rows != all[1] || all[0] != 40*26 {
		t.Errorf("%d statements and %d rows; the server counted %d and %d", all[0], all[1], callsAfter-calls,
			rowsAfter-rows)
	}
}

// Statements, rows and bytes are those that the server counted of the connection.
func TestCountsAreMariaDBs(t *testing.T) {
	b := mariaBase(t)
	names := []string{"Com_select", "Rows_sent", "Bytes_sent"}
	c := open1(t, b.asking(func(s *Settings) { rowByRow(s); s.Prepared = false })).Client(0, 1).(*client)
	defer c.Close()
	fire(t, c, 1)
	status := func() (out fired, bytes int64) { // over the client's own connection
		_, before := c.own.Traffic()
		r := statusReader{values: map[string]int64{}}
		if err := c.own.Query(&database.Statement{Number: -1, Text: "show session status"}, nil, &r); err != nil {
			t.Fatal(err)
		}
		_, after := c.own.Traffic()
		c.own.received = after
		for i, name := range names {
			out[i] = r.values[name]
		}
		return out, after - before
	}
	before, own := status()
	all := fire(t, c, 40)
	after, _ := status()
	before[2] += own // of the answer that told it
	for i, name := range names {
		if got := after[i] - before[i]; got != all[i] {
			t.Errorf("%s: the server counted %d, we %d", name, got, all[i])
		}
	}
}

type statusReader struct{ values map[string]int64 }

func (r *statusReader) Columns([]database.Column) {}
func (r *statusReader) Changed(int64)             {}

func (r *statusReader) Row(v []database.Value) bool {
	r.values[string(v[0].Bytes)] = database.Whole(v[1].AppendText(nil))
	return true
}

// How a statement is carried out is told, and is another way once there is an index.
func TestQueryPlans(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		b.do(t, "create table tides (id int primary key, hour int, height int)")
		defer b.do(t, "drop table tides")
		var rows []string
		for i := range 3000 {
			rows = append(rows, fmt.Sprintf("(%d, %d, %d)", i, i, i%7))
		}
		b.do(t, "insert into tides values "+strings.Join(rows, ", "))
		path := table(t, "hour", "11")
		d := open1(t, b.asking(func(s *Settings) {
			s.Statement, s.Rows = "select height from tides where hour = {{hour}}", path
		}))
		view := shoot(t, d).View
		if view.QueryPlan == "" || view.QueryShape == "" || len(view.Notes) > 0 {
			t.Errorf("plan %q, %v", view.QueryPlan, view.Notes)
		}
		_, same, err := d.(contender.Explained).Explain(t.Context())
		if err != nil || same != view.QueryShape {
			t.Errorf("%v: %q, before %q", err, same, view.QueryShape)
		}
		b.do(t, "create index tides_hour on tides (hour)",
			map[string]string{database.MySQL: "analyze table tides"}[b.scheme]+
				map[bool]string{true: "analyze", false: ""}[b.scheme != database.MySQL])
		text, other, err := d.(contender.Explained).Explain(t.Context())
		if err != nil || other == same || !strings.Contains(text, "tides_hour") {
			t.Errorf("%v: with an index %q", err, text)
		}
	})
}

// SQLite's own CPU time and memory are told apart from ours.
func TestLibraryIsWeighedApart(t *testing.T) {
	b := sqliteBase(t)
	d := open1(t, b.asking(func(s *Settings) { s.Statement = fmt.Sprintf("select count(*) from ("+b.rows+")", 60_000) }))
	e := d.(contender.Embedded)
	before := e.Used()
	shot := shoot(t, d)
	used := e.Used() - before
	if used < shot.Latency()/4 || used > 2*shot.Latency()+50*time.Millisecond {
		t.Errorf("%s of CPU in a shot of %s", used, shot.Latency())
	}
	if e.Held() < 1000 {
		t.Errorf("it held %d bytes", e.Held())
	}
	if after := e.Held(); after != 0 {
		t.Errorf("it holds %d bytes with no connection open", after)
	}
	if _, ok := contender.Driver(&driver{}).(contender.Embedded); ok {
		t.Error("a server is no library")
	}
}

// Somebody who waits for a lock is let go at once.
func TestLocksDoNotHoldUp(t *testing.T) {
	b := sqliteBase(t)
	holder := open1(t, b.asking(func(s *Settings) { s.Statement, s.Writes = "delete from journal", true }))
	c := holder.Client(0, 1).(*client)
	defer c.Close()
	var shot shots.Shot
	c.Shoot(t.Context(), &shot)
	if err := c.own.Query(&database.Statement{Number: -1, Text: "begin exclusive"}, nil, &reader{}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	waiting := open1(t, b.asking(nil)).Client(0, 1)
	defer waiting.Close()
	waiting.(*client).d.settings.Statement = "select count(*) from calls"
	done := make(chan shots.Shot)
	go func() {
		var shot shots.Shot
		other := open1(t, b.asking(func(s *Settings) { s.Statement = "select count(*) from calls" })).Client(0, 1)
		defer other.Close()
		other.Shoot(ctx, &shot)
		done <- shot
	}()
	time.Sleep(30 * time.Millisecond) // it may be cut before it waits, which must look the same
	cancel()
	if shot := <-done; shot.Class != shots.Cut {
		t.Errorf("%s: %v", shot.Class, shot.Err)
	}
	if err := c.own.Rollback(); err != nil {
		t.Error(err)
	}
}

// Of an answer that is too long to be kept a part is, and that there was more is known.
func TestLongAnswersAreKeptInPart(t *testing.T) {
	b := sqliteBase(t)
	c := open1(t, b.asking(func(s *Settings) { s.Statement = fmt.Sprintf(b.rows, 50_000) })).Client(0, 1)
	defer c.Close()
	shot := shots.Shot{View: &shots.View{Limit: 4000}}
	c.Shoot(t.Context(), &shot)
	v, held := shot.View, cap(c.(*client).work.rows.values)
	if shot.Class != shots.OK || v.Outcome != "50 000 rows" || len(v.Body) > v.Limit || v.Bytes <= int64(len(v.Body)) ||
		held > 1000 {
		t.Errorf("%s, %d of %d bytes kept, room for %d values", v.Outcome, len(v.Body), v.Bytes, held)
	}
}

// A server gives up by itself what takes longer than anybody waits, should we be killed meanwhile.
func TestServersKnowTheLimit(t *testing.T) {
	eachBase(t, func(t *testing.T, b base) {
		text := map[string]string{
			database.Postgres: "select current_setting('statement_timeout') as s",
			database.MySQL:    "select @@max_statement_time as s",
		}[b.scheme]
		if text == "" {
			t.Skip("a library ends with us")
		}
		shot := shoot(t, open1(t, b.asking(func(s *Settings) { s.Statement, s.Timeout = text, plan.Span(6*time.Second) })))
		if body := string(shot.View.Body); !strings.Contains(body, "7s") && !strings.Contains(body, ":7") {
			t.Error(body)
		}
	})
}

// bare notes what values of the rows that come have bytes, which are good until the next row.
type bare struct {
	reader
	texts []bool
}

func (b *bare) Row(row []database.Value) bool {
	for i := range row {
		b.texts = append(b.texts, row[i].Bytes != nil)
	}
	return true
}

// A column of SQLite may have values of several types: a number keeps nothing of the text that stood there before it.
func TestNumbersAfterTexts(t *testing.T) {
	conn, err := sqlite.New(t.TempDir(), ":memory:", false).Connect(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	seen := &bare{}
	for _, text := range []string{"select 'quay' as v union all select 7 union all select null", "select 1.5 as v"} {
		if err := conn.Query(&database.Statement{Number: -1, Text: text}, nil, seen); err != nil {
			t.Fatal(err)
		}
	}
	if want := []bool{true, false, false, false}; !slices.Equal(seen.texts, want) {
		t.Errorf("bytes: %v, want %v", seen.texts, want)
	}
}
