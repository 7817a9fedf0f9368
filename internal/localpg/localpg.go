// Package localpg runs a private PostgreSQL server from the installed binaries, on loopback, for the demo, the tests, and
// a service that is started without a DSN.
//
// PostgreSQL refuses to run as root; as root, the server runs as the user postgres (or nobody) instead. The server is reported
// to stop when this process dies, however it dies; one that was left over all the same is stopped at the next start.
package localpg

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a running private server.
type Server struct {
	dir      string
	port     int
	password string
	done     chan struct{}
	process  *os.Process
}

// Options say where the server keeps its files, and whether they must survive a power cut.
type Options struct {
	Dir       string // of this server alone; made where it is missing
	Throwaway bool   // for tests: nothing is flushed to disk
}

// ErrNoBinaries is returned where PostgreSQL's server is not installed.
var ErrNoBinaries = errors.New("no PostgreSQL server is installed: install Debian's package postgresql, or name a server in EAGER_RECORDS")

// Start makes the cluster where there is none yet, and starts a server for it on a free port of 127.0.0.1. It returns when
// the server accepts connections.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	who, err := serverUser()
	if err != nil {
		return nil, err
	}
	dir, err := reachable(o.Dir, who)
	if err != nil {
		return nil, err
	}
	if err := makeDir(dir, who); err != nil {
		return nil, err
	}
	data, passwordFile := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err != nil {
		if err := initialise(ctx, bin, data, passwordFile, who); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(passwordFile)
	if err != nil {
		return nil, fmt.Errorf("read the private server's password: %w", err)
	}
	stopLeftover(data)
	s := &Server{dir: dir, password: strings.TrimSpace(string(password))}
	// Another process may take the free port before the server does; then the next one is tried.
	for range 3 {
		if err = s.launch(ctx, bin, data, o.Throwaway, who); err == nil {
			return s, nil
		}
	}
	return nil, err
}

// DSN is the connection string for one of the server's databases.
func (s *Server) DSN(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("eager", s.password), Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(s.port)),
		Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// CreateDatabase makes a database and reports whether it was missing. An empty template is PostgreSQL's own.
func (s *Server) CreateDatabase(ctx context.Context, name, template string) (bool, error) {
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		return false, fmt.Errorf("connect to the private server: %w", err)
	}
	defer conn.Close(ctx)
	var exists bool
	if err := conn.QueryRow(ctx, "select exists (select from pg_database where datname = $1)", name).Scan(&exists); err != nil || exists {
		return false, err
	}
	sql := "create database " + pgx.Identifier{name}.Sanitize()
	if template != "" {
		sql += " template " + pgx.Identifier{template}.Sanitize()
		var version int
		if err := conn.QueryRow(ctx, "select current_setting('server_version_num')::int").Scan(&version); err != nil {
			return false, err
		}
		if version >= 150000 { // copying files is faster where nothing has to reach the disk
			sql += " strategy file_copy"
		}
	}
	if _, err := conn.Exec(ctx, sql); err != nil {
		return false, fmt.Errorf("create database %q: %w", name, err)
	}
	return true, nil
}

// DropDatabase removes a database and throws out whoever is connected to it.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		return fmt.Errorf("connect to the private server: %w", err)
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "drop database if exists "+pgx.Identifier{name}.Sanitize()+" with (force)")
	return err
}

// Stop shuts the server down and waits until it is gone.
func (s *Server) Stop() error {
	if err := s.process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return fmt.Errorf("stop the private server: %w", err)
	}
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		_ = s.process.Signal(syscall.SIGQUIT)
		<-s.done
	}
	return nil
}

// Remove stops the server and deletes its files.
func (s *Server) Remove() error {
	if err := s.Stop(); err != nil {
		return err
	}
	return os.RemoveAll(s.dir)
}

