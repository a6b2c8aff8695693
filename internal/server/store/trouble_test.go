package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// own starts a server for one test, which may stop it.
func own(t *testing.T) (*Store, *Server) {
	t.Helper()
	folder, err := os.MkdirTemp("", "wk-db-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	server, err := StartServer(context.Background(), folder)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Stop)
	db, err := Open(context.Background(), server.Access)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, server
}

func estateRow(key string) *Estate {
	return &Estate{Key: key, Name: key, CreatedAt: time.Now().UTC()}
}

// Transactions that take the same two rows in opposite order deadlock; every
// one of them must be done in the end, once.
func TestDeadlocksAreRunAgain(t *testing.T) {
	db, _ := Testing(t)
	ctx := context.Background()
	ids := make([]uint64, 2)
	err := db.InTransaction(ctx, func(tx *Tx) error {
		for i, key := range []string{"a", "b"} {
			e := estateRow(key)
			if err := tx.AddEstate(e); err != nil {
				return err
			}
			ids[i] = e.ID
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	before := LostTransactions()
	const workers, each = 4, 30 // with more, on a busy machine, one may lose twenty times
	var all sync.WaitGroup
	for w := range workers {
		all.Add(1)
		go func() {
			defer all.Done()
			for range each {
				keys := []string{"a", "b"}
				if w%2 == 1 {
					keys = []string{"b", "a"}
				}
				err := db.InTransaction(ctx, func(tx *Tx) error {
					for _, key := range keys {
						e, err := tx.Estate(key, true)
						if err != nil {
							return err
						}
						e.Release++
						if err := tx.SaveEstate(&e); err != nil {
							return err
						}
						time.Sleep(time.Millisecond) // for the others to take the other row
					}
					return nil
				})
				if err != nil {
					t.Error(err)
				}
			}
		}()
	}
	all.Wait()
	for _, key := range []string{"a", "b"} {
		err := db.InTransaction(ctx, func(tx *Tx) error {
			e, err := tx.Estate(key, false)
			if err == nil && e.Release != workers*each {
				t.Errorf("%s counts %d, want %d", key, e.Release, workers*each)
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
	if LostTransactions() == before {
		t.Error("no transaction met another one; the test provokes nothing")
	}
}

// A cluster refuses some commits, and takes them when they come again.
func TestRefusedCommitsAreRunAgain(t *testing.T) {
	db, _ := Testing(t)
	for _, number := range []uint16{1213, 1205, 1020} {
		runs := 0
		err := db.InTransaction(context.Background(), func(tx *Tx) error {
			if runs++; runs < 4 {
				return &mysql.MySQLError{Number: number, Message: "refused"}
			}
			return tx.AddEstate(estateRow(fmt.Sprint("e", number)))
		})
		if err != nil || runs != 4 {
			t.Errorf("%d: %v after %d runs", number, err, runs)
		}
	}
	runs := 0
	err := db.InTransaction(context.Background(), func(*Tx) error {
		runs++
		return &mysql.MySQLError{Number: 1062, Message: "duplicate"}
	})
	if err == nil || runs != 1 {
		t.Errorf("an error of its own was run %d times", runs)
	}
}

// The database server is killed while eight write: it is started again by
// itself, and everything that was acknowledged is there.
func TestServerRestartsUnderLoad(t *testing.T) {
	db, server := own(t)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var mu sync.Mutex
	written, away := map[string]bool{}, 0
	var all sync.WaitGroup
	for w := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for i := range 40 {
				key := fmt.Sprintf("w%d-%d", w, i)
				for {
					err := db.InTransaction(ctx, func(tx *Tx) error {
						if _, err := tx.Estate(key, false); err == nil {
							return nil // the commit whose answer was lost
						}
						return tx.AddEstate(estateRow(key))
					})
					mu.Lock()
					if err == nil {
						written[key] = true
					} else if away++; !errors.Is(err, ErrAway) {
						t.Errorf("%s: %v", key, err)
					}
					mu.Unlock()
					if err == nil || ctx.Err() != nil {
						break
					}
					time.Sleep(20 * time.Millisecond)
				}
			}
		}()
	}
	for range 2 {
		time.Sleep(80 * time.Millisecond)
		server.Crash()
		time.Sleep(2 * time.Second)
	}
	all.Wait()
	if away == 0 {
		t.Error("nobody noticed that the server was away; the test provokes nothing")
	}
	err := db.Snapshot(ctx, func(tx *Tx) error {
		for key := range written {
			if _, err := tx.Estate(key, false); err != nil {
				t.Errorf("%s was acknowledged and is gone: %v", key, err)
			}
		}
		return nil
	})
	if err != nil || len(written) != 8*40 {
		t.Errorf("%v, %d written", err, len(written))
	}
}

func TestAuditIsOnlyAddedTo(t *testing.T) {
	db, access := Testing(t)
	ctx := context.Background()
	err := db.InTransaction(ctx, func(tx *Tx) error {
		for i := range 5 {
			r := &Record{At: time.Now().UTC(), Who: fmt.Sprint("w", i%2), Action: []string{"draft.edit", "release.make"}[i%2], EstateID: 7, Object: fmt.Sprint("o", i)}
			if err := tx.AddRecord(r); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	// Not even who may change tables can do this by mistake.
	admin, err := Connect(ctx, access.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	for _, statement := range []string{"UPDATE audit SET who = 'x'", "DELETE FROM audit", "UPDATE releases SET message = 'x'"} {
		err := admin.db.Exec("INSERT IGNORE INTO estates (id, `key`, created_at) VALUES (9, 'x', NOW())").Error
		if err == nil {
			err = admin.db.Exec("INSERT IGNORE INTO releases (estate_id, number, at, author, draft, message, reason, document) VALUES (9, 1, NOW(), '', '', '', '', '{}')").Error
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := admin.db.Exec(statement).Error; err == nil {
			t.Errorf("%s was carried out", statement)
		}
	}
	for _, c := range []struct {
		filter RecordFilter
		want   int
	}{
		{RecordFilter{Estate: 7}, 5}, {RecordFilter{Estate: 8}, 0}, {RecordFilter{Estate: 7, Who: "w1"}, 2},
		{RecordFilter{Estate: 7, Action: "draft."}, 3}, {RecordFilter{Estate: 7, Action: "draft"}, 0}, {RecordFilter{Estate: 7, Text: "o3"}, 1},
		{RecordFilter{Estate: 7, Before: 3}, 2}, {RecordFilter{Estate: 7, Since: time.Now().Add(time.Hour)}, 0}, {RecordFilter{Estate: 7, Until: time.Now().Add(time.Hour)}, 5},
	} {
		c.filter.Limit = 100
		err := db.Snapshot(ctx, func(tx *Tx) error {
			rows, err := tx.Records(c.filter)
			if len(rows) != c.want {
				t.Errorf("%+v: %d records, want %d", c.filter, len(rows), c.want)
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
}

// An estate of the first version becomes a draft, and goes back.
func TestMigrationsUpAndDown(t *testing.T) {
	_, access := Testing(t)
	ctx := context.Background()
	db, err := Connect(ctx, access.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(db.Migrate(ctx, 1))
	for _, statement := range []string{
		"INSERT INTO estates (id, `key`, revision, allocations, created_at) VALUES (3, 'vale', 2, '{\"keys\":{}}', NOW())",
		"INSERT INTO parts (estate_id, kind, `key`, place, revision, body) VALUES (3, 'head', '', 0, 1, '{\"name\":\"Vale\"}'), (3, 'site', 'a', 1, 2, '{\"key\":\"a\"}')",
		"INSERT INTO edits (estate_id, number, at, label, changes) VALUES (3, 2, NOW(), 'Add a', '[]')",
	} {
		must(db.db.Exec(statement).Error)
	}
	for range 2 {
		must(db.Migrate(ctx, Latest))
		must(db.Snapshot(ctx, func(tx *Tx) error {
			e, err := tx.Estate("vale", false)
			if err != nil || e.Name != "Vale" || e.Release != 0 {
				t.Errorf("%+v, %v", e, err)
			}
			d, err := tx.Draft(e.ID, "first", false, true)
			if err != nil || d.Revision != 2 || d.Allocations != `{"keys":{}}` {
				t.Errorf("%+v, %v", d, err)
			}
			parts, err := tx.Parts(d.ID)
			if err != nil || len(parts) != 2 || parts[1].Key != "a" {
				t.Errorf("%+v, %v", parts, err)
			}
			if edit, err := tx.ToUndo(d.ID); err != nil || edit.Label != "Add a" {
				t.Errorf("%+v, %v", edit, err)
			}
			r, err := tx.Release(e.ID, 0)
			if err != nil || r.Document != `{"wideknot": 1, "estate": {"name": "Vale"}}` {
				t.Errorf("%+v, %v", r, err)
			}
			return nil
		}))
		must(db.Migrate(ctx, 1))
		var n int64
		must(db.db.Raw("SELECT COUNT(*) FROM parts WHERE estate_id = 3").Scan(&n).Error)
		if n != 2 {
			t.Errorf("%d parts on the way back", n)
		}
	}
	must(db.Migrate(ctx, 0))
	if now, latest, err := db.Version(ctx); err != nil || now != 0 || latest < 3 {
		t.Errorf("version %d of %d, %v", now, latest, err)
	}
	if err := db.Migrate(ctx, 99); err == nil {
		t.Error("a version that there is not was taken")
	}
}

// Every table is either kept in backups or of no use later, and has its rights.
func TestEveryTableIsKnown(t *testing.T) {
	_, access := Testing(t)
	admin, err := Connect(context.Background(), access.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	var tables []string
	if err := admin.db.Raw("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY 1").Scan(&tables).Error; err != nil {
		t.Fatal(err)
	}
	slices.Sort(tables)
	known := append([]string{"goose_db_version"}, slices.Concat(kept, transient)...)
	slices.Sort(known)
	var withRights []string
	for _, r := range rights {
		withRights = append(withRights, r.table)
	}
	slices.Sort(withRights)
	if !slices.Equal(tables, known) || !slices.Equal(tables, withRights) {
		t.Errorf("tables %q, in backups %q, with rights %q", tables, known, withRights)
	}
}

// The account that serves may do what serving takes and no more.
func TestTheServingAccountIsNarrow(t *testing.T) {
	db, _ := Testing(t)
	for _, statement := range []string{
		"DELETE FROM audit", "UPDATE audit SET who = 'nobody'", "UPDATE releases SET message = ''", "DELETE FROM releases", "DELETE FROM accounts", "DELETE FROM edits",
		"DROP TRIGGER audit_is_not_deleted", "DROP TABLE audit", "TRUNCATE audit", "ALTER TABLE audit ADD COLUMN x INT", "CREATE TABLE x (y INT)",
		"CREATE TRIGGER x BEFORE INSERT ON audit FOR EACH ROW SET NEW.who = 'nobody'", "CREATE DATABASE x", "SELECT * FROM mysql.user", "SELECT LOAD_FILE('/etc/passwd') INTO @x FROM mysql.user",
		"GRANT ALL ON *.* TO wideknot@localhost", "SELECT 1 INTO OUTFILE '/tmp/x'", "SET GLOBAL general_log = 1",
	} {
		if err := db.db.Exec(statement).Error; err == nil {
			t.Errorf("%s: allowed", statement)
		}
	}
}

func TestAFullDiskSaysSo(t *testing.T) {
	for _, c := range []struct {
		number  uint16
		message string
		full    bool
	}{{1021, "Disk full (/var/lib)", true}, {1114, "The table 'edits' is full", true}, {3, "Error writing file '/x' (Errcode: 28 \"No space left on device\")", true}, {3, "Error writing file (Errcode: 5)", false}, {1213, "Deadlock", false}} {
		err := told(&mysql.MySQLError{Number: c.number, Message: c.message})
		if errors.Is(err, ErrFull) != c.full {
			t.Errorf("%d %s: %v", c.number, c.message, err)
		}
	}
}

// A server left alone by a killed process is found again with all it held.
func TestRunningServersAreReached(t *testing.T) {
	_, server := own(t)
	running, err := Running(server.folder)
	if err != nil || running.DSN != server.DSN || running.Admin != "" {
		t.Errorf("%+v, %v", running, err)
	}
	if _, err := Running(t.TempDir()); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a folder without server: %v", err)
	}
}
