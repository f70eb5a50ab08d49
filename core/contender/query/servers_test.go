package query

import (
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"paceduel/core/contender/query/database"
	"paceduel/core/keeper"
	"paceduel/core/plan"
)

// server is a real database server on a fresh folder, started for these tests and ended after them.
type server struct {
	kind    string // as tests are called by
	scheme  string
	dir     string
	port    string
	cmd     *exec.Cmd
	missing string // why there is none
}

// The servers, each started when a test first wants it.
var (
	postgresServer = sync.OnceValue(func() *server { return started(startPostgres) })
	mariaServer    = sync.OnceValue(func() *server { return started(startMaria) })

	mu      sync.Mutex
	running []*server
)

func TestMain(m *testing.M) {
	keeper.Run()
	code := m.Run()
	for _, s := range running {
		s.end()
	}
	os.Exit(code)
}

func started(start func(*server) error) *server {
	s := &server{}
	dir, err := os.MkdirTemp("", "paceduel-test-")
	if err == nil {
		s.dir = filepath.Join(dir, "data")
		err = os.Chmod(dir, 0o711)
	}
	if err == nil {
		err = start(s)
	}
	if err != nil {
		s.missing = err.Error()
		return s
	}
	mu.Lock()
	defer mu.Unlock()
	running = append(running, s)
	return s
}

// said is what its programs printed.
func (s *server) said() string {
	text, _ := os.ReadFile(filepath.Join(filepath.Dir(s.dir), "said"))
	return string(text)
}

func (s *server) end() {
	if s.cmd != nil && s.cmd.Process != nil {
		end := syscall.SIGTERM
		if s.scheme == database.Postgres {
			end = syscall.SIGINT // at TERM it waits for its clients
		}
		s.cmd.Process.Signal(end)
		kill := time.AfterFunc(20*time.Second, func() { syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL) })
		s.cmd.Wait()
		kill.Stop()
	}
	os.RemoveAll(filepath.Dir(s.dir))
}

// program finds one by its name, on PATH or where Debian keeps those of servers.
func program(name string) (string, error) {
	if path, err := exec.LookPath(name); err == nil {
		return path, nil
	}
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	found = append(found, "/usr/sbin/"+name)
	slices.Reverse(found) // the newest
	for _, path := range found {
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("LEFT OUT: %s is not installed here", name)
}

// as makes a command run as a user of this machine where we are root, since servers refuse to be.
func (s *server) as(name string, cmd *exec.Cmd) error {
	said, err := os.OpenFile(filepath.Join(filepath.Dir(s.dir), "said"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	cmd.Stdout, cmd.Stderr = said, said // a file: nobody waits for those who hold on to it
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Dir = "/"
	if os.Geteuid() != 0 {
		return os.MkdirAll(s.dir, 0o700)
	}
	u, err := user.Lookup(name)
	if err != nil {
		return fmt.Errorf("LEFT OUT: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	return os.Chown(s.dir, uid, gid)
}

func (s *server) run(as string, argv ...string) error {
	cmd := exec.Command(argv[0], argv[1:]...)
	if err := s.as(as, cmd); err != nil {
		return err
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", argv[0], err, s.said())
	}
	return nil
}

// serve starts the server itself and waits until it says that it is ready: its port accepts before.
func (s *server) serve(as, ready string, argv ...string) error {
	s.cmd = exec.Command(argv[0], argv[1:]...)
	if err := s.as(as, s.cmd); err != nil {
		return err
	}
	if err := s.cmd.Start(); err != nil {
		return err
	}
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if strings.Contains(s.said(), ready) {
			return nil
		}
	}
	s.end()
	return fmt.Errorf("%s did not start: %s", argv[0], s.said())
}

func startPostgres(s *server) error {
	s.kind, s.scheme, s.port = "PostgreSQL", database.Postgres, freePort()
	initdb, err1 := program("initdb")
	postgres, err2 := program("postgres")
	if err1 != nil || err2 != nil {
		return fmt.Errorf("%w", firstOf(err1, err2))
	}
	if err := s.run("postgres", initdb, "-D", s.dir, "-A", "scram-sha-256", "-U", "harbour", "--no-sync",
		"--pwfile", writtenFile(s.dir, testPassword)); err != nil {
		return err
	}
	return s.serve("postgres", "database system is ready to accept connections", postgres, "-D", s.dir, "-p", s.port,
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+s.dir,
		"-c", "shared_preload_libraries=pg_stat_statements", "-c", "fsync=off")
}

func startMaria(s *server) error {
	s.kind, s.scheme, s.port = "MariaDB", database.MySQL, freePort()
	install, err1 := program("mariadb-install-db")
	maria, err2 := program("mariadbd")
	if err1 != nil || err2 != nil {
		return fmt.Errorf("%w", firstOf(err1, err2))
	}
	if err := s.run("mysql", install, "--no-defaults", "--datadir="+s.dir, "--skip-test-db",
		"--auth-root-authentication-method=normal"); err != nil {
		return err
	}
	first := writtenFile(s.dir, "create database harbour;\ncreate user harbour@'127.0.0.1' identified by '"+testPassword+
		"';\ngrant all on *.* to harbour@'127.0.0.1';\n")
	return s.serve("mysql", "ready for connections", maria, "--no-defaults", "--datadir="+s.dir, "--port="+s.port,
		"--bind-address=127.0.0.1", "--socket="+filepath.Join(s.dir, "s"), "--skip-name-resolve", "--init-file="+first)
}

const testPassword = "quay-7-sekret"

// writtenFile is a file beside a folder that anybody may read.
func writtenFile(dir, text string) string {
	path := filepath.Join(filepath.Dir(dir), "first")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		panic(err)
	}
	return path
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

func freePort() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// base is a database with the tables of the tests in it, of each kind that there is here.
type base struct {
	kind   string
	scheme string
	at     plan.Address
	// hangs is a statement that takes very long; rows brings as many rows as it says.
	hangs, rows string
	server      *server // nil: a library
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
		kind: s.kind, scheme: s.scheme, at: plan.Address("postgres://harbour@127.0.0.1:" + s.port + "/postgres"),
		hangs: "select pg_sleep(60)", rows: "select i from generate_series(1, %d) i", server: s,
	}
	if s.missing != "" {
		t.Skip(s.missing)
	}
	fillPostgres.Do(func() {
		b.do(t, append(fillingStatements(), "create extension pg_stat_statements", "analyze")...)
	})
	return b
}

func mariaBase(t testing.TB) base {
	s := mariaServer()
	b := base{
		kind: s.kind, scheme: s.scheme, at: plan.Address("mysql://harbour@127.0.0.1:" + s.port + "/harbour"),
		hangs: "select sleep(60)", rows: "select seq as i from seq_1_to_%d", server: s,
	}
	if s.missing != "" {
		t.Skip(s.missing)
	}
	fillMaria.Do(func() { b.do(t, append(fillingStatements(), "analyze table vessels, calls")...) })
	return b
}

// asking are settings that ask the base something.
func (b base) asking(change func(*Settings)) *Settings {
	s := New().(*Settings)
	s.At, s.Statement, s.Timeout = b.at, "select 1 as one", plan.Span(20*time.Second)
	if b.server != nil {
		s.Password = testPassword
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
