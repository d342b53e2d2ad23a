package e2e

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"plumlatch/internal/child"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/sshio/sshdtest"
)

// startPgBouncer runs Debian's pgbouncer in transaction mode before the database and returns the
// database's URL through it.
func startPgBouncer(t *testing.T, database, more string) string {
	t.Helper()
	const program = "/usr/sbin/pgbouncer"
	if _, err := os.Stat(program); err != nil {
		t.Skip("there is no pgbouncer here: Debian's package is pgbouncer")
	}
	behind, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "pgbouncer-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	word, _ := behind.User.Password()
	port := sshdtest.FreePort(t)
	config := fmt.Sprintf(
		"[databases]\n* = host=127.0.0.1 port=%s\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = %d\npool_mode = "+
			"transaction\nauth_type = plain\nauth_file = %s/users\nunix_socket_dir =\n%s",
		behind.Port(),
		port,
		dir,
		more,
	)
	files := map[string]string{"config": config, "users": fmt.Sprintf("%q %q\n", behind.User.Username(), word)}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, filepath.Join(dir, "config"))
	out := &output{}
	cmd.Stdout, cmd.Stderr = out, out
	if os.Geteuid() == 0 { // as which it refuses to run
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: accountOf(t, "postgres")}
	}
	p, err := child.Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Stop(5 * time.Second) })
	eventually(t, "pgbouncer", func() bool {
		select {
		case <-p.Done():
			t.Fatalf("it ended: %s", out.String())
		default:
		}
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	behind.Host = fmt.Sprintf("127.0.0.1:%d", port)
	return behind.String()
}

func accountOf(t *testing.T, name string) *syscall.Credential {
	t.Helper()
	u, err := user.Lookup(name)
	if err != nil {
		t.Fatal(err)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		t.Fatal(err)
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		t.Fatal(err)
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
}

// TestAPoolerInTransactionModeIsNoticedAtTheStart has the service find one as it is set up at
// first, and one that was told to overlook what it does not know.
func TestAPoolerInTransactionModeIsNoticedAtTheStart(t *testing.T) {
	t.Parallel()
	_, database := pgtest.Databases(t)
	secret := writeFile(t, filepath.Join(t.TempDir(), "cloud.token"), "none\n")
	overlooks := "ignore_startup_parameters = " +
		"plumlatch.probe,lock_timeout,statement_timeout,idle_in_transaction_session_timeout,extra_float_digits\n"
	for what, more := range map[string]string{"as it is": "", "that overlooks": overlooks} {
		through := startPgBouncer(t, database, more)
		cmd := exec.CommandContext(
			t.Context(), filepath.Join(bin, "plumlatchd"), "-database", through, "-cloud", "http://127.0.0.1:9",
			"-cloud-token-file", secret, "-listen", "127.0.0.1:0",
		)
		cmd.Env = append(os.Environ(), "PLUMLATCH_DATABASE=")
		out, err := cmd.CombinedOutput()
		if err == nil || !strings.Contains(string(out), "connection pooler") ||
			!strings.Contains(string(out), "PostgreSQL itself") {
			t.Errorf("%s: %v %s", what, err, out)
		}
	}
}