// launch starts the server process and waits until it accepts connections.
func (s *Server) launch(ctx context.Context, bin, data string, throwaway bool, who *account) error {
	port, err := freePort()
	if err != nil {
		return err
	}
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=200", "-c", "shared_buffers=128MB", "-c", "log_min_messages=warning"}
	if throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	cmd := who.command(filepath.Join(bin, "postgres"), args...)
	log, err := os.OpenFile(filepath.Join(s.dir, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	// A group of its own keeps Ctrl-C for us: requests finish before the database goes.
	cmd.SysProcAttr.Setpgid = true
	cmd.SysProcAttr.Pdeathsig = syscall.SIGINT
	started, done := make(chan error), make(chan struct{})
	go func() {
		// The kernel sends the death signal when the thread that started the child ends, so that thread must stay.
		runtime.LockOSThread()
		defer close(done)
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("start %s: %w", cmd.Path, err)
	}
	s.port, s.process, s.done = port, cmd.Process, done
	if err := s.ready(ctx); err != nil {
		_ = s.Stop()
		said, _ := os.ReadFile(log.Name())
		return fmt.Errorf("the private PostgreSQL server did not start: %w\n%s", err, bytes.TrimSpace(said))
	}
	return nil
}

// ready waits until the server answers, at most half a minute.
func (s *Server) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.DSN("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.done:
			return errors.New("it ended at once")
		case <-ctx.Done():
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// initialise makes a new cluster with a random password. It works in a folder beside and renames it when it is complete, so
// that a killed start leaves nothing half made.
func initialise(ctx context.Context, bin, data, passwordFile string, who *account) error {
	random := make([]byte, 18)
	if _, err := rand.Read(random); err != nil {
		return err
	}
	if err := os.WriteFile(passwordFile, []byte(hex.EncodeToString(random)), 0o600); err != nil {
		return err
	}
	if err := who.own(passwordFile); err != nil {
		return err
	}
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	cmd := who.command(filepath.Join(bin, "initdb"), "-D", half, "-U", "eager", "--pwfile", passwordFile, "-A", "scram-sha-256",
		"-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make a PostgreSQL cluster in %s: %w\n%s", data, err, bytes.TrimSpace(out))
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return os.Rename(half, data)
}

// stopLeftover ends a server of these files that outlived the service which had started it, and what a server has left behind that was
// killed: processes of its own that still end, and the file that says it runs.
func stopLeftover(data string) {
	lock := filepath.Join(data, "postmaster.pid")
	content, err := os.ReadFile(lock)
	if err != nil {
		return
	}
	first, _, _ := strings.Cut(string(content), "\n")
	pid, _ := strconv.Atoi(strings.TrimSpace(first))
	running := processesIn(data)
	if slices.Contains(running, pid) {
		_ = syscall.Kill(pid, syscall.SIGINT)
		running = waitForEnd(data, 10*time.Second)
	} else {
		running = waitForEnd(data, 2*time.Second) // they notice by themselves that their server is gone
	}
	for _, pid := range running {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	if len(waitForEnd(data, 5*time.Second)) == 0 {
		_ = os.Remove(lock) // its number may be another process's by now
	}
}

// waitForEnd waits until no process works in a folder any more, and returns those that do all the same.
func waitForEnd(dir string, most time.Duration) []int {
	for end := time.Now().Add(most); ; time.Sleep(20 * time.Millisecond) {
		if running := processesIn(dir); len(running) == 0 || time.Now().After(end) {
			return running
		}
	}
}

// processesIn are the processes that work in a folder, as those of a server do in that of its files.
func processesIn(dir string) (pids []int) {
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	links, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range links {
		if at, err := os.Readlink(link); err == nil && at == dir {
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil {
				pids = append(pids, pid)
			}
		}
	}
	return pids
}

// binaries is the folder of the newest installed server.
func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	sort.Slice(found, func(i, j int) bool { return version(found[i]) > version(found[j]) })
	if len(found) > 0 {
		return filepath.Dir(found[0]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			return filepath.Dir(real), nil
		}
	}
	return "", ErrNoBinaries
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// account is the system user that the server runs as; the zero value is the current one.
type account struct {
	uid, gid uint32
	other    bool
}

func serverUser() (*account, error) {
	if os.Geteuid() != 0 {
		return &account{}, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &account{uid: uint32(uid), gid: uint32(gid), other: true}, nil
		}
	}
	return nil, errors.New("PostgreSQL does not run as root, and there is no user postgres or nobody to run it as")
}

func (a *account) command(path string, args ...string) *exec.Cmd {
	cmd := exec.Command(path, args...)
	cmd.Dir = "/"
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TZ=UTC")
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	if a.other {
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: a.uid, Gid: a.gid}
	}
	return cmd
}

func (a *account) own(path string) error {
	if !a.other {
		return nil
	}
	return os.Chown(path, int(a.uid), int(a.gid))
}

func makeDir(dir string, who *account) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make the private server's folder: %w", err)
	}
	if err := who.own(dir); err != nil {
		return err
	}
	return os.Chmod(dir, 0o700)
}

// reachable is the folder itself, or, where the server runs as another user that may not enter one of the folders above
// it (such as /root), a folder of the same meaning under /var/lib.
func reachable(dir string, who *account) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil || !who.other {
		return dir, err
	}
	for above := filepath.Dir(dir); ; above = filepath.Dir(above) {
		if info, err := os.Stat(above); err == nil && info.Mode().Perm()&0o001 == 0 {
			sum := sha256.Sum256([]byte(dir))
			return filepath.Join("/var/lib/eager-window", hex.EncodeToString(sum[:6])), nil
		}
		if above == filepath.Dir(above) {
			return dir, nil
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, fmt.Errorf("find a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
