package logbook

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"paceduel/core/guard"
)

// A logbook that a team shares is a schema of its own in a database of its PostgreSQL server.
const schema = "paceduel"

// IsAddress reports whether a logbook is named by the address of a server rather than by a file.
func IsAddress(name string) bool {
	return strings.HasPrefix(name, "postgres://") || strings.HasPrefix(name, "postgresql://")
}

// serverMigrations bring a schema from version i to i+1. Entries are never changed once released, only added.
var serverMigrations = []string{`CREATE TABLE runs (
		id        text PRIMARY KEY,
		started   bigint NOT NULL,  -- Unix nanoseconds
		name      text NOT NULL,
		file      text NOT NULL,    -- absolute path of the plan, or empty
		ending    text NOT NULL,
		planned   bigint NOT NULL,  -- heats
		heats     bigint NOT NULL DEFAULT 0,
		sentence  text NOT NULL DEFAULT '',
		lead      double precision, -- the leading ratio, NULL when there is none
		pid       bigint NOT NULL,  -- who is running it
		pid_born  bigint NOT NULL,  -- when that process started, in clock ticks since boot
		node      text NOT NULL,    -- which machine the process is on
		machine   text NOT NULL,
		called    text NOT NULL DEFAULT '',
		note      text NOT NULL DEFAULT '',
		tags      text NOT NULL DEFAULT ''     -- each between two spaces
	);
	CREATE INDEX runs_started ON runs (started);
	CREATE INDEX runs_name ON runs (name, started);
	CREATE TABLE documents (
		run  text PRIMARY KEY REFERENCES runs (id) ON DELETE CASCADE,
		body bytea NOT NULL         -- the result document without heats: JSON, zstd
	);
	CREATE TABLE heats (
		run  text NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
		seq  bigint NOT NULL,
		body bytea NOT NULL,        -- one heat of the result document, see body.go
		PRIMARY KEY (run, seq)
	);
	CREATE TABLE stands (
		run  text PRIMARY KEY REFERENCES runs (id) ON DELETE CASCADE,
		body text NOT NULL          -- what time lines are made of
	);`, inOrder, byFile}

// Limits of what is done on a server, so that one that went away does not hold up a run.
const (
	connectLimit = 5 * time.Second
	serverLimit  = 10 * time.Second
	// connections are kept to read lists while a run is written.
	connections = 3
)

// schemaLock is the number of the lock that our writers hold against each other.
const schemaLock = 0x70616365

// openServer opens the logbook at the address of a server, and makes its schema when there is none.
func openServer(address string) (*Book, error) {
	shown, err := withoutPassword(address)
	if err != nil {
		return nil, fmt.Errorf("open logbook on a server: %w", err)
	}
	b, err := connect(address, shown)
	if err != nil {
		return nil, fmt.Errorf("open logbook %s: %w", shown, withoutAddress(err))
	}
	return b, nil
}

// withoutPassword is an address as it may be shown.
func withoutPassword(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil { // the error repeats the address
		return "", errors.New("its address cannot be read; write it as postgres://user@host:5432/database")
	}
	if u.User != nil {
		u.User = url.User(u.User.Username())
	}
	q := u.Query()
	q.Del("password")
	u.RawQuery = q.Encode()
	return u.String(), nil
}

// withoutAddress is what went wrong, where the driver repeats whom it asked with all that it was told.
func withoutAddress(err error) error {
	var parse *pgconn.ParseConfigError
	if errors.As(err, &parse) {
		return errors.New("its address cannot be used; write it as postgres://user@host:5432/database, with sslmode, " +
			"sslrootcert and the like as PostgreSQL has them")
	}
	var refused *pgconn.PgError
	if errors.As(err, &refused) && (refused.Code == wrongPassword || refused.Code == notAllowed) {
		return fmt.Errorf("%w; name the user in its address and give the password in PGPASSWORD or ~/.pgpass", err)
	}
	return err
}

// What PostgreSQL answers to whom it does not let in.
const (
	wrongPassword = "28P01"
	notAllowed    = "28000"
)

func connect(address, shown string) (*Book, error) {
	config, err := pgx.ParseConfig(address)
	if err != nil {
		return nil, err
	}
	// Whoever names the logbook says that its server may be reached: it and nobody else.
	hosts := []string{config.Host}
	for _, f := range config.Fallbacks {
		hosts = append(hosts, f.Host)
	}
	config.DialFunc = guard.New(hosts).DialContext
	config.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	config.ConnectTimeout = connectLimit
	config.RuntimeParams["search_path"] = schema
	config.RuntimeParams["application_name"] = schema
	db := stdlib.OpenDB(*config)
	db.SetMaxOpenConns(connections)
	b := &Book{db: db, lists: db, path: shown, engine: engine{
		lock: fmt.Sprintf("SELECT pg_advisory_xact_lock(%d)", schemaLock), readers: connections, limit: serverLimit,
	}}
	if err = b.migrateServer(); err == nil {
		err = b.markCutOff()
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return b, nil
}

// migrateServer brings the schema to our version. Of several programs one does the work, and the others find it done.
func (b *Book) migrateServer() error {
	version, err := 0, error(nil)
	err = b.reading(func(w work) error { version, err = serverVersion(w); return err })
	if err != nil || version == len(serverMigrations) {
		return err
	}
	return b.writing(func(tx work) error {
		version, err := serverVersion(tx)
		if err != nil {
			return err
		}
		if version == 0 {
			if _, err := tx.Exec("CREATE SCHEMA IF NOT EXISTS " + schema + "; CREATE TABLE IF NOT EXISTS " + schema +
				".version (number bigint NOT NULL)"); err != nil {
				return err
			}
		}
		for ; version < len(serverMigrations); version++ {
			if _, err := tx.Exec(serverMigrations[version]); err != nil {
				return fmt.Errorf("bring it to version %d: %w", version+1, err)
			}
		}
		if _, err := tx.Exec("DELETE FROM version"); err != nil {
			return err
		}
		_, err = tx.Exec("INSERT INTO version (number) VALUES ($1)", len(serverMigrations))
		return err
	})
}

// serverVersion is 0 where there is no logbook yet.
func serverVersion(w work) (version int, err error) {
	// The tables themselves are asked: what a session remembers of names may be from before somebody else made them.
	var there int
	if err := w.QueryRow(`SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = 'version'`, schema).Scan(&there); err != nil || there == 0 {
		return 0, err
	}
	if err := w.QueryRow("SELECT coalesce(max(number), 0) FROM " + schema + ".version").Scan(&version); err != nil {
		return 0, err
	}
	if version > len(serverMigrations) {
		return 0, fmt.Errorf("it is of version %d, this program knows up to %d; use a newer program or another logbook",
			version, len(serverMigrations))
	}
	return version, nil
}
