// Package server starts private database servers for tests and benchmarks: from the
// programs that are installed, in a temporary folder, on a free port, as a user without
// rights. A server that already runs on the machine is never touched.
package server

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Postgres is a PostgreSQL server of one's own.
type Postgres struct {
	Bin  string // the folder of its programs
	Dir  string
	Port int

	running
	made     atomic.Int64
	who      *syscall.SysProcAttr
	settings []string
}

// PostgresBin finds the programs of the server: in the folder that LASTBOARD_POSTGRES
// names, else the newest that is installed.
func PostgresBin() (string, error) {
	if folder := os.Getenv("LASTBOARD_POSTGRES"); folder != "" {
		return folder, nil
	}
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil {
		return "", err
	}
	slices.SortFunc(found, func(a, b string) int { return major(a) - major(b) })
	if len(found) > 0 {
		return filepath.Dir(found[len(found)-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(real), nil
		}
	}
	return "", errors.New("no PostgreSQL server is installed: apt-get install postgresql")
}

func major(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// StartPostgres makes a server in a new temporary folder and starts it. settings are
// added to its own: "max_connections = 50". Stop ends it; so does the end of this
// program, however it comes.
func StartPostgres(settings ...string) (*Postgres, error) {
	bin, err := PostgresBin()
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "lastboard-pg")
	if err != nil {
		return nil, err
	}
	p := &Postgres{Bin: bin, Dir: dir}
	if err := p.start(settings); err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	return p, nil
}

func (p *Postgres) start(settings []string) error {
	who, err := unprivileged(p.Dir, "postgres")
	if err != nil {
		return err
	}
	data := filepath.Join(p.Dir, "data")
	initdb := exec.Command(filepath.Join(p.Bin, "initdb"), "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8",
		"--locale=C", "--no-sync")
	initdb.SysProcAttr, initdb.Dir, initdb.Env = who, p.Dir, environment(p.Dir)
	if out, err := initdb.CombinedOutput(); err != nil {
		return fmt.Errorf("making a server: %w\n%s", err, out)
	}
	if err := certificates(p.Dir, who); err != nil {
		return err
	}
	// One user needs a password, so that it can be wrong.
	rules := "hostnossl all pilot 127.0.0.1/32 reject\nhost all guarded 127.0.0.1/32 scram-sha-256\nhost all all " +
		"127.0.0.1/32 trust\nlocal all all trust\nlocal replication all trust\nhost replication all 127.0.0.1/32 trust\n"
	if err := os.WriteFile(filepath.Join(data, "pg_hba.conf"), []byte(rules), 0o644); err != nil {
		return err
	}
	if p.Port, err = FreePort(); err != nil {
		return err
	}
	p.who, p.settings = who, settings
	if err := p.Start(); err != nil {
		return err
	}
	c, err := pgx.Connect(context.Background(), p.URL("postgres"))
	if err != nil {
		return errors.Join(err, p.Stop())
	}
	_, err = c.Exec(context.Background(), "create role guarded login password 'tidewater'")
	return errors.Join(err, c.Close(context.Background()))
}

// Start starts the server that was made, and waits until it answers.
func (p *Postgres) Start() error {
	args := []string{"-D", filepath.Join(p.Dir, "data"), "-k", p.Dir, "-p", strconv.Itoa(p.Port)}
	for _, s := range append([]string{
		"listen_addresses = 127.0.0.1", "fsync = off", "full_page_writes = off", "max_connections = 200",
		"logging_collector = off", "log_min_messages = fatal", "shared_buffers = 128MB",
		"max_wal_size = 2GB", "autovacuum_naptime = 5s", "ssl = on", "ssl_cert_file = " + filepath.Join(p.Dir, "server.pem"),
		"ssl_key_file = " + filepath.Join(p.Dir, "server.key"),
	}, p.settings...) {
		args = append(args, "-c", strings.ReplaceAll(s, " = ", "="))
	}
	if err := p.launch(exec.Command(filepath.Join(p.Bin, "postgres"), args...), p.who, p.Dir); err != nil {
		return err
	}
	for range 200 {
		if c, err := pgx.Connect(context.Background(), p.URL("postgres")); err == nil {
			return c.Close(context.Background())
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.Join(p.silent(p.Dir), p.Stop())
}

// Replica makes a server that follows this one by a slot of its name, and starts it.
func (p *Postgres) Replica(name string) (*Postgres, error) {
	dir, err := os.MkdirTemp("", "lastboard-pg")
	if err != nil {
		return nil, err
	}
	r := &Postgres{Bin: p.Bin, Dir: dir, settings: []string{"cluster_name = " + name, "hot_standby = on"}}
	start := func() error {
		if r.who, err = unprivileged(dir, "postgres"); err != nil {
			return err
		}
		copying := exec.Command(filepath.Join(p.Bin, "pg_basebackup"), "-h", p.Dir, "-p", strconv.Itoa(p.Port), "-U",
			"postgres", "-D", filepath.Join(dir, "data"), "-R", "-C", "-S", name, "-c", "fast", "--no-sync")
		copying.SysProcAttr, copying.Dir, copying.Env = r.who, dir, environment(dir)
		if out, err := copying.CombinedOutput(); err != nil {
			return fmt.Errorf("copying a server: %w\n%s", err, out)
		}
		if err := certificates(dir, r.who); err != nil {
			return err
		}
		if r.Port, err = FreePort(); err != nil {
			return err
		}
		return r.Start()
	}
	if err := start(); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	return r, nil
}

// Kill ends the server as a failure of the machine would.
func (p *Postgres) Kill() error { return p.end(syscall.SIGQUIT) }

// URL gives the address of a database on the server.
func (p *Postgres) URL(database string) string {
	return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s", p.Port, database)
}

// Database makes a new database and gives its name.
func (p *Postgres) Database() (string, error) {
	ctx := context.Background()
	c, err := pgx.Connect(ctx, p.URL("postgres"))
	if err != nil {
		return "", err
	}
	defer c.Close(ctx)
	name := fmt.Sprintf("harbour_%d", p.made.Add(1))
	_, err = c.Exec(ctx, "create database "+name)
	return name, err
}

// Drop takes a database away, whoever is using it.
func (p *Postgres) Drop(database string) error {
	ctx := context.Background()
	c, err := pgx.Connect(ctx, p.URL("postgres"))
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	_, err = c.Exec(ctx, "drop database if exists "+database+" with (force)")
	return err
}

// Stop ends the server and takes its folder away.
func (p *Postgres) Stop() error { return errors.Join(p.end(syscall.SIGINT), os.RemoveAll(p.Dir)) }
