package server

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"time"
)

// StartPooler starts a pooler before the server that shares sessions between
// transactions, and gives the URL of a database by way of it. stop ends it.
func (p *Postgres) StartPooler(database string) (url string, stop func(), err error) {
	program, err := exec.LookPath("pgbouncer")
	if err != nil {
		if program = "/usr/sbin/pgbouncer"; !exists(program) {
			return "", nil, errors.New("no pooler is installed: apt-get install pgbouncer")
		}
	}
	dir, err := os.MkdirTemp("", "lastboard-pool")
	if err != nil {
		return "", nil, err
	}
	who, err := unprivileged(dir, "postgres")
	if err != nil {
		return "", nil, err
	}
	port, err := FreePort()
	if err != nil {
		return "", nil, err
	}
	config := fmt.Sprintf("[databases]\n* = host=127.0.0.1 port=%d user=postgres\n[pgbouncer]\nlisten_addr = "+
		"127.0.0.1\nlisten_port = %d\nauth_type = any\npool_mode = transaction\nunix_socket_dir "+
		"=\nignore_startup_parameters = extra_float_digits,search_path\n", p.Port, port)
	file := filepath.Join(dir, "pooler.ini")
	if err := os.WriteFile(file, []byte(config+"server_tls_sslmode = disable\n"), 0o644); err != nil {
		return "", nil, err
	}
	c := exec.Command(program, file)
	c.SysProcAttr, c.Dir, c.Env = who, dir, environment(dir)
	started := make(chan error)
	ended := make(chan struct{})
	go func() {
		runtime.LockOSThread()
		err := c.Start()
		started <- err
		if err == nil {
			c.Wait()
			close(ended)
		}
	}()
	if err := <-started; err != nil {
		return "", nil, err
	}
	time.Sleep(300 * time.Millisecond)
	return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s", port, database), func() {
		c.Process.Kill()
		<-ended
		os.RemoveAll(dir)
	}, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}
