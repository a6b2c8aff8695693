package store

import (
	"archive/zip"
	"bufio"
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ErrNotEmpty is returned for restoring over what is there.
var ErrNotEmpty = errors.New("the database is not empty")

// Restore loads a backup in the place of an empty database, or with replace of one
// whose contents are lost, and brings it to the present version. It is loaded
// beside, into a database named like it with _restore behind, and takes the place
// of what is there when it is whole, in one transaction: a backup that cannot be
// loaded changes nothing.
func Restore(ctx context.Context, a Access, sign Authenticator, from io.ReaderAt, size int64, replace bool) (Manifest, error) {
	m, archive, err := openBackup(from, size, sign)
	if err != nil {
		return m, err
	}
	s, err := Connect(ctx, a.Admin)
	if err != nil {
		return m, err
	}
	defer s.Close()
	now, latest, err := s.Version(ctx)
	if err != nil {
		return m, err
	}
	if m.Version > latest {
		return m, fmt.Errorf("the backup has tables of version %d, newer than this program knows (%d)", m.Version, latest)
	}
	if now > 0 && !replace {
		if empty, err := s.empty(ctx); err != nil {
			return m, err
		} else if !empty {
			return m, ErrNotEmpty
		}
	}
	if err := prepare(ctx, a); err != nil {
		return m, err
	}
	database, err := databaseOf(a.Admin)
	if err != nil {
		return m, err
	}
	beside := database + "_restore"
	if err := s.load(ctx, a.Admin, beside, m.Version, archive); err != nil {
		return m, fmt.Errorf("loading the backup: %w; nothing that was there is changed", err)
	}
	defer s.db.Exec("DROP DATABASE IF EXISTS " + quotedName(beside)) // the next restore would do it
	if err := s.swap(ctx, a.Admin, database, beside); err != nil {
		return m, fmt.Errorf("putting the backup in place: %w; nothing that was there is changed", err)
	}
	return m, nil
}

func openBackup(from io.ReaderAt, size int64, sign Authenticator) (m Manifest, archive *zip.Reader, err error) {
	if archive, err = zip.NewReader(from, size); err != nil {
		return m, nil, fmt.Errorf("this is no backup, or a damaged one: %w", err)
	}
	entry, err := archive.Open(manifestName)
	if err != nil {
		return m, nil, fmt.Errorf("this is no backup: %w", err)
	}
	defer entry.Close()
	if err := json.NewDecoder(io.LimitReader(entry, 1<<16)).Decode(&m); err != nil || m.Backup != backupFormat {
		return m, nil, fmt.Errorf("this is no backup of format %d, which this program reads; restore an older one with the version that made it, and back up again", backupFormat)
	}
	return m, archive, genuine(archive, sign)
}

// empty reports whether nobody has done anything yet.
func (s *Store) empty(ctx context.Context) (bool, error) {
	for _, name := range []string{"estates", "accounts", "audit"} {
		var n int64
		if err := s.db.WithContext(ctx).Table(name).Count(&n).Error; err != nil || n > 0 {
			return false, err
		}
	}
	return true, nil
}

// load makes a database of a backup's version, puts the rows in, and brings it to
// the present version.
func (s *Store) load(ctx context.Context, dsn, beside string, version int64, archive *zip.Reader) error {
	for _, statement := range []string{"DROP DATABASE IF EXISTS ", "CREATE DATABASE "} {
		if err := s.db.WithContext(ctx).Exec(statement + quotedName(beside)).Error; err != nil {
			return err
		}
	}
	dsn, err := dsnOf(dsn, beside)
	if err != nil {
		return err
	}
	pool, err := plainPool(dsn)
	if err != nil {
		return err
	}
	defer pool.Close()
	fresh, err := Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer fresh.Close()
	if err := fresh.Migrate(ctx, version); err != nil {
		return err
	}
	tx, err := pool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	for _, f := range archive.File {
		name, isTable := strings.CutSuffix(f.Name, tableEnd)
		if f.Name == manifestName || f.Name == signatureName {
			continue
		}
		if !isTable || !slices.Contains(kept, name) {
			return fmt.Errorf("the backup holds %q, which is none of our tables", f.Name)
		}
		if err := loadTable(ctx, tx, beside, name, f); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	return fresh.Migrate(ctx, Latest)
}

// A batch of rows has at most so many values and bytes, as statements have.
const (
	mostValues = 20_000
	mostBytes  = 16 << 20
)

func loadTable(ctx context.Context, tx *sql.Tx, database, name string, f *zip.File) error {
	t, err := form(ctx, tx, database, name)
	if err != nil {
		return err
	}
	entry, err := f.Open()
	if err != nil {
		return err
	}
	defer entry.Close()
	lines := json.NewDecoder(bufio.NewReader(entry))
	var names []string
	if err := lines.Decode(&names); err != nil {
		return fmt.Errorf("reading its columns: %w", err)
	}
	if !slices.Equal(names, t.names()) {
		return fmt.Errorf("it has the columns %q in the backup and %q in tables of that version", names, t.names())
	}
	var values []any
	bytes := 0
	flush := func() error {
		if len(values) == 0 {
			return nil
		}
		row := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ") + ")"
		_, err := tx.ExecContext(ctx, "INSERT INTO "+quotedName(name)+" ("+t.list()+") VALUES "+
			strings.TrimSuffix(strings.Repeat(row+", ", len(values)/len(names)), ", "), values...)
		values, bytes = values[:0], 0
		return err
	}
	for n := 1; lines.More(); n++ {
		var line []*string
		if err := lines.Decode(&line); err != nil || len(line) != len(names) {
			return fmt.Errorf("reading row %d: %w", n, cmpErr(err))
		}
		for i, value := range line {
			switch {
			case value == nil:
				values = append(values, nil)
			case t.columns[i].binary:
				raw, err := base64.StdEncoding.DecodeString(*value)
				if err != nil {
					return fmt.Errorf("reading row %d: %w", n, err)
				}
				values, bytes = append(values, raw), bytes+len(raw)
			default:
				values, bytes = append(values, *value), bytes+len(*value)
			}
		}
		if len(values)+len(names) > mostValues || bytes > mostBytes {
			if err := flush(); err != nil {
				return err
			}
		}
	}
	return flush()
}

func cmpErr(err error) error {
	if err == nil {
		return errors.New("it has another number of values")
	}
	return err
}

// swap puts what was loaded beside in the place of what is there.
func (s *Store) swap(ctx context.Context, dsn, database, beside string) error {
	pool, err := plainPool(dsn)
	if err != nil {
		return err
	}
	defer pool.Close()
	connection, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer connection.Close()
	if _, err := connection.ExecContext(ctx, "SET @wideknot_restores = 1"); err != nil { // the session ends with the pool
		return err
	}
	tx, err := connection.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after the commit
	for _, name := range slices.Backward(slices.Concat(kept, transient)) {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+quotedName(name)); err != nil {
			return fmt.Errorf("emptying %s: %w", name, err)
		}
	}
	for _, name := range kept {
		t, err := form(ctx, tx, database, name)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s.%s", quotedName(name), t.list(), t.list(), quotedName(beside), quotedName(name))); err != nil {
			return fmt.Errorf("filling %s: %w", name, err)
		}
	}
	return tx.Commit()
}
