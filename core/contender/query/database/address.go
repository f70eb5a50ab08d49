package database

import (
	"fmt"
	"net/url"
	"strings"
)

// Address says where a database is: one of PostgreSQL, MySQL or MariaDB by URL, one of SQLite by its file.
type Address struct {
	Scheme         string // SQLite, Postgres or MySQL
	File           string // of SQLite; relative to where the contender stands
	Host, Port     string // of the others; Host is empty with a Socket
	Socket         string // the folder of PostgreSQL's socket, or MySQL's socket itself; empty over TCP
	User, Password string
	Name           string     // of the database
	Options        url.Values // what else the URL says
}

// The schemes. mariadb and postgresql are read as well.
const (
	SQLite   = "sqlite"
	Postgres = "postgres"
	MySQL    = "mysql"
)

var defaultPorts = map[string]string{Postgres: "5432", MySQL: "3306"}

// socketOption is the key of a URL that names a socket instead of a host.
const socketOption = "socket"

// Schemes are the beginnings that addresses may have.
var Schemes = []string{"sqlite:", "postgres://", "postgresql://", "mysql://", "mariadb://"}

// ParseAddress reads an address. The error names nothing of it that may be secret.
func ParseAddress(text string) (a Address, err error) {
	wrong := fmt.Errorf("it is no address of a database, write it as sqlite:FILE, postgres://USER@HOST:PORT/NAME or " +
		"mysql://USER@HOST:PORT/NAME")
	scheme, rest, ok := strings.Cut(text, ":")
	if !ok {
		return a, wrong
	}
	switch a.Scheme = strings.ToLower(scheme); a.Scheme {
	case SQLite:
		a.File = strings.TrimPrefix(rest, "//")
		if a.File == "" {
			return a, wrong
		}
		return a, nil
	case "postgresql":
		a.Scheme = Postgres
	case "mariadb":
		a.Scheme = MySQL
	case Postgres, MySQL:
	default:
		return a, wrong
	}
	if !strings.HasPrefix(rest, "//") {
		return a, wrong
	}
	u, err := url.Parse(a.Scheme + ":" + rest)
	if err != nil {
		return a, fmt.Errorf("it cannot be read: a sign like @, / or # in a user or password is written as %%40, %%2F, %%23")
	}
	a.Host, a.Port, a.Name, a.Options = u.Hostname(), u.Port(), strings.TrimPrefix(u.Path, "/"), u.Query()
	if a.Port == "" {
		a.Port = defaultPorts[a.Scheme]
	}
	if u.User != nil {
		a.User = u.User.Username()
		a.Password, _ = u.User.Password()
	}
	a.Socket = a.Options.Get(socketOption)
	a.Options.Del(socketOption)
	if (a.Host == "") == (a.Socket == "") {
		return a, fmt.Errorf("it names no host: write one, or the socket as ?socket=PATH")
	}
	return a, nil
}

// String is the address without anything secret.
func (a Address) String() string {
	switch {
	case a.Scheme == SQLite:
		return SQLite + ":" + a.File
	case a.Socket != "" && a.Scheme == Postgres:
		return a.Scheme + "://" + a.Socket + "/.s.PGSQL." + a.Port + "/" + a.Name // as the server calls it
	case a.Socket != "":
		return a.Scheme + "://" + a.Socket + "/" + a.Name
	}
	return a.Scheme + "://" + a.Host + ":" + a.Port + "/" + a.Name
}
