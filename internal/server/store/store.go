// Package store keeps estates, their edits and their sealed keys in MariaDB.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("it is there already") // another request made it at the same time
)

// A Store is an open database. It is safe for concurrent use.
type Store struct {
	db    *gorm.DB
	reads *gorm.DB // snapshots: connections of their own, so that they do not wait for edits
}

// Connect connects to the database that dsn names, waiting for it up to ten
// seconds.
func Connect(ctx context.Context, dsn string) (*Store, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("reading the database address: %w", err)
	}
	config.ParseTime = true
	config.Loc = time.UTC
	config.MultiStatements = false
	config.MaxAllowedPacket = 0 // as much as the server takes
	_ = mysql.SetLogger(quiet{})
	db, err := pooled(config, mostWrites)
	if err != nil {
		return nil, err
	}
	reads, err := pooled(config, mostReads)
	if err != nil {
		return nil, err
	}
	s := &Store{db, reads}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	if err := waitFor(ctx, pool, 10*time.Second); err != nil {
		s.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	return s, nil
}

// Connections of one process.
const (
	mostWrites = 12
	mostReads  = 12
)

func pooled(config *mysql.Config, most int) (*gorm.DB, error) {
	db, err := gorm.Open(gormmysql.New(gormmysql.Config{DSN: config.FormatDSN(), SkipInitializeWithVersion: true}), &gorm.Config{
		Logger:                 logger.Discard, // errors are returned and logged by callers, values never
		SkipDefaultTransaction: true,
		TranslateError:         true,
		DisableAutomaticPing:   true,
	})
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(most)
	pool.SetMaxIdleConns(most / 2)
	pool.SetConnMaxLifetime(5 * time.Minute)
	return db, nil
}

// quiet keeps the driver from printing; what fails is returned as an error.
type quiet struct{}

func (quiet) Print(v ...any) { slog.Debug("database driver", "message", fmt.Sprint(v...)) }

func waitFor(ctx context.Context, pool *sql.DB, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		err := pool.PingContext(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.PingContext(ctx)
}

// Close ends all connections.
func (s *Store) Close() error {
	var failed error
	for _, db := range []*gorm.DB{s.db, s.reads} {
		pool, err := db.DB()
		if err == nil {
			err = pool.Close()
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// Errors of the database's own state.
var (
	ErrAway = errors.New("the database does not answer at the moment; nothing was lost, try again")
	ErrFull = errors.New("the disk of the database is full, so nothing was saved; make room on it and try again")
)

// InTransaction runs f in one transaction, which is rolled back when f fails.
// A transaction that lost against another one, by deadlock, by waiting too long
// for a lock, or because a cluster could not put both in one order, is run
// again; so f must have no effects but on tx. While the database is away, the
// error is ErrAway: what was asked was not done, or (when it went away during
// the commit) was done wholly.
func (s *Store) InTransaction(ctx context.Context, f func(tx *Tx) error) error {
	const tries = 20
	var err error
	for i := range tries {
		err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(&Tx{db}) }, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
		if !lost(err) {
			break
		}
		lostTransactions.Add(1)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(rand.N(time.Millisecond << min(i+1, 7))): // so that the two do not meet again
		}
	}
	return told(err)
}

// told names the errors that have a name of their own.
func told(err error) error {
	switch {
	case away(err):
		return fmt.Errorf("%w (%w)", ErrAway, err)
	case full(err):
		return fmt.Errorf("%w (%w)", ErrFull, err)
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return fmt.Errorf("%w (%w)", ErrExists, err)
	}
	return err
}

// full reports whether the database has no room left: 1021 and 1114 say so, 3, 14
// and 1026 when they carry the system's "no space left on device".
func full(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && (my.Number == 1021 || my.Number == 1114 ||
		(my.Number == 3 || my.Number == 14 || my.Number == 1026) && strings.Contains(my.Message, "28"))
}

// Snapshot runs f in one transaction that sees the database as it was at its
// start and changes nothing.
func (s *Store) Snapshot(ctx context.Context, f func(tx *Tx) error) error {
	err := s.reads.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(&Tx{db}) }, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	return told(err)
}

var lostTransactions atomic.Int64

// LostTransactions counts the transactions that were run again.
func LostTransactions() int64 { return lostTransactions.Load() }

// lost reports whether a transaction failed only because of another one: 1213
// is a deadlock (on Galera also a refused certification), 1205 a lock waited
// for too long, 1020 a row that changed since it was read.
func lost(err error) bool {
	var my *mysql.MySQLError
	return errors.As(err, &my) && (my.Number == 1213 || my.Number == 1205 || my.Number == 1020)
}

// away reports whether the database went away, or is not there: connection
// errors, 1053 (it shuts down), 1047 (a cluster node that is not in sync),
// 1040 (too many connections), 1317 and 1927 (it ended the query).
func away(err error) bool {
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		return slices.Contains([]uint16{1040, 1047, 1053, 1317, 1927}, my.Number)
	}
	var network *net.OpError
	return errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, sql.ErrConnDone) || errors.As(err, &network)
}

// Pool returns the connections, to be measured.
func (s *Store) Pool() (*sql.DB, error) { return s.db.DB() }
