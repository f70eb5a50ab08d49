package query

import (
	"slices"
	"testing"
	"time"

	"paceduel/core/contender/query/database"
	"paceduel/core/shots"
)

// BenchmarkTruth holds what a shot is told to take to what a statement takes that sleeps for 5 ms, by the server's own
// clock: told/server is their quotient, us-over what a shot takes more, which includes the way there and back, and
// us-for-nothing what a statement takes that does nothing. told/bare is against a bare loop over the same connection.
func BenchmarkTruth(b *testing.B) {
	for name, text := range map[string]string{
		"PostgreSQL": "select (extract(epoch from clock_timestamp() - statement_timestamp()) * 1e9)::int8 as ns " +
			"from pg_sleep(0.005)",
		"MariaDB": "select timestampdiff(microsecond, now(6), sysdate(6)) * 1000 as ns from (select sleep(0.005) as s) t " +
			"where s = 0",
	} {
		b.Run(name, func(b *testing.B) {
			at := bases[name](b)
			c := open1(b, at.asking(func(s *Settings) { s.Statement = text })).Client(0, 1).(*client)
			defer c.Close()
			var told, bare, server, there []time.Duration
			nothing := open1(b, at.asking(nil)).Client(0, 1)
			defer nothing.Close()
			for b.Loop() {
				for range 100 {
					shot := shots.Shot{}
					c.Shoot(b.Context(), &shot)
					if shot.Class != shots.OK {
						b.Fatal(shot.Err)
					}
					told = append(told, shot.Latency())
				}
				for range 100 {
					shot := shots.Shot{}
					nothing.Shoot(b.Context(), &shot)
					there = append(there, shot.Latency())
				}
				for range 100 {
					var r statusOf
					began := time.Now()
					if err := c.own.Query(&c.d.statements[0].Statement, nil, &r); err != nil {
						b.Fatal(err)
					}
					bare = append(bare, time.Since(began))
					server = append(server, time.Duration(r.n))
				}
			}
			slices.Sort(told)
			slices.Sort(server)
			slices.Sort(there)
			slices.Sort(bare)
			own50, server50 := told[len(told)/2], server[len(server)/2]
			b.ReportMetric(float64(own50)/float64(bare[len(bare)/2]), "told/bare")
			b.ReportMetric(float64(own50)/float64(server50), "told/server")
			b.ReportMetric(float64(own50-server50)/1000, "us-over")
			b.ReportMetric(float64(there[len(there)/2])/1000, "us-for-nothing")
			b.ReportMetric(float64(server50)/1e6, "server-ms")
		})
	}
}

// statusOf is the number in the first column of the last row.
type statusOf struct{ n int64 }

func (r *statusOf) Columns([]database.Column) {}
func (r *statusOf) Changed(int64)             {}

func (r *statusOf) Row(v []database.Value) bool {
	r.n = database.Whole(v[0].AppendText(nil))
	return true
}

// BenchmarkShot is what a shot costs on each database, and beside it the same statement asked in a bare loop.
func BenchmarkShot(b *testing.B) {
	for name, open := range bases {
		b.Run(name, func(b *testing.B) {
			at := open(b)
			c := open1(b, at.asking(func(s *Settings) {
				s.Statement = "select id, vessel from calls where berth = 7"
			})).Client(0, 1).(*client)
			defer c.Close()
			b.ReportAllocs()
			var shot, bare time.Duration
			var r statusOf
			for b.Loop() {
				began := time.Now()
				for range 200 {
					own := shots.Shot{}
					if c.Shoot(b.Context(), &own); own.Class != shots.OK {
						b.Fatal(own.Err)
					}
				}
				shot += time.Since(began)
				began = time.Now()
				st := &c.d.statements[0].Statement
				for range 200 {
					if err := c.own.Query(st, nil, &r); err != nil {
						b.Fatal(err)
					}
				}
				bare += time.Since(began)
			}
			b.ReportMetric(float64(shot)/float64(bare), "shot/bare")
		})
	}
}
