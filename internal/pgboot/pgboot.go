// Package pgboot starts Debian's PostgreSQL on loopback in a data folder, and
// stops it. It is for the demo and the tests; a real installation brings its own
// database.
//
// PostgreSQL refuses to run as root, so root runs it as the user postgres. Where
// that user cannot reach the folder (it may lie in root's home), the cluster is put
// under /var/lib/plumlatch instead.
package pgboot

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
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/child"
)

const role = "plumlatch"

// Options say how a Server is to run.
type Options struct {
	// Dir is the data folder; the cluster is kept in Dir/postgres.
	Dir string
	// Port is the loopback port; 0 picks a free one.
	Port int
	// Fast gives up safety against a power cut, and upkeep, for tests.
	Fast bool
}

// Server is a running PostgreSQL.
type Server struct {
	// URL is how to connect, the password in it.
	URL string
	// ServiceURL is how to connect with the role of a service, which owns nothing.
	ServiceURL string
	// Cluster is the folder that holds the database.
	Cluster string

	process *child.Process
	log     string
}

// Start starts PostgreSQL, making the cluster first if there is none. It
// returns when the database answers.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := findBinaries()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, err
	}
	account, err := accountFor()
	if err != nil {
		return nil, err
	}
	home, err := clusterHome(dir, account)
	if err != nil {
		return nil, err
	}
	s := &Server{Cluster: filepath.Join(home, "postgres"), log: filepath.Join(home, "postgres.log")}
	if err := waitForEarlier(ctx, s.Cluster); err != nil {
		return nil, err
	}
	password, err := s.ensureCluster(ctx, bin, home, account)
	if err != nil {
		return nil, err
	}
	if o.Port == 0 {
		if o.Port, err = freePort(); err != nil {
			return nil, err
		}
	}
	if err := s.launch(bin, account, o); err != nil {
		return nil, err
	}
	u := url.URL{
		Scheme:   "postgres",
		User:     url.UserPassword(role, password),
		Host:     net.JoinHostPort("127.0.0.1", strconv.Itoa(o.Port)),
		Path:     "/" + role,
		RawQuery: "sslmode=disable",
	}
	s.URL = u.String()
	err = s.awaitAnswer(ctx)
	if err == nil {
		err = s.ensureServiceRole(ctx, u, password)
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

const serviceRole = "plumlatch_service"

// ensureServiceRole makes the role of the service, whose password is made from the owner's.
func (s *Server) ensureServiceRole(ctx context.Context, u url.URL, password string) error {
	sum := sha256.Sum256([]byte("service role " + password))
	own := hex.EncodeToString(sum[:16])
	conn, err := pgx.Connect(ctx, s.URL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	if err := conn.QueryRow(
		ctx, "SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)", serviceRole,
	).Scan(&there); err != nil {
		return err
	}
	if !there {
		if _, err := conn.Exec(ctx, "CREATE ROLE "+serviceRole+" LOGIN PASSWORD '"+own+"'"); err != nil {
			return fmt.Errorf("make the role of the service: %w", err)
		}
	}
	u.User = url.UserPassword(serviceRole, own)
	s.ServiceURL = u.String()
	return nil
}

// Stop ends PostgreSQL and waits until it has.
func (s *Server) Stop() error { return s.process.Stop(30 * time.Second) }

// PID is the process id of the server.
func (s *Server) PID() int { return s.process.PID() }

func findBinaries() (string, error) {
	dirs, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil {
		return "", err
	}
	slices.SortFunc(dirs, func(a, b string) int { return version(a) - version(b) })
	for _, d := range slices.Backward(dirs) {
		if _, err := os.Stat(filepath.Join(d, "initdb")); err == nil {
			return d, nil
		}
	}
	return "", errors.New("PostgreSQL is not installed: apt-get install postgresql")
}

func version(bin string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(bin))) // 0 where it is no number
	return n
}

// accountFor returns the account that is to run PostgreSQL, nil for our own.
func accountFor() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL does not run as root, and there is no user postgres: %w", err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return nil, err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return nil, err
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// clusterHome returns a folder that the account can reach and owns or may enter.
func clusterHome(dir string, account *syscall.Credential) (string, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	if account == nil || reachable(dir, account) {
		return dir, nil
	}
	sum := sha256.Sum256([]byte(dir))
	home := filepath.Join("/var/lib/plumlatch", hex.EncodeToString(sum[:6]))
	if err := os.MkdirAll(home, 0o755); err != nil {
		return "", err
	}
	return home, nil
}

