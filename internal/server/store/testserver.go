package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"golang.org/x/sys/unix"
)

// shared is the one server that the tests of a package have in common; each has
// a database of its own on it.
var shared struct {
	sync.Mutex
	server    *Server
	folder    string
	databases int
}

// Testing makes an empty database that lives as long as the test, for tests of any
// package whose TestMain is TestMain.
func Testing(t testing.TB) (*Store, Access) {
	t.Helper()
	ctx := context.Background()
	shared.Lock()
	defer shared.Unlock()
	if shared.server == nil {
		folder, err := os.MkdirTemp(quickFolder(), "wk-db-")
		if err != nil {
			t.Fatal(err)
		}
		shared.folder = folder
		if shared.server, err = StartServer(ctx, folder); err != nil {
			os.RemoveAll(folder)
			t.Fatal(err)
		}
	}
	shared.databases++
	name := fmt.Sprintf("wideknot_t%d", shared.databases)
	admin, err := Connect(ctx, shared.server.Admin)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if err := admin.db.Exec("CREATE DATABASE " + quotedName(name) + " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin").Error; err != nil {
		t.Fatal(err)
	}
	dsn, errServing := dsnOf(shared.server.DSN, name)
	adminDSN, errAdmin := dsnOf(shared.server.Admin, name)
	if errServing != nil || errAdmin != nil {
		t.Fatal(errServing, errAdmin)
	}
	access := Access{dsn, adminDSN}
	db, err := Open(ctx, access)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, access
}

// quickFolder is in memory where there is room, as what tests keep need outlive nothing;
// empty for the usual place.
func quickFolder() string {
	const memory, room = "/dev/shm", 1 << 30
	var about unix.Statfs_t
	if unix.Statfs(memory, &about) != nil || about.Bavail*uint64(about.Bsize) < room {
		return ""
	}
	return memory
}

// TestMain runs the tests of a package and stops the server they had in common.
func TestMain(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		shared.server.Stop()
		os.RemoveAll(shared.folder)
	}
	os.Exit(code)
}

// AgeGateways makes the gateways of an estate, and their lines, older than they are; for tests.
func (t *Tx) AgeGateways(estate uint64, by time.Duration) error {
	seconds := int(by.Seconds())
	if err := t.db.Exec("UPDATE gateways SET joined_at = joined_at - INTERVAL ? SECOND WHERE estate_id = ?", seconds, estate).Error; err != nil {
		return err
	}
	return t.db.Exec("UPDATE gateway_lines SET since = since - INTERVAL ? SECOND WHERE estate_id = ?", seconds, estate).Error
}

// SizeOf is how many bytes the files of a tier take on the disk, for tests.
func SizeOf(a Access, tier *Tier) (bytes int64, err error) {
	config, err := mysql.ParseDSN(a.DSN)
	if err != nil {
		return 0, err
	}
	files, err := filepath.Glob(filepath.Join(shared.folder, "data", config.DBName, tier.table+"#*.ibd"))
	for _, name := range files {
		about, err := os.Stat(name)
		if err != nil {
			return 0, err
		}
		bytes += about.Size()
	}
	return bytes, err
}
