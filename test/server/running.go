package server

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"time"
)

// running is the process of a server.
type running struct {
	stopped chan error
	process *os.Process
}

// launch starts a server as a user; it writes into the file log of a folder.
func (r *running) launch(server *exec.Cmd, who *syscall.SysProcAttr, dir string) error {
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	server.SysProcAttr, server.Dir, server.Env = who, dir, environment(dir)
	server.Stdout, server.Stderr = log, log
	started := make(chan error)
	r.stopped = make(chan error, 1)
	go func() {
		// The server is told when the thread ends that started it.
		runtime.LockOSThread()
		err := server.Start()
		started <- err
		if err == nil {
			r.stopped <- server.Wait()
		}
	}()
	if err := <-started; err != nil {
		return err
	}
	r.process = server.Process
	return nil
}

// silent is the error of a server that does not answer, with what it has to say.
func (r *running) silent(dir string) error {
	text, _ := os.ReadFile(filepath.Join(dir, "log"))
	return fmt.Errorf("the server does not answer: %s", text)
}

// ended says whether a server has ended by itself, with the end of what it said.
func (r *running) ended(dir string) error {
	select {
	case err := <-r.stopped:
		r.stopped <- err
		text, _ := os.ReadFile(filepath.Join(dir, "log"))
		return fmt.Errorf("the server has ended by itself: %v\n%s", err, text[max(0, len(text)-4000):])
	default:
		text, _ := os.ReadFile(filepath.Join(dir, "log"))
		return fmt.Errorf("the server says\n%s", text[max(0, len(text)-4000):])
	}
}

// end ends a server by a signal, or by force if it does not heed it.
func (r *running) end(s syscall.Signal) error {
	err := r.process.Signal(s)
	select {
	case <-r.stopped:
	case <-time.After(20 * time.Second):
		err = errors.Join(err, r.process.Kill())
		<-r.stopped
	}
	return err
}

// environment gives a server nothing of this program's but what it needs to run.
func environment(dir string) []string {
	return []string{"PATH=/usr/bin:/bin", "HOME=" + dir, "LC_ALL=C", "TZ=UTC",
		"LD_LIBRARY_PATH=" + os.Getenv("LASTBOARD_SERVER_LIBRARIES")}
}

// unprivileged gives what a child needs to run as another user where this one is root,
// and gives that user the folder.
func unprivileged(dir, name string) (*syscall.SysProcAttr, error) {
	who := &syscall.SysProcAttr{Pdeathsig: syscall.SIGQUIT}
	if os.Getuid() != 0 {
		return who, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return nil, err
		}
	}
	uid, err := strconv.Atoi(u.Uid)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.Atoi(u.Gid)
	if err != nil {
		return nil, err
	}
	who.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return who, os.Chown(dir, uid, gid)
}

// certificates makes those of a server that runs as who.
func certificates(dir string, who *syscall.SysProcAttr) error {
	if err := Certificates(dir); err != nil || who.Credential == nil {
		return err
	}
	return os.Chown(filepath.Join(dir, "server.key"), int(who.Credential.Uid), int(who.Credential.Gid))
}

// FreePort finds a port of this machine on which nobody listens.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
