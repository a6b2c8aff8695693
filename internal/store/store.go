// Package store keeps estates, their edits and their sealed keys in MariaDB.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	gormmysql "gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for what is not there.
var ErrNotFound = errors.New("not found")

// A Store is an open database. It is safe for concurrent use.
type Store struct{ db *gorm.DB }

// Open connects to the database that dsn names, waiting for it up to ten
// seconds, and brings its tables to the present version.
func Open(ctx context.Context, dsn string) (*Store, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("reading the database address: %w", err)
	}
	config.ParseTime = true
	config.Loc = time.UTC
	config.MultiStatements = false
	config.MaxAllowedPacket = 0 // as much as the server takes
	_ = mysql.SetLogger(quiet{})
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
	pool.SetMaxOpenConns(16)
	pool.SetConnMaxLifetime(5 * time.Minute)
	if err := waitFor(ctx, pool, 10*time.Second); err != nil {
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	if err := migrate(ctx, pool); err != nil {
		return nil, fmt.Errorf("migrating the database: %w", err)
	}
	return &Store{db: db}, nil
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

func migrate(ctx context.Context, pool *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectMySQL, pool, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close ends all connections.
func (s *Store) Close() error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// InTransaction runs f in one transaction, which is rolled back when f fails.
// A transaction that lost a deadlock is tried again.
func (s *Store) InTransaction(ctx context.Context, f func(tx *Tx) error) error {
	const tries = 5
	var err error
	for range tries {
		err = s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error { return f(&Tx{db}) })
		var my *mysql.MySQLError
		if !errors.As(err, &my) || my.Number != 1213 && my.Number != 1205 {
			return err
		}
	}
	return err
}
