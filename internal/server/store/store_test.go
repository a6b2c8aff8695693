package store

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

func TestServerSurvivesAndIsAlone(t *testing.T) {
	folder, err := os.MkdirTemp("", "wk-db-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(folder)
	ctx := context.Background()
	server, err := StartServer(ctx, folder)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := StartServer(ctx, folder); err == nil || !strings.Contains(err.Error(), "another wideknot is running") {
		t.Errorf("a second server on the same folder: %v", err)
	}
	db, err := Open(ctx, server.Access)
	if err != nil {
		t.Fatal(err)
	}
	add := func(tx *Tx) error {
		return tx.AddEstate(&Estate{Key: "kept", Release: 7, CreatedAt: time.Now()})
	}
	if err := db.InTransaction(ctx, add); err != nil {
		t.Fatal(err)
	}
	db.Close()

	// Killed like by a power cut, it must come back with everything.
	server.end(syscall.SIGKILL)
	<-server.ended
	server.lock.Close()
	server, err = StartServer(ctx, folder)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Stop()
	if db, err = Open(ctx, server.Access); err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	err = db.InTransaction(ctx, func(tx *Tx) error {
		row, err := tx.Estate("kept", false)
		if err == nil && row.Release != 7 {
			t.Errorf("%+v", row)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(folder, "password")); err != nil {
		t.Error(err)
	}
}

func TestLongFolderStillHasASocket(t *testing.T) {
	s := &Server{folder: "/" + strings.Repeat("a-long-name/", 12)}
	path, err := s.socketPath()
	if err != nil || len(path) > 107 {
		t.Errorf("%q, %v", path, err)
	}
	os.Remove(filepath.Dir(path))
}

// A server leaves the temporary tables of others alone.
func TestTemporaryTablesAreItsOwn(t *testing.T) {
	others := filepath.Join(os.TempDir(), "#sql-temptable-test-of-another-server.MAI")
	if err := os.WriteFile(others, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	defer os.Remove(others)
	db, _ := Testing(t)
	var folder string
	if err := db.db.Raw("SELECT @@tmpdir").Scan(&folder).Error; err != nil || folder == os.TempDir() {
		t.Errorf("temporary tables are in %s, %v", folder, err)
	}
	if _, err := os.Stat(others); err != nil {
		t.Errorf("a temporary table of another server is gone: %v", err)
	}
}

func TestTransactions(t *testing.T) {
	db, _ := Testing(t)
	ctx := context.Background()
	boom := errors.New("boom")
	err := db.InTransaction(ctx, func(tx *Tx) error {
		if err := tx.AddEstate(&Estate{Key: "gone", CreatedAt: time.Now()}); err != nil {
			return err
		}
		return boom
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	err = db.InTransaction(ctx, func(tx *Tx) error { _, err := tx.Estate("gone", true); return err })
	if !errors.Is(err, ErrNotFound) {
		t.Errorf("an estate of a failed transaction: %v", err)
	}
	// Keys are compared to the letter.
	err = db.InTransaction(ctx, func(tx *Tx) error {
		estate := &Estate{Key: "one", CreatedAt: time.Now()}
		if err := tx.AddEstate(estate); err != nil {
			return err
		}
		e := &Draft{EstateID: estate.ID, Key: "first", Revision: 1, Allocations: "{}", CreatedAt: time.Now()}
		if err := tx.AddDraft(e); err != nil {
			return err
		}
		parts := []Part{{DraftID: e.ID, Kind: Site, Key: "a", Place: 2, Body: "{}"}, {DraftID: e.ID, Kind: Site, Key: "b", Place: 1, Body: "{}"}}
		if err := tx.SaveParts(parts); err != nil {
			return err
		}
		parts[0].Body = `{"key":"a"}`
		if err := tx.SaveParts(parts[:1]); err != nil {
			return err
		}
		if err := tx.DeletePart(e.ID, Overlay, "b"); err != nil {
			return err
		}
		got, err := tx.Parts(e.ID)
		if err == nil && (len(got) != 2 || got[0].Key != "b" || got[1].Body != `{"key":"a"}`) {
			t.Errorf("%+v", got)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