func reachable(dir string, account *syscall.Credential) bool {
	for p := dir; ; p = filepath.Dir(p) {
		info, err := os.Stat(p)
		if err != nil {
			return false
		}
		owner := info.Sys().(*syscall.Stat_t)
		bits := info.Mode().Perm()
		switch {
		case owner.Uid == account.Uid:
			bits >>= 6
		case owner.Gid == account.Gid:
			bits >>= 3
		}
		if bits&1 == 0 {
			return false
		}
		if p == filepath.Dir(p) {
			return true
		}
	}
}

// waitForEarlier gives a server of a killed parent the time to end.
func waitForEarlier(ctx context.Context, cluster string) error {
	for range 100 {
		data, err := os.ReadFile(filepath.Join(cluster, "postmaster.pid"))
		if errors.Is(err, os.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		first, _, _ := strings.Cut(string(data), "\n")
		pid, err := strconv.Atoi(first)
		if err != nil || !runsPostgres(pid) {
			return nil // left over; PostgreSQL itself removes it
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return fmt.Errorf("a PostgreSQL is already running in %s: is another plumlatchd using this data folder?", cluster)
}

func runsPostgres(pid int) bool {
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return err == nil && strings.TrimSpace(string(name)) == "postgres"
}

// ensureCluster makes the cluster if it is not there whole, and returns the
// role's password, which is kept beside it with mode 0600.
func (s *Server) ensureCluster(ctx context.Context, bin, home string, account *syscall.Credential) (string, error) {
	passwordFile := filepath.Join(home, "postgres.password")
	if _, err := os.Stat(filepath.Join(s.Cluster, "PG_VERSION")); err == nil {
		data, err := os.ReadFile(passwordFile)
		return strings.TrimSpace(string(data)), err
	}
	var b [18]byte
	rand.Read(b[:])
	password := hex.EncodeToString(b[:])
	half := s.Cluster + ".new"
	if err := os.RemoveAll(half); err != nil {
		return "", err
	}
	if err := os.Mkdir(half, 0o700); err != nil {
		return "", err
	}
	if err := os.WriteFile(passwordFile, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	handOver := filepath.Join(half, "..", "postgres.initial")
	if err := os.WriteFile(handOver, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	defer os.Remove(handOver)
	logFile, err := os.OpenFile(s.log, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return "", err
	}
	logFile.Close()
	if account != nil {
		for _, f := range []string{half, handOver, s.log} {
			if err := os.Chown(f, int(account.Uid), int(account.Gid)); err != nil {
				return "", err
			}
		}
	}
	cmd := exec.CommandContext(
		ctx, filepath.Join(bin, "initdb"), "--pgdata="+half, "--username="+role, "--pwfile="+handOver,
		"--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync", "--no-instructions",
	)
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("make the database cluster: %w: %s", err, bytes.TrimSpace(out))
	}
	return password, os.Rename(half, s.Cluster)
}

// launch starts the server so that it ends when this process dies, however it dies.
func (s *Server) launch(bin string, account *syscall.Credential, o Options) error {
	logFile, err := os.OpenFile(s.log, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	args := []string{"-D", s.Cluster, "-p", strconv.Itoa(o.Port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "max_connections=300",
		"-c", "shared_buffers=128MB", "-c", "log_min_messages=warning", "-c", "log_statement=none"}
	if o.Fast {
		args = append(
			args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off", "-c",
			"wal_level=minimal", "-c", "max_wal_senders=0", "-c", "max_wal_size=4GB", "-c", "checkpoint_timeout=1h",
			"-c", "autovacuum=off",
		)
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = "/", logFile, logFile
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account}
	if s.process, err = child.Start(cmd); err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	return nil
}

func (s *Server) awaitAnswer(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	admin := strings.Replace(s.URL, "/"+role+"?", "/postgres?", 1)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			_, err = conn.Exec(ctx, "CREATE DATABASE "+role)
			if err == nil || strings.Contains(err.Error(), "already exists") {
				return nil
			}
			return fmt.Errorf("make the database: %w", err)
		}
		select {
		case <-s.process.Done():
			tail, _ := os.ReadFile(s.log) // only to tell more
			return fmt.Errorf("PostgreSQL ended at once (%v): %s", s.process.Err(), tail[max(0, len(tail)-500):])
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
