package server

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// MariaDB is a MariaDB server of one's own.
type MariaDB struct {
	Dir  string
	Port int

	running
	made     atomic.Int64
	who      *syscall.SysProcAttr
	settings []string
}

// MariaDBBin finds a program of the server: in the folder that LASTBOARD_MARIADB names,
// else the installed one.
func MariaDBBin(name string) (string, error) {
	if folder := os.Getenv("LASTBOARD_MARIADB"); folder != "" {
		return filepath.Join(folder, name), nil
	}
	path, err := exec.LookPath(name)
	if err != nil {
		if path = filepath.Join("/usr/sbin", name); !exists(path) {
			return "", errors.New("no MariaDB server is installed: apt-get install mariadb-server")
		}
	}
	return path, nil
}

// StartMariaDB makes a server in a new temporary folder and starts it. settings are added
// to its own: "log-bin". Stop ends it; so does the end of this program, however it comes.
func StartMariaDB(settings ...string) (*MariaDB, error) {
	dir, err := os.MkdirTemp("", "lastboard-my")
	if err != nil {
		return nil, err
	}
	m := &MariaDB{Dir: dir}
	if err := m.start(settings); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	return m, nil
}

func (m *MariaDB) start(settings []string) error {
	install, err := MariaDBBin("mariadb-install-db")
	if err != nil {
		return err
	}
	who, err := unprivileged(m.Dir, "mysql")
	if err != nil {
		return err
	}
	data := filepath.Join(m.Dir, "data")
	make := exec.Command(install, "--no-defaults", "--datadir="+data, "--tmpdir="+m.Dir,
		"--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve")
	make.SysProcAttr, make.Dir, make.Env = who, m.Dir, environment(m.Dir)
	if out, err := make.CombinedOutput(); err != nil {
		return fmt.Errorf("making a server: %w\n%s", err, out)
	}
	if err := certificates(m.Dir, who); err != nil {
		return err
	}
	if m.Port, err = FreePort(); err != nil {
		return err
	}
	m.who, m.settings = who, settings
	return m.Start()
}

// Start starts the server that was made, and waits until it answers.
func (m *MariaDB) Start() error {
	server, err := MariaDBBin("mariadbd")
	if err != nil {
		return err
	}
	args := []string{
		"--no-defaults", "--datadir=" + filepath.Join(m.Dir, "data"), "--tmpdir=" + m.Dir, "--socket=" + m.Socket(),
		"--port=" + strconv.Itoa(m.Port), "--bind-address=127.0.0.1", "--pid-file=" + filepath.Join(m.Dir, "pid"),
		"--skip-name-resolve",
		"--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--innodb-flush-method=nosync", "--sync-frm=0",
		"--innodb-buffer-pool-size=256M", "--innodb-log-file-size=256M", "--max-connections=200",
		"--character-set-server=latin1", "--sql-mode=", // what a careless server has must not matter
		"--ssl-cert=" + filepath.Join(m.Dir, "server.pem"), "--ssl-key=" + filepath.Join(m.Dir, "server.key"),
	}
	// The folder for temporary files is its own: a server that starts takes those of others away.
	for _, s := range m.settings {
		args = append(args, "--"+s)
	}
	if err := m.launch(exec.Command(server, args...), m.who, m.Dir); err != nil {
		return err
	}
	for range 400 {
		if err := m.Exec("", "create user if not exists root@'127.0.0.1'",
			"grant all on *.* to root@'127.0.0.1' with grant option",
			"create user if not exists guarded@'127.0.0.1' identified by 'tidewater'",
			"create user if not exists pilot@'127.0.0.1' require ssl"); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.Join(m.silent(m.Dir), m.Stop())
}

// Replica makes a server that follows this one, which writes a binary log, from its
// beginning, and starts it.
func (m *MariaDB) Replica(id int) (*MariaDB, error) {
	r, err := StartMariaDB(fmt.Sprintf("server-id=%d", id))
	if err != nil {
		return nil, err
	}
	if err := r.Exec("", fmt.Sprintf("change master to master_host='127.0.0.1', master_port=%d, master_user='root', "+
		"master_use_gtid=no, master_log_file='log.000001', master_log_pos=4, master_connect_retry=1", m.Port),
		"start slave"); err != nil {
		return nil, errors.Join(err, r.Stop())
	}
	return r, nil
}

// Kill ends the server as a failure of the machine would.
func (m *MariaDB) Kill() error { return m.end(syscall.SIGKILL) }

// explain adds to an error of a server that is not there what it said at last.
func (m *MariaDB) explain(err error) error {
	var away *net.OpError
	if errors.As(err, &away) {
		return errors.Join(err, m.ended(m.Dir))
	}
	return err
}

// Socket is the server's socket.
func (m *MariaDB) Socket() string { return filepath.Join(m.Dir, "s") }

// Exec runs statements by way of the socket.
func (m *MariaDB) Exec(database string, statements ...string) error {
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName, c.Logger = "root", "unix", m.Socket(), database, &mysql.NopLogger{}
	db, err := sql.Open("mysql", c.FormatDSN())
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, s := range statements {
		if _, err := db.ExecContext(context.Background(), s); err != nil {
			return m.explain(fmt.Errorf("%s: %w", s, err))
		}
	}
	return nil
}

// URL gives the address of a database on the server.
func (m *MariaDB) URL(database string) string {
	return fmt.Sprintf("mariadb://root@127.0.0.1:%d/%s", m.Port, database)
}

// DSN gives the address as the driver has it, for sessions in which names and texts are
// written as on the other engines.
func DSN(url string) string {
	user, rest, _ := strings.Cut(strings.TrimPrefix(url, "mariadb://"), "@")
	address, database, _ := strings.Cut(rest, "/")
	return user + "@tcp(" + address + ")/" + database +
		"?multiStatements=true&collation=utf8mb4_nopad_bin&group_concat_max_len=16777216&time_zone=%27%2B00%3A00%27" +
		"&sql_mode=%27ANSI_QUOTES%2CPIPES_AS_CONCAT%2CNO_BACKSLASH_ESCAPES%2C" +
		"STRICT_ALL_TABLES%2CNO_AUTO_VALUE_ON_ZERO%27"
}

// Database makes a new database and gives its name.
func (m *MariaDB) Database() (string, error) {
	name := fmt.Sprintf("harbour_%d", m.made.Add(1))
	return name, m.Exec("", "create database "+name)
}

// Drop takes a database away.
func (m *MariaDB) Drop(database string) error {
	var err error
	for range 50 { // its folder may hold files for a moment that the server is still taking away
		err = m.Exec("", "drop database if exists "+database, "drop database if exists lastboard_"+database)
		if err == nil || !strings.Contains(err.Error(), "Directory not empty") {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	left, _ := filepath.Glob(filepath.Join(m.Dir, "data", "*"+database, "*"))
	return fmt.Errorf("%w; there are still %s", err, strings.Join(left, ", "))
}

// Stop ends the server and takes its folder away.
func (m *MariaDB) Stop() error {
	return errors.Join(m.end(syscall.SIGTERM), os.RemoveAll(m.Dir))
}
