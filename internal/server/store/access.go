package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Access is how a database is reached. DSN is of the account that serves, which
// may do what serving takes and no more; Admin is of one that may make and change
// tables, used at the start and for restoring alone. It is empty where another
// process keeps the tables, and the same as DSN where there is but one account.
type Access struct{ DSN, Admin string }

// rights are what the account that serves may do, by table. It can change neither
// the audit nor what was released, and no table's form or triggers.
var rights = []struct{ table, may string }{
	{"goose_db_version", "SELECT"},
	{"estates", "SELECT, INSERT, UPDATE, DELETE"},
	{"drafts", "SELECT, INSERT, UPDATE"},
	{"parts", "SELECT, INSERT, UPDATE, DELETE"},
	{"edits", "SELECT, INSERT, UPDATE"},
	{"releases", "SELECT, INSERT"},
	{"site_keys", "SELECT, INSERT, UPDATE"},
	{"estate_secrets", "SELECT, INSERT, UPDATE"},
	{"accounts", "SELECT, INSERT, UPDATE"},
	{"members", "SELECT, INSERT, UPDATE, DELETE"},
	{"tokens", "SELECT, INSERT, UPDATE, DELETE"},
	{"audit", "SELECT, INSERT"},
	{"sessions", "SELECT, INSERT, UPDATE, DELETE"},
	{"links", "SELECT, INSERT, UPDATE, DELETE"},
	{"failures", "SELECT, INSERT, UPDATE, DELETE"},
	{"presence", "SELECT, INSERT, UPDATE, DELETE"},
	{"authority", "SELECT, INSERT, UPDATE"},
	{"join_codes", "SELECT, INSERT, UPDATE"},
	{"gateways", "SELECT, INSERT, UPDATE, DELETE"},
	{"gateway_lines", "SELECT, INSERT, UPDATE, DELETE"},
	{"rollouts", "SELECT, INSERT, UPDATE"},
	{"rollout_notes", "SELECT, INSERT"},
	{"asks", "SELECT, INSERT, UPDATE, DELETE"},
	{"events", "SELECT, INSERT, DELETE"},
	{"troubles", "SELECT, INSERT, UPDATE, DELETE"},
	{"event_leases", "SELECT, INSERT, UPDATE"},
	{"windows", "SELECT, INSERT, DELETE"},
	{"listeners", "SELECT, INSERT, UPDATE, DELETE"},
	{"messages", "SELECT, INSERT, UPDATE"},
	{"drills", "SELECT, INSERT, UPDATE"},
	{"drill_points", "SELECT, INSERT"},
	{"benches", "SELECT, INSERT, DELETE"},
	{"sample_layouts", "SELECT, INSERT, DELETE"},
	{"samples_10s", samplesToo}, {"samples_1m", samplesToo}, {"samples_15m", samplesToo},
	{"servers", "SELECT, INSERT, UPDATE, DELETE"},
}

// samplesToo are the rights in tables whose partitions come and go with the days.
const samplesToo = "SELECT, INSERT, CREATE, ALTER, DROP"

// Open brings the tables to the present version, gives the account that serves
// its rights, and connects as it.
func Open(ctx context.Context, a Access) (*Store, error) {
	if a.Admin != "" {
		if err := prepare(ctx, a); err != nil {
			return nil, err
		}
	}
	s, err := Connect(ctx, a.DSN)
	if err != nil {
		return nil, err
	}
	now, latest, err := s.Version(ctx)
	if err == nil && now != latest {
		err = fmt.Errorf("the tables are of version %d, and this program needs %d", now, latest)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func prepare(ctx context.Context, a Access) error {
	admin, err := Connect(ctx, a.Admin)
	if err != nil {
		return err
	}
	defer admin.Close()
	if err := admin.Migrate(ctx, Latest); err != nil {
		return err
	}
	if a.Admin == a.DSN {
		return nil
	}
	return admin.grant(ctx, a.DSN)
}

// grant gives the account of a DSN its rights. An administrator that may not
// give any leaves them as they are, and says so.
func (s *Store) grant(ctx context.Context, dsn string) error {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return fmt.Errorf("reading the database address: %w", err)
	}
	database := config.DBName
	config.DBName = "" // it may have no right in it yet
	other, err := Connect(ctx, config.FormatDSN())
	if err != nil {
		return err
	}
	defer other.Close()
	var account string
	if err := other.db.WithContext(ctx).Raw("SELECT CURRENT_USER()").Scan(&account).Error; err != nil {
		return fmt.Errorf("asking for the database account: %w", err)
	}
	user, host, _ := strings.Cut(account, "@")
	who := quotedText(user) + "@" + quotedText(host)
	// An earlier version gave all of them. Here, the name of a database is a pattern.
	pattern := strings.NewReplacer("_", `\_`, "%", `\%`).Replace(database)
	statements := []string{"REVOKE ALL PRIVILEGES ON " + quotedName(pattern) + ".* FROM " + who}
	for _, r := range rights {
		statements = append(statements, fmt.Sprintf("GRANT %s ON %s.%s TO %s", r.may, quotedName(database), quotedName(r.table), who))
	}
	for _, statement := range statements {
		err := s.db.WithContext(ctx).Exec(statement).Error
		var my *mysql.MySQLError
		switch {
		case err == nil, errors.As(err, &my) && my.Number == noSuchGrant:
		case errors.As(err, &my) && slices.Contains(mayNotGive, my.Number):
			slog.Warn("the database administrator's account may not give rights; those of the account that serves stay as they are", "account", account)
			return nil
		default:
			return fmt.Errorf("giving %s its rights: %w", account, err)
		}
	}
	return nil
}

// Errors of the server: nothing is there to be revoked; and access denied to a
// database, a table, or a privilege.
const noSuchGrant = 1141

var mayNotGive = []uint16{1044, 1142, 1227}

// quotedName and quotedText quote what is no parameter of a statement.
func quotedName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }
func quotedText(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(text) + "'"
}
