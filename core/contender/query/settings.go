// Package query drives statements on a real database: PostgreSQL, MySQL, MariaDB or SQLite.
//
// A shot is all that its contender does for one row of parameters: a statement or several in order, in one transaction
// or none; then, where the plan says so, one more statement for each row that came; or the same statement page by page.
// Its time runs from the moment a connection is asked for to the last byte of the last row. Rows are read and counted,
// not unpacked into anything of a program's. Parameters are bound, never written into a statement.
//
// SQLite is a library and runs within our own process: its CPU time and memory are counted apart from ours.
package query

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"paceduel/core/contender/query/database"
	"paceduel/core/guard"
	"paceduel/core/plan"
	"paceduel/core/rows"
	"paceduel/core/shots"
)

// Settings are the keys under query: in a plan.
type Settings struct {
	At          plan.Address     `json:"at,omitempty" jsonschema_description:"the database: sqlite:FILE, postgres://USER@HOST:PORT/NAME or mysql://USER@HOST:PORT/NAME (MariaDB, too); ${PORT} is that of its service"`
	Password    plan.Secret      `json:"password,omitempty" jsonschema_description:"of the user, from the environment: ${NAME}"`
	Statement   string           `json:"statement,omitempty" jsonschema:"minLength=1" jsonschema_description:"what is asked, in the database's own SQL; {{column}} is a parameter, taken from rows"`
	Statements  []string         `json:"statements,omitempty" jsonschema:"minItems=1" jsonschema_description:"several instead, performed in order"`
	Each        string           `json:"each,omitempty" jsonschema_description:"then, for each row that came, this one: {{column}} is that row's value"`
	Pages       *Pages           `json:"pages,omitempty" jsonschema_description:"the statement is performed page by page, until one is not full"`
	Mix         *rows.Mix        `json:"mix,omitempty" jsonschema_description:"which sort of question each row is, by a column: each has figures of its own, as p99 of ping"`
	Rows        string           `json:"rows,omitempty" jsonschema_description:"a CSV file with a header line, whose rows are used in turn"`
	Prepared    bool             `json:"prepared,omitempty" jsonschema_description:"prepared once for each connection; true unless said"`
	Transaction bool             `json:"transaction,omitempty" jsonschema_description:"a shot is one transaction, committed at its end"`
	Connections plan.Connections `json:"connections,omitempty" jsonschema_description:"kept for each client, new for every shot, or a number: a pool of so many that all clients share; kept unless said"`
	Session     plan.Lines       `json:"session,omitempty" jsonschema_description:"statements for each new connection, as set work_mem = '64MB'; part of connecting"`
	Read        int              `json:"read,omitempty" jsonschema:"minimum=1,maximum=100000000" jsonschema_description:"so many rows of the statement are read and no more; all unless said"`
	Writes      bool             `json:"writes,omitempty" jsonschema_description:"statements may change data"`
	Timeout     plan.Span        `json:"timeout,omitempty" jsonschema_description:"given up after this long; 10s unless said"`
	MaxResult   plan.Bytes       `json:"max-result,omitempty" jsonschema_description:"rows of more bytes than this are a failure; 64MiB unless said"`
}

// Pages is how a statement goes from page to page.
type Pages struct {
	Of    int                  `json:"of" jsonschema:"required,minimum=1,maximum=1000000" jsonschema_description:"rows of a full page"`
	First map[string]plan.Word `json:"first,omitempty" jsonschema_description:"where it begins, by column: the values of {{after.COLUMN}} for the first page; later ones are those of the last row that came. {{offset}} is how many rows came before"`
	Most  int                  `json:"most,omitempty" jsonschema:"minimum=1,maximum=100000" jsonschema_description:"so many pages are read and no more; all unless said"`
}

// Limits and defaults.
const (
	defaultTimeout   = 10 * time.Second
	defaultMaxResult = 64 << 20
	maxStatements    = 50
	maxPages         = 100_000
)

// New returns settings with their defaults.
func New() plan.Settings {
	return &Settings{Prepared: true, Timeout: plan.Span(defaultTimeout), MaxResult: defaultMaxResult}
}

// pretend fills in a port and a folder while there is no service.
func pretend(text string) string {
	return strings.NewReplacer(plan.PortMark, "1", plan.DataMark, "/data").Replace(text)
}

// address is where the database is; fill puts in what is known of the contender's service.
func (s *Settings) address(fill func(string) string) (database.Address, error) {
	a, err := database.ParseAddress(fill(string(s.At)))
	if s.Password != "" {
		a.Password = string(s.Password)
	}
	return a, err
}

// texts are the statements by the keys that they stand at.
func (s *Settings) texts() (keys, texts []string) {
	if s.Statement != "" {
		keys, texts = append(keys, "statement"), append(texts, s.Statement)
	}
	for i, text := range s.Statements {
		keys, texts = append(keys, fmt.Sprintf("statements[%d]", i)), append(texts, text)
	}
	if s.Each != "" {
		keys, texts = append(keys, "each"), append(texts, s.Each)
	}
	return keys, texts
}

