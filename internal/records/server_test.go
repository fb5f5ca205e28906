package records

import (
	"context"
	"database/sql"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asOwner runs statements as the owning user, over the socket.
func asOwner(t *testing.T, s *Server, statements string) string {
	t.Helper()
	out, err := exec.Command("mariadb", "--no-defaults", "--socket="+s.Socket, "--user="+s.Owner, "--batch", "--skip-column-names", "-e", statements).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// overTCP tries to get in as a stranger on this machine would.
func overTCP(s *Server, user, password, statement string) error {
	conf := s.conf.Clone()
	conf.User, conf.Passwd, conf.DBName = user, password, ""
	db, err := sql.Open("mysql", conf.FormatDSN())
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	_, err = db.Exec(statement)
	return err
}

func TestStrangersDoNotGetIn(t *testing.T) {
	dir := t.TempDir()
	s, err := StartServer(context.Background(), dir, quiet)
	require.NoError(t, err)
	// A folder as earlier versions left it, and what a stranger may have added.
	asOwner(t, s, `CREATE USER root@'127.0.0.1'; GRANT ALL ON *.* TO root@'127.0.0.1'; CREATE USER ''@'%'; CREATE USER helper@'%' IDENTIFIED BY 'x';
		GRANT ALL ON *.* TO helper@'%'; GRANT ALL ON *.* TO metaplasis@'127.0.0.1'; CREATE TABLE metaplasis.kept (n INT);`)
	require.NoError(t, overTCP(s, "root", "", "SELECT 1"), "the fault is there to be mended")
	require.NoError(t, s.Stop())
	require.NoError(t, os.Chmod(dir, 0o755))

	s, err = StartServer(context.Background(), dir, quiet)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Stop()) }()
	for _, name := range []string{"root", "", "helper", "mysql", "mariadb.sys", s.Owner} {
		for _, password := range []string{"", "x", "root"} {
			var refused *mysql.MySQLError
			assert.ErrorAs(t, overTCP(s, name, password, "SELECT 1"), &refused, "%q with password %q", name, password)
		}
	}
	accounts := strings.Fields(asOwner(t, s, "SELECT CONCAT(User, '@', Host) FROM mysql.global_priv ORDER BY 1"))
	assert.ElementsMatch(t, []string{"mariadb.sys@localhost", "metaplasis@127.0.0.1", s.Owner + "@localhost"}, accounts)
	ours := func(statement string) error { return overTCP(s, s.conf.User, s.conf.Passwd, statement) }
	assert.NoError(t, ours("SELECT COUNT(*) FROM metaplasis.kept"), "what is ours stays")
	target := filepath.Join(t.TempDir(), "written")
	for _, statement := range []string{
		"CREATE DATABASE other", "SELECT * FROM mysql.global_priv", "CREATE USER intruder@'%'", "SET GLOBAL general_log = 1",
		"SELECT 1 INTO OUTFILE '" + target + "'", "SELECT LOAD_FILE('/etc/passwd') + 1 FROM mysql.user",
		"LOAD DATA INFILE '/etc/passwd' INTO TABLE metaplasis.kept", "LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE metaplasis.kept",
	} {
		assert.Error(t, ours(statement), statement)
	}
	assert.NoFileExists(t, target)
	info, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), "only the owner reaches the socket and the password")
	// The owner may do all, but not even he writes files from SQL.
	out, err := exec.Command("mariadb", "--no-defaults", "--socket="+s.Socket, "--user="+s.Owner, "-e", "SELECT 1 INTO OUTFILE '"+target+"'").CombinedOutput()
	assert.Error(t, err, string(out))
	if os.Geteuid() == 0 {
		cmd := exec.Command("mariadb", "--no-defaults", "--socket="+s.Socket, "--user="+s.Owner, "-e", "SELECT 1")
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		out, err := cmd.CombinedOutput()
		assert.Error(t, err, "another user of the machine got in over the socket: %s", out)
	}
}

func TestServerIsStartedAgain(t *testing.T) {
	s, err := StartServer(context.Background(), t.TempDir(), quiet)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Stop()) }()
	db, err := Open(context.Background(), s.DSN)
	require.NoError(t, err)
	defer func() { _ = db.Close() }()
	for i := range 2 {
		s.mu.Lock()
		pid := s.cmd.Process.Pid
		s.mu.Unlock()
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
		require.Eventually(t, func() bool { n, down := s.Down(); return down == nil && n == i+1 }, time.Minute, 20*time.Millisecond)
		require.NoError(t, db.Ping(context.Background()), "the same connections go on")
	}
}
