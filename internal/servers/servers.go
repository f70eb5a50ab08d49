// Package servers starts real database servers for tests, on fresh folders and ports of this machine. Whoever starts
// one ends it.
package servers

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Server is a real database server on a fresh folder, started for these tests and ended after them.
type Server struct {
	Kind    string // as tests are called by
	dir     string
	Port    string
	cmd     *exec.Cmd
	stop    syscall.Signal
	Missing string // why there is none; empty: it runs
}

// Postgres starts a PostgreSQL server with a database postgres, and Maria one of MariaDB with a database harbour. Where
// they are not installed the server says what is missing.
func Postgres() *Server { return started(startPostgres) }

// Maria is Postgres for MariaDB.
func Maria() *Server { return started(startMaria) }

func started(start func(*Server) error) *Server {
	s := &Server{}
	dir, err := os.MkdirTemp("", "paceduel-test-")
	if err == nil {
		s.dir = filepath.Join(dir, "data")
		err = os.Chmod(dir, 0o711)
	}
	if err == nil {
		err = start(s)
	}
	if err != nil {
		s.Missing = err.Error()
		return s
	}
	return s
}

// said is what its programs printed.
func (s *Server) said() string {
	text, _ := os.ReadFile(filepath.Join(filepath.Dir(s.dir), "said"))
	return string(text)
}

// End ends it, and removes what it kept.
func (s *Server) End() {
	if s.cmd != nil && s.cmd.Process != nil {
		s.cmd.Process.Signal(s.stop)
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
func (s *Server) as(name string, cmd *exec.Cmd) error {
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

func (s *Server) run(as string, argv ...string) error {
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
func (s *Server) serve(as, ready string, argv ...string) error {
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
	s.End()
	return fmt.Errorf("%s did not start: %s", argv[0], s.said())
}

func startPostgres(s *Server) error {
	s.Kind, s.Port, s.stop = "PostgreSQL", FreePort(), syscall.SIGINT // at TERM it waits for its clients
	initdb, err1 := program("initdb")
	postgres, err2 := program("postgres")
	if err1 != nil || err2 != nil {
		return fmt.Errorf("%w", firstOf(err1, err2))
	}
	if err := s.run("postgres", initdb, "-D", s.dir, "-A", "scram-sha-256", "-U", "harbour", "--no-sync",
		"--pwfile", writtenFile(s.dir, Password)); err != nil {
		return err
	}
	return s.serve("postgres", "database system is ready to accept connections", postgres, "-D", s.dir, "-p", s.Port,
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories="+s.dir,
		"-c", "shared_preload_libraries=pg_stat_statements", "-c", "fsync=off")
}

func startMaria(s *Server) error {
	s.Kind, s.Port, s.stop = "MariaDB", FreePort(), syscall.SIGTERM
	install, err1 := program("mariadb-install-db")
	maria, err2 := program("mariadbd")
	if err1 != nil || err2 != nil {
		return fmt.Errorf("%w", firstOf(err1, err2))
	}
	if err := s.run("mysql", install, "--no-defaults", "--datadir="+s.dir, "--skip-test-db",
		"--auth-root-authentication-method=normal"); err != nil {
		return err
	}
	first := writtenFile(s.dir, "create database harbour;\ncreate user harbour@'127.0.0.1' identified by '"+Password+
		"';\ngrant all on *.* to harbour@'127.0.0.1';\n")
	return s.serve("mysql", "ready for connections", maria, "--no-defaults", "--datadir="+s.dir, "--port="+s.Port,
		"--bind-address=127.0.0.1", "--socket="+filepath.Join(s.dir, "s"), "--skip-name-resolve", "--init-file="+first)
}

// Password is that of the user harbour of each server.
const Password = "quay-7-sekret"

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

// FreePort is a port of this machine that nobody listens on.
func FreePort() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}
