// board.js: the berth board of Skerrow Harbour over HTTP, from a PostgreSQL that answers at $PGHOST.
//   GET /row-by-row?calls=N   the calls, then each call's vessel by itself
//   GET /at-once?calls=N      the same, all vessels asked for at once, over a pool
//   GET /joined?calls=N       one statement
const http = require('node:http')
const { Pool } = require('pg')

const pool = new Pool({ user: 'harbour', database: 'postgres', max: 8 })

const calls = async n =>
  (await pool.query('select id, vessel, cargo, tonnes from calls where id <= $1 order by id', [n])).rows
const vessel = async id => (await pool.query('select name, kind from vessels where id = $1', [id])).rows[0]

const ways = {
  '/row-by-row': async n => {
    const out = await calls(n)
    for (const c of out) Object.assign(c, await vessel(c.vessel))
    return out
  },
  '/at-once': async n => {
    const out = await calls(n)
    await Promise.all(out.map(async c => Object.assign(c, await vessel(c.vessel))))
    return out
  },
  '/joined': async n => (await pool.query(
    `select c.id, c.vessel, c.cargo, c.tonnes, v.name, v.kind from calls c join vessels v on v.id = c.vessel
     where c.id <= $1 order by c.id`, [n])).rows
}

const server = http.createServer(async (req, res) => {
  const url = new URL(req.url, 'http://harbour')
  const way = ways[url.pathname]
  try {
    const body = way ? JSON.stringify(await way(Number(url.searchParams.get('calls') ?? 10))) : 'no such board'
    res.writeHead(way ? 200 : 404, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(body) })
    res.end(body)
  } catch (err) {
    res.writeHead(500)
    res.end(String(err))
  }
})

const begin = async () => {
  for (;;) { // the database may still be starting
    try { await pool.query('select 1'); break } catch { await new Promise(r => setTimeout(r, 50)) }
  }
  server.listen(process.env.PORT, '127.0.0.1', () => console.log('board answers'))
}
process.on('SIGTERM', () => { server.close(); process.exit(0) })
begin()
