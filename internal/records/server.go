package records

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Server is a mariadbd of our own: on loopback, with its own data folder, and gone when we are.
type Server struct {
	DSN  string
	cmd  *exec.Cmd
	done chan struct{}
	lock *os.File // held as long as the server is ours
}

const (
	databaseName = "metaplasis"
	startTimeout = 60 * time.Second
	stopTimeout  = 20 * time.Second
)

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
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("folder of the database: %w", err)
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
	// The account is set at every start, so that the folder and the password file always agree.
	setup := filepath.Join(dir, "setup.sql")
	statements := fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %s;\nCREATE OR REPLACE USER '%s'@'127.0.0.1' IDENTIFIED BY '%s';\nGRANT ALL ON *.* TO '%s'@'127.0.0.1';\n", databaseName, databaseName, password, databaseName)
	if err := os.WriteFile(setup, []byte(statements), 0o600); err != nil {
		return nil, fmt.Errorf("setup of the database: %w", err)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	errorLog, pidFile := filepath.Join(dir, "mariadbd.log"), filepath.Join(dir, "mariadbd.pid")
	_ = os.Remove(pidFile)
	args := []string{
		"--no-defaults", "--datadir=" + data, "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port),
		"--socket=" + filepath.Join(data, "s"), "--pid-file=" + pidFile, "--init-file=" + setup,
		"--log-error=" + errorLog, "--skip-name-resolve", "--innodb-buffer-pool-size=32M", "--innodb-log-file-size=16M",
		"--max-connections=64", "--performance-schema=OFF", "--key-buffer-size=1M",
	}
	if os.Geteuid() == 0 {
		args = append(args, "--user=root")
	}
	s := &Server{done: make(chan struct{}), lock: lock}
	conf := mysql.NewConfig()
	conf.User, conf.Passwd, conf.Net, conf.Addr, conf.DBName = databaseName, password, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), databaseName
	s.DSN = conf.FormatDSN()
	if err := s.start(program, args); err != nil {
		return nil, err
	}
	if err := s.wait(ctx, conf, errorLog, pidFile); err != nil {
		_ = s.Stop()
		return nil, err
	}
	return s, nil
}

func find(names ...string) (string, error) {
	for _, n := range names {
		for _, dir := range []string{"", "/usr/sbin/", "/usr/local/sbin/", "/usr/libexec/"} {
			if p, err := exec.LookPath(dir + n); err == nil {
				return p, nil
			}
		}
	}
	return "", fmt.Errorf("%s is not installed: install Debian's mariadb-server, or give the DSN of another MariaDB", names[0])
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
	for i, sig := range []syscall.Signal{syscall.SIGTERM, syscall.SIGTERM, syscall.SIGTERM, syscall.SIGTERM, syscall.SIGKILL} {
		_ = syscall.Kill(pid, sig)
		for deadline := time.Now().Add(time.Duration(1+2*i) * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			if !runsOn(pid, data) {
				return nil
			}
		}
	}
	return fmt.Errorf("an earlier database server (process %d) still holds %s and does not stop; end it, then start again", pid, data)
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
	args := []string{"--no-defaults", "--datadir=" + half, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", "--innodb-log-file-size=16M"}
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

// start runs the server on a thread that lives as long as the service: the kernel ends the child
// with the thread that made it, so that not even kill -9 leaves a server behind.
func (s *Server) start(program string, args []string) error {
	s.cmd = exec.Command(program, args...)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	started := make(chan error)
	go func() {
		runtime.LockOSThread()
		err := s.cmd.Start()
		started <- err
		if err == nil {
			_ = s.cmd.Wait()
			close(s.done)
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("starting %s: %w", program, err)
	}
	return nil
}

func (s *Server) wait(ctx context.Context, conf *mysql.Config, errorLog, pidFile string) error {
	ctx, cancel := context.WithTimeout(ctx, startTimeout)
	defer cancel()
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
		if _, noFile := os.Stat(pidFile); err == nil && noFile == nil {
			return nil
		}
		select {
		case <-s.done:
			b, _ := os.ReadFile(errorLog)
			return fmt.Errorf("the database server ended at its start; the end of %s says:\n%s", errorLog, lastLines(b, 8))
		case <-ctx.Done():
			return fmt.Errorf("the database server did not answer within %v: %w", startTimeout, err)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// Gone is closed when the server has ended.
func (s *Server) Gone() <-chan struct{} { return s.done }

// Stop ends the server in good order.
func (s *Server) Stop() error {
	defer func() { _ = s.lock.Close() }()
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.done:
		return nil
	case <-time.After(stopTimeout):
		_ = s.cmd.Process.Kill()
		<-s.done
		return errors.New("the database server did not stop in time and was killed")
	}
}
