package records

import (
	"metaplasis/internal/retry"

	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Server is a mariadbd of our own: on loopback, with its own data folder, and gone when we are.
// When it ends against our will it is started again, on the same port, for as long as it takes.
type Server struct {
	DSN    string
	Socket string // where the owning user, and nobody else, gets in as Owner without a password
	Owner  string // the name of that account: root, or who runs this process
	Log    string // the server's own log

	program  string
	args     []string
	conf     *mysql.Config
	pidFile  string
	lock     *os.File // held as long as the server is ours
	logger   *slog.Logger
	stopping chan struct{}
	stopped  chan struct{} // the keeper has ended

	mu       sync.Mutex
	cmd      *exec.Cmd
	done     chan struct{} // the process of cmd has ended
	down     error         // why it does not run now, nil while it does
	restarts int
}

const (
	databaseName = "metaplasis"
	startTimeout = 60 * time.Second
	stopTimeout  = 20 * time.Second

	// Pauses between two attempts to start a server that ended.
	restartFirst   = 250 * time.Millisecond
	restartLongest = 30 * time.Second
)

// setupStatements leave two accounts, whatever the folder's earlier life was: owner for the socket,
// known by the operating system's user, and ours for loopback, with a strong password and rights on
// its own database alone. They run before the server takes its first connection.
func setupStatements(owner, password string) string {
	var b strings.Builder
	for _, table := range []string{"global_priv", "db", "tables_priv", "columns_priv", "procs_priv", "proxies_priv",
		"roles_mapping"} {
		// Internal views are defined by mariadb.sys, which is locked.
		fmt.Fprintf(&b, "DELETE FROM mysql.%s WHERE User <> 'mariadb.sys';\n", table)
	}
	fmt.Fprintf(&b, "FLUSH PRIVILEGES;\n")
	fmt.Fprintf(&b, "CREATE USER '%s'@'localhost' IDENTIFIED VIA unix_socket;\nGRANT ALL ON *.* TO '%s'@'localhost' WITH GRANT OPTION;\n", owner, owner)
	fmt.Fprintf(&b, "CREATE DATABASE IF NOT EXISTS %s;\nCREATE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s';\nGRANT ALL ON %s.* TO '%s'@'127.0.0.1';\n",
		databaseName, databaseName, password, databaseName, databaseName)
	return b.String()
}

// owner names the account of the user who runs this process.
func owner() string {
	u, err := user.Current()
	if err != nil || !accountName.MatchString(u.Username) {
		return "root"
	}
	return u.Username
}

var accountName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,32}$`)

// StartServer starts a MariaDB server whose data lives in dir. A server that a crash left on the
// same folder is stopped first; no other server is touched, and a folder that a running service
// uses is refused.
func StartServer(ctx context.Context, dir string, logger *slog.Logger) (_ *Server, err error) {
	program, err := find("mariadbd", "mysqld")
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if err := privateFolder(dir); err != nil {
		return nil, err
	}
	lock, err := lockFolder(dir)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = lock.Close()
		}
	}()
	if err := stopLeftover(dir, data); err != nil {
		return nil, err
	}
	if err := install(ctx, data, logger); err != nil {
		return nil, err
	}
	password, err := secretFile(filepath.Join(dir, "password"))
	if err != nil {
		return nil, err
	}
	// The accounts are set at every start, so that the folder and the password file always agree.
	setup := filepath.Join(dir, "setup.sql")
	name := owner()
	if err := os.WriteFile(setup, []byte(setupStatements(name, password)), 0o600); err != nil {
		return nil, fmt.Errorf("setup of the database: %w", err)
	}
	// SQL reads and writes no files: only an empty folder would be allowed, and only to the owner.
	files := filepath.Join(dir, "files")
	if err := privateFolder(files); err != nil {
		return nil, err
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s := &Server{
		Socket: filepath.Join(data, "s"), Owner: name, Log: filepath.Join(dir, "mariadbd.log"), pidFile: filepath.Join(dir,
			"mariadbd.pid"),
		program: program, lock: lock, logger: logger, stopping: make(chan struct{}), stopped: make(chan struct{}),
	}
	s.args = []string{
		"--no-defaults", "--datadir=" + data, "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port),
		"--socket=" + s.Socket, "--pid-file=" + s.pidFile, "--init-file=" + setup,
		"--log-error=" + s.Log, "--skip-name-resolve", "--innodb-buffer-pool-size=32M", "--innodb-log-file-size=16M",
		"--max-connections=64", "--performance-schema=OFF", "--key-buffer-size=1M",
		"--local-infile=0", "--secure-file-priv=" + files, "--event-scheduler=DISABLED", "--skip-symbolic-links",
	}
	if os.Geteuid() == 0 {
		s.args = append(s.args, "--user=root")
	}
	s.conf = mysql.NewConfig()
	s.conf.User, s.conf.Passwd, s.conf.Net, s.conf.Addr, s.conf.DBName = databaseName, password, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), databaseName
	s.DSN = s.conf.FormatDSN()
	if err := s.start(ctx); err != nil {
		return nil, err
	}
	go s.supervise()
	return s, nil
}

// privateFolder makes a folder that nobody else may enter, and takes others' rights on one that is
// there away.
func privateFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("folder of the database: %w", err)
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return fmt.Errorf("folder of the database: %w", err)
	}
	return nil
}

func find(names ...string) (string, error) {
	for _, n := range names {
		for _, dir := range []string{"", "/usr/sbin/", "/usr/local/sbin/", "/usr/libexec/"} {
			if p, err := exec.LookPath(dir + n); err == nil {
				return p, nil
			}
		}
	}
	return "", fmt.Errorf("%s is not installed: install Debian's mariadb-server, or give the DSN of another MariaDB",
		names[0])
}

// lockFolder claims a folder for this process. The kernel gives the claim up with the process,
// also after kill -9, so that a lock that holds means a service that runs.
func lockFolder(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("folder of the database: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("another service is running on %s: stop it first, or give this one another data folder", dir)
	}
	return f, nil
}

// stopLeftover stops the server that a crashed service of this folder left behind. It knows it by
// the pid file and by the folder on its command line.
func stopLeftover(dir, data string) error {
	b, err := os.ReadFile(filepath.Join(dir, "mariadbd.pid"))
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || pid <= 1 || !runsOn(pid, data) {
		return nil
	}
	// A server that is just starting may miss a signal, so it is told again; one that does not
	// listen at all is killed, which its tables survive.
	for i, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGTERM, syscall.SIGTERM, syscall.SIGTERM,
		syscall.SIGKILL} {
		_ = syscall.Kill(pid, sig)
		for deadline := time.Now().Add(time.Duration(1+2*i) * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			if !runsOn(pid, data) {
				return nil
			}
		}
	}
	return fmt.Errorf("an earlier database server (process %d) still holds %s and does not stop; end it, then start again",
		pid, data)
}

func runsOn(pid int, data string) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(b, []byte("--datadir="+data+"\x00"))
}

// install makes the system tables of a new data folder.
func install(ctx context.Context, data string, logger *slog.Logger) error {
	if _, err := os.Stat(filepath.Join(data, "mysql")); err == nil {
		return nil
	}
	program, err := find("mariadb-install-db", "mysql_install_db")
	if err != nil {
		return err
	}
	logger.Info("making a new database", "folder", data)
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return fmt.Errorf("folder of the database: %w", err)
	}
	if err := privateFolder(half); err != nil {
		return err
	}
	args := []string{"--no-defaults", "--datadir=" + half, "--auth-root-authentication-method=normal", "--skip-test-db",
		"--skip-name-resolve", "--innodb-log-file-size=16M"}
	if os.Geteuid() == 0 {
		args = append(args, "--user=root")
	}
	out, err := exec.CommandContext(ctx, program, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("making the database: %w: %s", err, lastLines(out, 5))
	}
	// Renamed only when whole: a crash in the middle leaves nothing that looks like a database.
	return os.Rename(half, data)
}

func lastLines(b []byte, n int) string {
	l := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(l[max(0, len(l)-n):], "\n")
}

func secretFile(path string) (string, error) {
	if b, err := os.ReadFile(path); err == nil && len(bytes.TrimSpace(b)) > 0 {
		return string(bytes.TrimSpace(b)), nil
	}
	secret := NewSecret()
	if err := os.WriteFile(path, []byte(secret+"\n"), 0o600); err != nil {
		return "", fmt.Errorf("password of the database: %w", err)
	}
	return secret, nil
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("a port for the database: %w", err)
	}
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// start runs the server until it answers. The process belongs to a thread that lives as long as the
// service: the kernel ends the child with the thread that made it, so that not even kill -9 leaves a
// server behind.
func (s *Server) start(ctx context.Context) error {
	_ = os.Remove(s.pidFile)
	cmd := exec.Command(s.program, s.args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	started, done := make(chan error), make(chan struct{})
	go func() {
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
			close(done)
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting %s: %w", s.program, err)
	}
	s.mu.Lock()
	s.cmd, s.done = cmd, done
	s.mu.Unlock()
	if err := s.wait(ctx, done); err != nil {
		_ = end(cmd, done)
		return err
	}
	return nil
}

func (s *Server) wait(ctx context.Context, done <-chan struct{}) error {
	ctx, cancel := context.WithTimeout(ctx, startTimeout)
	defer cancel()
	conf := s.conf.Clone()
	conf.Logger = &mysql.NopLogger{} // it is expected to fail at first
	connector, err := mysql.NewConnector(conf)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	db := sql.OpenDB(connector)
	defer func() { _ = db.Close() }()
	for {
		// The port listens before the server is ready; an answer over it means that it is.
		err := db.PingContext(ctx)
		if _, noFile := os.Stat(s.pidFile); err == nil && noFile == nil {
			return nil
		}
		select {
		case <-done:
			b, _ := os.ReadFile(s.Log)
			return fmt.Errorf("the database server ended at its start; the end of %s says:\n%s", s.Log, lastLines(b, 8))
		case <-ctx.Done():
			return fmt.Errorf("the database server did not answer within %v: %w", startTimeout, err)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// supervise starts the server again whenever it has ended, with growing pauses while that fails.
func (s *Server) supervise() {
	defer close(s.stopped)
	pause := retry.New(restartFirst, restartLongest)
	for {
		s.mu.Lock()
		done := s.done
		s.mu.Unlock()
		select {
		case <-s.stopping:
			return
		case <-done:
		}
		s.setDown(errors.New("the database server ended"))
		for {
			next := pause.Next()
			if !pause.Until(s.stopping) {
				return
			}
			ctx, cancel := context.WithCancel(context.Background())
			go func() {
				select {
				case <-s.stopping:
				case <-ctx.Done():
				}
				cancel()
			}()
			err := s.start(ctx)
			cancel()
			if err == nil {
				break
			}
			s.setDown(err)
			s.logger.Error("the database server could not be started again", "error", err, "after", next)
		}
		s.mu.Lock()
		s.restarts++
		s.down = nil
		s.mu.Unlock()
		s.logger.Warn("the database server was started again")
		pause.Reset()
	}
}

func (s *Server) setDown(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.down = err
}

// Down returns how often the server was started again, and why it does not run now, nil while it does.
func (s *Server) Down() (restarts int, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.restarts, s.down
}

// Stop ends the server in good order.
func (s *Server) Stop() error {
	defer func() { _ = s.lock.Close() }()
	close(s.stopping)
	<-s.stopped
	s.mu.Lock()
	cmd, done := s.cmd, s.done
	s.mu.Unlock()
	return end(cmd, done)
}

// end stops a process, by force when it does not listen.
func end(cmd *exec.Cmd, done <-chan struct{}) error {
	_ = cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-done:
		return nil
	case <-time.After(stopTimeout):
		_ = cmd.Process.Kill()
		<-done
		return errors.New("the database server did not stop in time and was killed")
	}
}
