package store

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
)

// A backup is a zip file of two entries: what it is, and the rows as SQL. Its
// tables are made by migrating an empty database to the version it names.
const (
	manifestName = "backup.json"
	rowsName     = "rows.sql"
)

// Manifest says what a backup is.
type Manifest struct {
	Backup  int       `json:"wideknot_backup"` // 1
	Made    time.Time `json:"made"`
	Version int64     `json:"version"` // of the tables
}

// transient tables hold what is of no use later: who is signed in, or there.
var transient = []string{"sessions", "links", "failures", "presence"}

// Backup writes all that the database holds, as it is at one moment, while
// others go on working. Secrets in it stay sealed.
func Backup(ctx context.Context, dsn string, w io.Writer) error {
	s, err := Connect(ctx, dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	version, _, err := s.Version(ctx)
	if err != nil {
		return fmt.Errorf("reading the version of the tables: %w", err)
	}
	archive := zip.NewWriter(w)
	entry, err := archive.Create(manifestName)
	if err != nil {
		return err
	}
	if err := json.NewEncoder(entry).Encode(Manifest{1, time.Now().UTC(), version}); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	if entry, err = archive.Create(rowsName); err != nil {
		return err
	}
	arguments := []string{
		"--single-transaction", "--no-create-info", "--skip-triggers", "--complete-insert", "--skip-add-locks", "--skip-comments",
		"--hex-blob", "--no-tablespaces", "--max-allowed-packet=256M", "--default-character-set=utf8mb4",
	}
	name, err := databaseOf(dsn)
	if err != nil {
		return err
	}
	for _, table := range append([]string{"goose_db_version"}, transient...) {
		arguments = append(arguments, "--ignore-table="+name+"."+table)
	}
	if err := client(ctx, "mariadb-dump", dsn, nil, entry, append(arguments, name)...); err != nil {
		return fmt.Errorf("backing up: %w", err)
	}
	if err := archive.Close(); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	return nil
}

// ErrNotEmpty is returned for restoring over what is there.
var ErrNotEmpty = errors.New("the database is not empty")

// Restore loads a backup into an empty database, or with replace into one
// whose contents are lost, and migrates it to the present version.
func Restore(ctx context.Context, dsn string, from io.ReaderAt, size int64, replace bool) (Manifest, error) {
	var m Manifest
	archive, err := zip.NewReader(from, size)
	if err != nil {
		return m, fmt.Errorf("this is no backup, or a damaged one: %w", err)
	}
	entry, err := archive.Open(manifestName)
	if err != nil {
		return m, fmt.Errorf("this is no backup: %w", err)
	}
	defer entry.Close()
	if err := json.NewDecoder(entry).Decode(&m); err != nil || m.Backup != 1 {
		return m, fmt.Errorf("this is no backup that this program knows (%v)", err)
	}
	if err := intact(archive); err != nil {
		return m, err
	}
	s, err := Connect(ctx, dsn)
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
	if now > 0 {
		empty, err := s.empty(ctx)
		if err != nil {
			return m, err
		}
		if !empty && !replace {
			return m, ErrNotEmpty
		}
		if err := s.Migrate(ctx, 0); err != nil {
			return m, err
		}
	}
	if err := s.Migrate(ctx, m.Version); err != nil {
		return m, err
	}
	rows, err := archive.Open(rowsName)
	if err != nil {
		return m, err
	}
	defer rows.Close()
	name, err := databaseOf(dsn)
	if err != nil {
		return m, err
	}
	if err := client(ctx, "mariadb", dsn, rows, nil, "--max-allowed-packet=256M", "--default-character-set=utf8mb4", name); err != nil {
		return m, fmt.Errorf("restoring: %w; the database now holds a part of the backup, restore again with --replace", err)
	}
	return m, s.Migrate(ctx, Latest)
}

// intact reads a backup to its end before anything is done with it: the
// checksums tell whether it is whole.
func intact(archive *zip.Reader) error {
	rows, err := archive.Open(rowsName)
	if err != nil {
		return fmt.Errorf("the backup is not whole: %w", err)
	}
	defer rows.Close()
	if _, err := io.Copy(io.Discard, rows); err != nil {
		return fmt.Errorf("the backup is damaged: %w", err)
	}
	return nil
}

func (s *Store) empty(ctx context.Context) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).Model(&Estate{}).Count(&n).Error
	return n == 0, err
}

func databaseOf(dsn string) (string, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return "", fmt.Errorf("reading the database address: %w", err)
	}
	return config.DBName, nil
}

// client runs one of MariaDB's own programs. The password goes by a file that
// only this user can read, never by the command line.
func client(ctx context.Context, program, dsn string, in io.Reader, out io.Writer, arguments ...string) error {
	path, err := find(program)
	if err != nil {
		return err
	}
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return fmt.Errorf("reading the database address: %w", err)
	}
	folder, err := os.MkdirTemp("", "wideknot-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	options := []string{"[client]", "user=" + quoted(config.User), "password=" + quoted(config.Passwd)}
	if config.Net == "unix" {
		options = append(options, "socket="+quoted(config.Addr))
	} else {
		host, port, err := net.SplitHostPort(config.Addr)
		if err != nil {
			return fmt.Errorf("reading the database address: %w", err)
		}
		options = append(options, "host="+quoted(host), "port="+port, "protocol=tcp")
	}
	file := filepath.Join(folder, "client.cnf")
	if err := os.WriteFile(file, []byte(strings.Join(options, "\n")+"\n"), 0o600); err != nil {
		return err
	}
	command := exec.CommandContext(ctx, path, append([]string{"--defaults-file=" + file}, arguments...)...)
	var complaint strings.Builder
	command.Stdin, command.Stdout, command.Stderr = in, out, &complaint
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", program, err, strings.TrimSpace(complaint.String()))
	}
	return nil
}

func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