// Check reads every statement's parameters, so that what cannot be filled in is found before anything is asked.
func (s *Settings) Check(in plan.Surroundings) (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	if s.At == "" {
		fault("", "set at: sqlite:FILE, postgres://… or mysql://…", "nothing says which database is asked")
		return faults
	}
	a, err := s.address(pretend)
	switch {
	case err != nil:
		fault("at", "", "%s", err)
		return faults
	case a.Host != "" && guard.New(in.Allow).Check(a.Host) != nil:
		fault("at", guard.Try(a.Host), "%s is not this machine", a.Host)
	case a.Scheme == database.SQLite && s.Password != "":
		fault("password", "leave it out", "SQLite knows no passwords")
	}
	faults = append(faults, s.checkShape()...)
	if s.Timeout == 0 {
		fault("timeout", "set a positive time", "a limit of no time at all")
	}
	if len(faults) > 0 {
		return faults
	}
	table, _, err := s.readRows(in.Dir)
	if f := s.Mix.Fault(err, s.Rows); f != nil {
		return append(faults, *f)
	}
	keys, texts := s.texts()
	for i, text := range texts {
		if f := s.checkText(keys[i], text); f != nil {
			faults = append(faults, *f)
			continue
		}
		var unknown rows.Unknown
		_, err := s.parse(keys[i], text, a.Scheme, table)
		switch {
		case errors.As(err, &unknown):
			fault(keys[i], unknown.Try(), "no column is called %q", unknown.Name)
		case err != nil:
			fault(keys[i], "", "%s", err)
		}
	}
	return faults
}

// checkShape looks at which keys go together.
func (s *Settings) checkShape() (faults []plan.Fault) {
	fault := func(key, try, what string, args ...any) {
		faults = append(faults, plan.Fault{Key: key, What: fmt.Sprintf(what, args...), Try: try})
	}
	switch {
	case s.Statement == "" && len(s.Statements) == 0:
		fault("", "set statement:, or statements: for several", "nothing says what is asked")
	case s.Statement != "" && len(s.Statements) > 0:
		fault("statements", "keep one of them", "both statement and statements are set")
	case len(s.Statements) > maxStatements:
		fault("statements", "", "%d statements are more than %d", len(s.Statements), maxStatements)
	}
	if p := s.Pages; p != nil {
		switch {
		case s.Statement == "":
			fault("pages", "set statement:", "one statement is performed page by page")
		case s.Each != "" || s.Read > 0:
			fault("pages", "leave each and read out", "pages are read whole and by themselves")
		case !strings.Contains(s.Statement, afterMark) && !strings.Contains(s.Statement, offsetMark):
			fault("pages", "add where key > {{after.key}}, or offset {{offset}}", "every page would be the same")
		}
	}
	return faults
}

// changing are the first words of statements that change data; control are those of transactions.
var (
	changing = strings.Fields("insert update delete merge replace create drop alter truncate grant revoke copy load " +
		"call vacuum reindex cluster analyze attach detach lock import rename optimize repair")
	control = strings.Fields("begin start commit rollback end savepoint release abort")
)

// checkText looks at a statement by its first word. A database that is told to allow no changes sees the rest.
func (s *Settings) checkText(key, text string) *plan.Fault {
	word := database.FirstWord(text)
	switch {
	case word == "":
		return &plan.Fault{Key: key, What: "there is no statement in it"}
	case slices.Contains(control, word):
		return &plan.Fault{
			Key: key, What: fmt.Sprintf("%s is for us to say, so that none is left open", word),
			Try: "leave it out, set transaction: true",
		}
	case slices.Contains(changing, word) && !s.Writes:
		return &plan.Fault{Key: key, What: word + " changes data", Try: database.TryChanges}
	}
	return nil
}

// readRows reads the rows, as they are dealt.
func (s *Settings) readRows(dir string) (t rows.Table, sorts shots.Sorts, err error) {
	t = rows.None()
	if s.Rows != "" {
		t, err = rows.Open(plan.Resolve(dir, s.Rows))
	}
	if err != nil {
		return t, sorts, err
	}
	return s.Mix.Deal(t)
}

// Summary is what is asked, and what is special about it.
func (s *Settings) Summary() string {
	_, texts := s.texts()
	if s.Each != "" {
		texts = texts[:len(texts)-1]
	}
	for i := range texts {
		texts[i] = strings.Join(strings.Fields(texts[i]), " ")
	}
	text := strings.Join(texts, "; ")
	if s.Each != "" {
		text += "; for each row " + strings.Join(strings.Fields(s.Each), " ")
	}
	if s.Pages != nil {
		text += fmt.Sprintf(", in pages of %d", s.Pages.Of)
	}
	if s.Read > 0 {
		text += fmt.Sprintf(", %d rows read", s.Read)
	}
	if !s.Prepared {
		text += ", not prepared"
	}
	if s.Transaction {
		text += ", in a transaction"
	}
	switch {
	case s.Connections == plan.Fresh:
		text += ", a new connection each"
	case s.Connections > 0:
		text += fmt.Sprintf(", a pool of %d", int(s.Connections))
	}
	if len(s.Session) > 0 {
		text += " with " + strings.Join(s.Session, "; ")
	}
	where := "a database"
	if a, err := s.address(pretend); err == nil {
		if strings.Contains(string(s.At), plan.PortMark) {
			a.Port = plan.PortMark
		}
		if strings.Contains(string(s.At), plan.DataMark) {
			a.Socket = strings.ReplaceAll(a.Socket, "/data", plan.DataMark)
			a.File = strings.ReplaceAll(a.File, "/data", plan.DataMark)
		}
		where = a.String()
	}
	return text + on + where
}

// on stands between what is asked and the database.
const on = " on "
