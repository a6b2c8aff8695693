package store

import (
	"context"
	"os"
	"testing"
)

// Testing starts a MariaDB server with an empty database that lives as long as
// the test, for tests of any package.
func Testing(t testing.TB) (*Store, *Server) {
	t.Helper()
	folder, err := os.MkdirTemp("", "wk-db-")
	if err != nil {
		t.Fatal(err)
	}
	server, err := StartServer(context.Background(), folder)
	if err != nil {
		os.RemoveAll(folder)
		t.Fatal(err)
	}
	db, err := Open(context.Background(), server.Access)
	if err != nil {
		server.Stop()
		t.Fatal(err)
	}
	t.Cleanup(func() {
		db.Close()
		server.Stop()
		os.RemoveAll(folder)
	})
	return db, server
}
