package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
)

// A Server is a MariaDB server of our own: its data in a folder of ours, and
// reached by a socket that only this user can open. It never touches another
// server of the machine.
type Server struct {
	Access

	folder    string
	arguments []string // the program and what it is started with
	lock      *os.File
	ended     chan struct{} // closed when it runs no more and will not be started again

	mu       sync.Mutex
	process  *os.Process
	up       bool // it has answered once
	stopping bool
}

// ErrRunning is returned for a folder whose server another process runs.
var ErrRunning = errors.New("another wideknot is running on this folder")

// StartServer starts a private server on the data in folder, which is made
// when it is not there. Only one process at a time can run a folder's server.
// A server that ends by itself is started again; it ends with this process,
// however that ends.
func StartServer(ctx context.Context, folder string) (*Server, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("making the database folder: %w", err)
	}
	s := &Server{folder: folder}
	if err := s.takeLock(ctx); err != nil {
		return nil, err
	}
	if err := s.start(ctx); err != nil {
		s.lock.Close()
		return nil, err
	}
	return s, nil
}

// takeLock waits a little for a server that was left over to end: it is told
// to when its parent dies, but writes its data out first.
func (s *Server) takeLock(ctx context.Context) error {
	file, err := os.OpenFile(filepath.Join(s.folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("opening the database lock: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		return fmt.Errorf("%s: %w; stop it first, or name another folder", s.folder, ErrRunning)
	}
	s.lock = file
	deadline := time.Now().Add(20 * time.Second)
	for serverRuns(s.pidFile(), s.dataFolder()) {
		if time.Now().After(deadline) {
			file.Close()
			return fmt.Errorf("the database server of an earlier run does not end; see %s", s.pidFile())
		}
		select {
		case <-ctx.Done():
			file.Close()
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return nil
}

func (s *Server) dataFolder() string { return filepath.Join(s.folder, "data") }

// tempFolder is the server's own: at its start a server removes the temporary
// tables it finds in this folder, also those of others.
func (s *Server) tempFolder() string { return filepath.Join(s.folder, "tmp") }

func (s *Server) pidFile() string      { return filepath.Join(s.folder, "mariadb.pid") }
func (s *Server) passwordFile() string { return filepath.Join(s.folder, "password") }
func (s *Server) logFile() string      { return filepath.Join(s.folder, "mariadb.log") }

// serverRuns reports whether the process of the pid file is a server on this
// data folder, and not some other process that got its number.
func serverRuns(pidFile, dataFolder string) bool {
	pid, err := os.ReadFile(pidFile)
	if err != nil {
		return false
	}
	arguments, err := os.ReadFile("/proc/" + strings.TrimSpace(string(pid)) + "/cmdline")
	return err == nil && strings.Contains(string(arguments), "--datadir="+dataFolder+"\x00")
}

// socketPath keeps within the 107 bytes a socket's path may have.
func (s *Server) socketPath() (string, error) {
	path := filepath.Join(s.folder, "mariadb.sock")
	if len(path) <= 100 {
		return path, nil
	}
	sum := sha256.Sum256([]byte(s.folder))
	folder := filepath.Join(os.TempDir(), "wideknot-"+hex.EncodeToString(sum[:6]))
	if err := os.Mkdir(folder, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return "", fmt.Errorf("making the socket folder: %w", err)
	}
	info, err := os.Lstat(folder)
	if err != nil {
		return "", err
	}
	if owner, ok := info.Sys().(*syscall.Stat_t); !ok || !info.IsDir() || info.Mode().Perm() != 0o700 || int(owner.Uid) != os.Geteuid() {
		return "", fmt.Errorf("%s is not a folder of this user alone", folder)
	}
	return filepath.Join(folder, "mariadb.sock"), nil
}

// Long because each step of the start has an end of its own.
func (s *Server) start(ctx context.Context) error {
	me, err := user.Current()
	if err != nil {
		return fmt.Errorf("finding the current user: %w", err)
	}
	if err := os.MkdirAll(s.tempFolder(), 0o700); err != nil {
		return fmt.Errorf("making the database folder: %w", err)
	}
	program, err := find("mariadbd")
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(s.dataFolder(), "mysql")); err != nil {
		if err := s.initialise(ctx, me.Username); err != nil {
			return err
		}
	}
	password, err := passwordIn(s.passwordFile())
	if err != nil {
		return err
	}
	adminPassword, err := passwordIn(s.passwordFile() + "-admin")
	if err != nil {
		return err
	}
	socket, err := s.socketPath()
	if err != nil {
		return err
	}
	// Run at every start as the server's own administrator. The accounts can reach
	// our database, and those named like it, such as the one that a restore is loaded into, and
	// nothing else; what the one that serves may do there, Open says.
	setup := filepath.Join(s.folder, "setup.sql")
	statements := fmt.Sprintf("CREATE DATABASE IF NOT EXISTS wideknot CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n"+
		"CREATE USER IF NOT EXISTS wideknot@localhost;\nALTER USER wideknot@localhost IDENTIFIED BY '%s';\n"+
		"CREATE USER IF NOT EXISTS wideknot_admin@localhost;\nALTER USER wideknot_admin@localhost IDENTIFIED BY '%s';\n"+
		"GRANT ALL ON wideknot.* TO wideknot_admin@localhost WITH GRANT OPTION;\n"+
		"GRANT ALL ON `wideknot\\_%%`.* TO wideknot_admin@localhost WITH GRANT OPTION;\n", password, adminPassword)
	if err := os.WriteFile(setup, []byte(statements), 0o600); err != nil {
		return fmt.Errorf("writing the database setup: %w", err)
	}
	s.arguments = []string{
		program, "--no-defaults",
		"--datadir=" + s.dataFolder(), "--socket=" + socket, "--pid-file=" + s.pidFile(), "--log-error=" + s.logFile(),
		"--tmpdir=" + s.tempFolder(), "--init-file=" + setup, "--user=" + me.Username,
		"--skip-networking", "--skip-name-resolve", "--max-allowed-packet=256M",
		"--innodb-buffer-pool-size=128M", "--innodb-log-file-size=96M", "--character-set-server=utf8mb4",
	}
	if err := os.Remove(socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("removing the socket of an earlier run: %w", err)
	}
	if err := s.run(); err != nil {
		return fmt.Errorf("starting %s: %w", program, err)
	}
	s.Access = Access{dsn("wideknot", password, socket), dsn("wideknot_admin", adminPassword, socket)}
	for {
		if _, err := os.Stat(socket); err == nil {
			s.mu.Lock()
			s.up = true
			s.mu.Unlock()
			return nil
		}
		select {
		case <-s.ended:
			return fmt.Errorf("the database server ended at once; its log %s ends:\n%s", s.logFile(), tail(s.logFile()))
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func dsn(user, password, socket string) string {
	return fmt.Sprintf("%s:%s@unix(%s)/wideknot", user, password, socket)
}

// ErrNoDatabase is returned for a folder that has none.
var ErrNoDatabase = errors.New("there is no database in this folder")

// Present reports whether a folder holds a database.
func Present(folder string) bool {
	_, err := os.Stat(filepath.Join(folder, "data", "mysql"))
	return err == nil
}

// Running names the server that another process runs on a folder, as the account
// that serves: the tables are that process's to keep.
func Running(folder string) (Access, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return Access{}, err
	}
	s := &Server{folder: folder}
	password, err := os.ReadFile(s.passwordFile())
	if err != nil {
		return Access{}, fmt.Errorf("reading the database password: %w", err)
	}
	socket, err := s.socketPath()
	return Access{DSN: dsn("wideknot", string(password), socket)}, err
}

// run starts the server from a thread that lives as long as the server: the
// kernel takes the death of that thread for the parent's.
func (s *Server) run() error {
	s.ended = make(chan struct{})
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		defer close(s.ended)
		command, err := s.launch()
		started <- err
		for err == nil {
			_ = command.Wait() // how it ended is in its log
			s.mu.Lock()
			again := s.up && !s.stopping
			s.mu.Unlock()
			if !again {
				return
			}
			slog.Error("the database server ended by itself and is started again", "log", s.logFile())
			time.Sleep(200 * time.Millisecond)
			command, err = s.launch()
		}
	}()
	return <-started
}

var errStopping = errors.New("the database server is stopping")

func (s *Server) launch() (*exec.Cmd, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopping {
		return nil, errStopping
	}
	command := exec.Command(s.arguments[0], s.arguments[1:]...)
	command.SysProcAttr = &syscall.SysProcAttr{
		Setpgid:   true,            // a Ctrl-C is for us; we stop the server in order
		Pdeathsig: syscall.SIGTERM, // and if we die without a word, it ends too
	}
	err := command.Start()
	s.process = command.Process
	return command, err
}

func (s *Server) initialise(ctx context.Context, username string) error {
	program, err := find("mariadb-install-db")
	if err != nil {
		return err
	}
	// A folder left half made by an earlier attempt holds nothing of value.
	if err := os.RemoveAll(s.dataFolder()); err != nil {
		return err
	}
	slog.Info("making the database", "folder", s.dataFolder())
	out, err := exec.CommandContext(ctx, program, "--no-defaults", "--datadir="+s.dataFolder(), "--tmpdir="+s.tempFolder(), "--user="+username,
		"--skip-test-db", "--auth-root-authentication-method=socket", "--auth-root-socket-user="+username).CombinedOutput()
	if err != nil {
		return fmt.Errorf("making the database: %w\n%s", err, out)
	}
	return nil
}

// passwordIn returns the password in a file, and makes one when there is none.
func passwordIn(path string) (string, error) {
	if text, err := os.ReadFile(path); err == nil && len(text) > 0 {
		return string(text), nil
	}
	password := rand.Text()
	if err := os.WriteFile(path, []byte(password), 0o600); err != nil {
		return "", fmt.Errorf("writing the database password: %w", err)
	}
	return password, nil
}

// Stop ends the server in order and waits for it.
func (s *Server) Stop() {
	defer s.lock.Close()
	s.end(syscall.SIGTERM)
	select {
	case <-s.ended:
	case <-time.After(20 * time.Second):
		s.end(syscall.SIGKILL)
		<-s.ended
	}
}

// end sends the server a signal and does not start it again.
func (s *Server) end(signal os.Signal) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stopping = true
	if s.process != nil {
		_ = s.process.Signal(signal) // it may have ended already
	}
}

// Crash kills the server like a power cut would, for tests of what happens
// then; it is started again.
func (s *Server) Crash() {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.process.Kill()
}

func find(program string) (string, error) {
	if path, err := exec.LookPath(program); err == nil {
		return path, nil
	}
	for _, folder := range []string{"/usr/sbin", "/usr/bin"} {
		if _, err := os.Stat(filepath.Join(folder, program)); err == nil {
			return filepath.Join(folder, program), nil
		}
	}
	return "", fmt.Errorf("%s is not installed; \"make tools\" installs Debian's mariadb-server", program)
}

func tail(path string) string {
	text, err := os.ReadFile(path)
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}
