package store

import (
	"context"
	"embed"
	"fmt"
	"io/fs"

	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Latest stands for the newest version of the tables.
const Latest = -1

func (s *Store) migrator() (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectMySQL, pool, files)
}

// Migrate brings the tables to a version, up or down. Down loses what the
// older version has no place for.
func (s *Store) Migrate(ctx context.Context, version int64) error {
	m, err := s.migrator()
	if err != nil {
		return err
	}
	free, err := s.alone(ctx)
	if err != nil {
		return err
	}
	defer free()
	now, err := m.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("reading the version of the tables: %w", err)
	}
	sources := m.ListSources()
	latest := sources[len(sources)-1].Version
	if version == Latest {
		version = latest
	}
	switch {
	case now > latest:
		return fmt.Errorf("the tables are of version %d, which is newer than this program knows (%d); run the newer program, or migrate down with it", now, latest)
	case version < 0 || version > latest:
		return fmt.Errorf("there is no version %d of the tables; this program knows 0 to %d", version, latest)
	case version > now:
		_, err = m.UpTo(ctx, version)
	case version < now:
		_, err = m.DownTo(ctx, version)
	}
	if err != nil {
		return fmt.Errorf("migrating the database from version %d to %d: %w", now, version, err)
	}
	return nil
}

// alone keeps other servers from migrating at the same time.
func (s *Store) alone(ctx context.Context) (free func(), err error) {
	pool, err := s.db.DB()
	if err != nil {
		return nil, err
	}
	c, err := pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	var got int
	if err := c.QueryRowContext(ctx, "SELECT GET_LOCK('wideknot migration', 60)").Scan(&got); err != nil || got != 1 {
		c.Close()
		return nil, fmt.Errorf("another server has been migrating the database for a minute (%w)", err)
	}
	return func() {
		_, _ = c.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK('wideknot migration')") // closing frees it too
		c.Close()
	}, nil
}

// Version returns the version of the tables, and the newest one known.
func (s *Store) Version(ctx context.Context) (now, latest int64, err error) {
	m, err := s.migrator()
	if err != nil {
		return 0, 0, err
	}
	sources := m.ListSources()
	now, err = m.GetDBVersion(ctx)
	return now, sources[len(sources)-1].Version, err
}
