package store

import (
	"archive/zip"
	"bufio"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
)

// A backup is a zip file: what it is, then one entry a table with its rows as
// lines of JSON, the first of them the names of its columns, and at the end an
// authenticator over all that comes before. It holds data alone: what a restore
// does with it is said by this program, not by the file.
const (
	manifestName  = "backup.json"
	tableEnd      = ".jsonl"
	signatureName = "authenticator"
	backupFormat  = 2
)

// Manifest says what a backup is.
type Manifest struct {
	Backup  int       `json:"wideknot_backup"`
	Made    time.Time `json:"made"`
	Version int64     `json:"version"` // of the tables
}

// kept are the tables that a backup holds, each after those it refers to. Who is
// signed in, or there, and who failed to sign in, is of no use later.
var (
	kept      = []string{"estates", "drafts", "parts", "edits", "releases", "site_keys", "estate_secrets", "accounts", "members", "tokens", "audit", "authority", "join_codes", "gateways", "rollouts", "rollout_notes", "events", "listeners", "windows", "benches", "drills", "drill_points"}
	transient = []string{"sessions", "links", "failures", "presence", "gateway_lines", "servers", "asks", "troubles", "event_leases", "messages", "sample_layouts", "samples_10s", "samples_1m", "samples_15m"}
)

// An Authenticator makes the codes that tell a backup of ours from any other
// file: the first for what is written now, each of them for what is read.
type Authenticator func() []hash.Hash

// column is one of a table; binary values are written in base64.
type column struct {
	name   string
	binary bool
}

func (t *table) names() []string {
	out := make([]string, len(t.columns))
	for i, c := range t.columns {
		out[i] = c.name
	}
	return out
}

type table struct {
	name    string
	columns []column
}

// form reads which columns a table has.
func form(ctx context.Context, q queryer, database, name string) (*table, error) {
	rows, err := q.QueryContext(ctx, "SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = ? AND table_name = ? ORDER BY ordinal_position", database, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	t := &table{name: name}
	for rows.Next() {
		var c column
		var kind string
		if err := rows.Scan(&c.name, &kind); err != nil {
			return nil, err
		}
		c.binary = slices.Contains([]string{"binary", "varbinary", "blob", "longblob"}, kind)
		t.columns = append(t.columns, c)
	}
	return t, rows.Err()
}

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// plainPool connects without reading times and numbers: what is in a column goes
// into a backup, and back, as text.
func plainPool(dsn string) (*sql.DB, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("reading the database address: %w", err)
	}
	config.ParseTime, config.MultiStatements, config.MaxAllowedPacket = false, false, 0
	return sql.Open("mysql", config.FormatDSN())
}

// dsnOf names another database of the same server.
func dsnOf(dsn, database string) (string, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return "", fmt.Errorf("reading the database address: %w", err)
	}
	config.DBName = database
	return config.FormatDSN(), nil
}

func databaseOf(dsn string) (string, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return "", fmt.Errorf("reading the database address: %w", err)
	}
	return config.DBName, nil
}

// Backup writes all that the database holds, as it is at one moment, while
// others go on working. Secrets in it stay sealed.
// Long because what it opens it closes by defer.
func Backup(ctx context.Context, dsn string, sign Authenticator, w io.Writer) error {
	s, err := Connect(ctx, dsn)
	if err != nil {
		return err
	}
	version, latest, err := s.Version(ctx)
	s.Close()
	switch {
	case err != nil:
		return fmt.Errorf("reading the version of the tables: %w", err)
	case version == 0:
		return fmt.Errorf("%w: nothing was ever stored in it", ErrNoDatabase)
	case version > latest:
		return fmt.Errorf("the tables are of version %d, newer than this program knows (%d)", version, latest)
	}
	database, err := databaseOf(dsn)
	if err != nil {
		return err
	}
	pool, err := plainPool(dsn)
	if err != nil {
		return err
	}
	defer pool.Close()
	tx, err := pool.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback() // it changed nothing
	archive := zip.NewWriter(w)
	code := sign()[0]
	// Each entry goes into the code by its name and its hash.
	entry := func(name string, write func(io.Writer) error) error {
		e, err := archive.Create(name)
		if err != nil {
			return err
		}
		sum := sha256.New()
		err = write(io.MultiWriter(e, sum))
		fmt.Fprintf(code, "%q %x\n", name, sum.Sum(nil))
		return err
	}
	err = entry(manifestName, func(w io.Writer) error {
		return json.NewEncoder(w).Encode(Manifest{backupFormat, time.Now().UTC(), version})
	})
	if err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	for _, name := range kept {
		t, err := form(ctx, tx, database, name)
		if err != nil {
			return fmt.Errorf("reading the form of %s: %w", name, err)
		}
		if len(t.columns) == 0 {
			continue // a table of a later version
		}
		if err := entry(name+tableEnd, func(w io.Writer) error { return t.write(ctx, tx, w) }); err != nil {
			return fmt.Errorf("backing up %s: %w", name, err)
		}
	}
	signature, err := archive.Create(signatureName)
	if err == nil {
		_, err = signature.Write(code.Sum(nil))
	}
	if err := errors.Join(err, archive.Close()); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	return nil
}

// write writes a table's rows as lines of JSON.
func (t *table) write(ctx context.Context, q queryer, w io.Writer) error {
	lines := bufio.NewWriter(w)
	encoder := json.NewEncoder(lines)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(t.names()); err != nil {
		return err
	}
	rows, err := q.QueryContext(ctx, "SELECT "+t.list()+" FROM "+quotedName(t.name))
	if err != nil {
		return err
	}
	defer rows.Close()
	raw, into, line := make([]sql.RawBytes, len(t.columns)), make([]any, len(t.columns)), make([]any, len(t.columns))
	for i := range raw {
		into[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, value := range raw {
			switch {
			case value == nil:
				line[i] = nil
			case t.columns[i].binary:
				line[i] = []byte(value) // JSON has it in base64
			default:
				line[i] = string(value)
			}
		}
		if err := encoder.Encode(line); err != nil {
			return err
		}
	}
	return errors.Join(rows.Err(), lines.Flush())
}

// list names the columns in a statement.
func (t *table) list() string {
	out := ""
	for i, c := range t.columns {
		if i > 0 {
			out += ", "
		}
		out += quotedName(c.name)
	}
	return out
}

// genuine reads a backup to its end before anything is done with it, and says
// whether it is whole and was made under one of our keys.
func genuine(archive *zip.Reader, sign Authenticator) error {
	codes := sign()
	var signature []byte
	seen := map[string]bool{}
	for i, f := range archive.File {
		r, err := f.Open()
		if err != nil {
			return fmt.Errorf("the backup is damaged: %w", err)
		}
		if seen[f.Name] {
			r.Close()
			return fmt.Errorf("the backup has two entries %q", f.Name)
		}
		seen[f.Name] = true
		if f.Name == signatureName && i == len(archive.File)-1 {
			signature, err = io.ReadAll(io.LimitReader(r, 1024))
		} else {
			sum := sha256.New()
			_, err = io.Copy(sum, r)
			for _, code := range codes {
				fmt.Fprintf(code, "%q %x\n", f.Name, sum.Sum(nil))
			}
		}
		r.Close()
		if err != nil {
			return fmt.Errorf("the backup is damaged: %w", err)
		}
	}
	for _, code := range codes {
		if hmac.Equal(code.Sum(nil), signature) {
			return nil
		}
	}
	return ErrForeign
}

// ErrForeign is returned for a backup that was made under another master key, or
// by something else, or was changed since.
var ErrForeign = errors.New("the backup was not made with this master key, or was changed since")
