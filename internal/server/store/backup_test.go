package store

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestBackupAndRestore(t *testing.T) {
	db, access := Testing(t)
	ctx := context.Background()
	err := db.InTransaction(ctx, func(tx *Tx) error {
		e := estateRow("kept")
		if err := tx.AddEstate(e); err != nil {
			return err
		}
		a := &Account{Email: "a@test.example", Name: "Ünal ' \" \\ 漢", Password: "hash", CreatedAt: time.Now().UTC()}
		if err := tx.AddAccount(a); err != nil {
			return err
		}
		now := time.Now().UTC()
		s := &Session{AccountID: a.ID, Hash: bytes.Repeat([]byte{7}, 32), RotatedAt: now, CreatedAt: now, SeenAt: now, ExpiresAt: now.Add(time.Hour)}
		if err := tx.AddSession(s); err != nil {
			return err
		}
		sealed := []byte{0, 1, '\'', '\\', '\n', 0xff, 0x1a}
		if err := tx.AddSiteKeys([]SiteKey{{EstateID: e.ID, Site: "s", PublicKey: "p", Sealed: sealed}}); err != nil {
			return err
		}
		return tx.AddRecord(&Record{At: now, Who: "w", Action: "estate.create", EstateID: e.ID})
	})
	if err != nil {
		t.Fatal(err)
	}
	var file bytes.Buffer
	if err := Backup(ctx, access.DSN, signed("key"), &file); err != nil {
		t.Fatal(err)
	}
	from := bytes.NewReader(file.Bytes())
	if _, err := Restore(ctx, access, signed("key"), from, from.Size(), false); !errors.Is(err, ErrNotEmpty) {
		t.Errorf("restoring over what is there: %v", err)
	}
	_, other := Testing(t)
	for _, replace := range []bool{false, true} {
		if _, err := Restore(ctx, other, signed("newer", "key"), from, from.Size(), replace); err != nil {
			t.Fatal(err)
		}
		restored, err := Open(ctx, other)
		if err != nil {
			t.Fatal(err)
		}
		err = restored.Snapshot(ctx, func(tx *Tx) error {
			e, err := tx.Estate("kept", false)
			if err != nil {
				return err
			}
			keys, err := tx.SiteKeys(e.ID)
			if err != nil || len(keys) != 1 || !bytes.Equal(keys[0].Sealed, []byte{0, 1, '\'', '\\', '\n', 0xff, 0x1a}) {
				t.Errorf("%v, %v", keys, err)
			}
			a, err := tx.AccountOfEmail("a@test.example")
			if err != nil || a.Name != "Ünal ' \" \\ 漢" {
				t.Errorf("%+v, %v", a, err)
			}
			if s, err := tx.Sessions(a.ID); err != nil || len(s) != 0 {
				t.Errorf("who was signed in still is: %v, %v", s, err)
			}
			records, err := tx.Records(RecordFilter{Estate: e.ID, Limit: 10})
			if len(records) != 1 {
				t.Errorf("%v", records)
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
		restored.Close()
	}
	damaged := bytes.Clone(file.Bytes())
	for i := range 200 {
		damaged[len(damaged)/2+i] ^= 0xff
	}
	for name, text := range map[string][]byte{
		"cut off": file.Bytes()[:file.Len()/2], "damaged": damaged, "something else": []byte("PK nothing"),
		"changed": rewritten(t, file.Bytes(), nil, func(name, text string) string { return strings.ReplaceAll(text, "a@test.example", "b@test.example") }),
		"renamed": rewritten(t, file.Bytes(), nil, func(name, text string) string { return text }, "audit.jsonl", "members.jsonl"),
	} {
		if _, err := Restore(ctx, other, signed("key"), bytes.NewReader(text), int64(len(text)), true); err == nil {
			t.Errorf("a backup that is %s was restored", name)
		}
	}
	if _, err := Restore(ctx, other, signed("other"), from, from.Size(), true); !errors.Is(err, ErrForeign) {
		t.Errorf("a backup under another key: %v", err)
	}
}

// signed makes authenticators of these keys.
func signed(keys ...string) Authenticator {
	return func() []hash.Hash {
		var out []hash.Hash
		for _, key := range keys {
			out = append(out, hmac.New(sha256.New, []byte(key)))
		}
		return out
	}
}

// rewritten copies a backup with its entries changed, some renamed, and signs it
// again if a key is given.
func rewritten(t *testing.T, backup []byte, key Authenticator, change func(name, text string) string, renamed ...string) []byte {
	t.Helper()
	old, err := zip.NewReader(bytes.NewReader(backup), int64(len(backup)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	var code hash.Hash
	if key != nil {
		code = key()[0]
	}
	for _, f := range old.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		raw, _ := io.ReadAll(r)
		name, text := f.Name, string(raw)
		for i := 0; i+1 < len(renamed); i += 2 {
			if name == renamed[i] {
				name = renamed[i+1]
			}
		}
		if name != signatureName {
			text = change(name, text)
			if code != nil {
				fmt.Fprintf(code, "%q %x\n", name, sha256.Sum256([]byte(text)))
			}
		} else if code != nil {
			text = string(code.Sum(nil))
		}
		w, _ := archive.Create(name)
		io.WriteString(w, text)
	}
	archive.Close()
	return out.Bytes()
}

// A restore runs nothing that a backup says, whoever signed it, and what cannot be
// loaded leaves everything as it was.
func TestRestoreExecutesNothingAndLosesNothing(t *testing.T) {
	db, access := Testing(t)
	ctx := context.Background()
	add := func(key string) {
		t.Helper()
		err := db.InTransaction(ctx, func(tx *Tx) error {
			e := estateRow(key)
			if err := tx.AddEstate(e); err != nil {
				return err
			}
			return tx.AddRecord(&Record{At: time.Now().UTC(), Who: "w", Action: "estate.create", EstateID: e.ID})
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	add("first")
	var file bytes.Buffer
	if err := Backup(ctx, access.DSN, signed("key"), &file); err != nil {
		t.Fatal(err)
	}
	add("second")
	marker := filepath.Join(t.TempDir(), "ran")
	estates := func(line string) func(name, text string) string {
		return func(name, text string) string {
			if name == "estates.jsonl" {
				return text + line
			}
			return text
		}
	}
	for name, backup := range map[string][]byte{
		"a client's command":    rewritten(t, file.Bytes(), signed("key"), estates("\\! touch "+marker+"\nsystem touch "+marker+"\n")),
		"a statement":           rewritten(t, file.Bytes(), signed("key"), estates("DROP TABLE audit;\n")),
		"a row of another form": rewritten(t, file.Bytes(), signed("key"), estates(`["1", "x"]`+"\n")),
		"a value of no type":    rewritten(t, file.Bytes(), signed("key"), estates(`["x'; DROP TABLE audit; --", "k", "2026-01-01", "n", "0"]`+"\n")),
		"columns of its own": rewritten(t, file.Bytes(), signed("key"), func(name, text string) string {
			return strings.Replace(text, `"created_at"`, `"created_at) VALUES (1); DROP TABLE audit; --"`, 1)
		}),
		"a table that is none": rewritten(t, file.Bytes(), signed("key"), func(_, text string) string { return text }, "audit.jsonl", "mysql.user.jsonl"),
		"a reference to nothing": rewritten(t, file.Bytes(), signed("key"), func(name, text string) string {
			if name == "members.jsonl" {
				return text + `["99", "99", "owner"]` + "\n"
			}
			return text
		}),
	} {
		if _, err := Restore(ctx, access, signed("key"), bytes.NewReader(backup), int64(len(backup)), true); err == nil {
			t.Errorf("%s: was restored", name)
		}
		if _, err := os.Stat(marker); err == nil {
			t.Fatalf("%s: was run", name)
		}
		err := db.Snapshot(ctx, func(tx *Tx) error {
			for _, key := range []string{"first", "second"} {
				e, err := tx.Estate(key, false)
				if err != nil {
					return err
				}
				if records, err := tx.Records(RecordFilter{Estate: e.ID, Limit: 9}); err != nil || len(records) != 1 {
					t.Errorf("%s: %v, %v", name, records, err)
				}
			}
			return nil
		})
		if err != nil {
			t.Errorf("%s: lost something: %v", name, err)
		}
	}
	// A good one takes the place of all that is there, and the audit is guarded as before.
	if _, err := Restore(ctx, access, signed("key"), bytes.NewReader(file.Bytes()), int64(file.Len()), true); err != nil {
		t.Fatal(err)
	}
	err := db.Snapshot(ctx, func(tx *Tx) error { _, err := tx.Estate("second", false); return err })
	if !errors.Is(err, ErrNotFound) {
		t.Errorf("what the backup has not: %v", err)
	}
	admin, err := Connect(ctx, access.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if err := admin.db.Exec("DELETE FROM audit").Error; err == nil {
		t.Error("the audit can be deleted after a restore")
	}
}

// Accounts or an audit are something too.
func TestEmptyMeansNobodyDidAnything(t *testing.T) {
	db, access := Testing(t)
	ctx := context.Background()
	var file bytes.Buffer
	if err := Backup(ctx, access.DSN, signed("key"), &file); err != nil {
		t.Fatal(err)
	}
	if err := db.InTransaction(ctx, func(tx *Tx) error {
		return tx.AddRecord(&Record{At: time.Now().UTC(), Who: "w", Action: "session.refused"})
	}); err != nil {
		t.Fatal(err)
	}
	if _, err := Restore(ctx, access, signed("key"), bytes.NewReader(file.Bytes()), int64(file.Len()), false); !errors.Is(err, ErrNotEmpty) {
		t.Errorf("%v", err)
	}
}
