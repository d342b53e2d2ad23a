package main

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"
)

// heldOpen is how many requests a viewer has open.
const heldOpen = 1000

// heldUp measures an admin's calls while a viewer has requests open that mark a key as lost, half
// of which never end their body, and while somebody else holds the lock on that key's row.
func heldUp(ctx context.Context, dir, database string) error {
	s, err := startServiceWith(dir, database, "-cloud", "http://127.0.0.1:1")
	if err != nil {
		return err
	}
	defer s.process.Stop(20 * time.Second)
	key := numbered('h', 1)
	if err := s.post(ctx, "/api/v1/keys", map[string]any{"name": "held", "public_key": key.Line()}, nil); err != nil {
		return err
	}
	viewer, err := s.viewer(ctx, dir)
	if err != nil {
		return err
	}
	alone, err := s.measure("/api/v1/keys", `"items"`)
	if err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	if _, err := tx.Exec(ctx, "SELECT id FROM keys WHERE name = 'held' FOR UPDATE"); err != nil {
		return err
	}
	open, err := openRequests(ctx, s.url, viewer)
	defer open.close()
	if err != nil {
		return err
	}
	beside, err := s.measure("/api/v1/keys", `"items"`)
	if err != nil {
		return err
	}
	fmt.Printf(
		"| an admin's key list beside %d open requests of a viewer on a key whose row is locked, %d calls | median %.1f "+
			"ms, 95 %% within %.1f ms; alone %.1f ms |\n",
		heldOpen,
		calls,
		ms(beside[len(beside)/2]),
		ms(beside[len(beside)*95/100]),
		ms(alone[len(alone)/2]),
	)
	return nil
}

// viewer adds somebody who may only look, and returns their token.
func (s *service) viewer(ctx context.Context, dir string) (string, error) {
	word := filepath.Join(dir, "word")
	if err := os.WriteFile(word, []byte(password), 0o600); err != nil {
		return "", err
	}
	add := exec.CommandContext(
		ctx, "bin/plumlatch", "operator", "add", "looks-on", "-role", "viewer", "-password-file", word,
		"-confirm-file", word,
	)
	add.Env = append(os.Environ(), "HOME="+dir, "PLUMLATCH_URL="+s.url, "PLUMLATCH_TOKEN="+s.token)
	if out, err := add.CombinedOutput(); err != nil {
		return "", fmt.Errorf("add a viewer: %w: %s", err, out)
	}
	home := filepath.Join(dir, "looks-on")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return "", err
	}
	return s.signedIn(home, "looks-on")
}

// connections are requests that are open.
type connections struct {
	mu  sync.Mutex
	all []net.Conn
}

func (c *connections) close() {
	for _, conn := range c.all {
		conn.Close()
	}
}

// openRequests sends the viewer's requests: of every other one the body does not end. The rest are
// sent again whenever they are answered.
func openRequests(ctx context.Context, base, token string) (*connections, error) {
	open := &connections{}
	at, err := url.Parse(base)
	if err != nil {
		return open, err
	}
	const body = `{"reason":"to see who waits"}`
	head := fmt.Sprintf(
		"POST /api/v1/keys/held/lost HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Type: "+
			"application/json\r\nContent-Length: ",
		at.Host,
		token,
	)
	group, dialing := errgroup.WithContext(ctx)
	group.SetLimit(50)
	for n := range heldOpen {
		group.Go(func() error {
			var d net.Dialer
			conn, err := d.DialContext(dialing, "tcp", at.Host)
			if err != nil {
				return err
			}
			open.mu.Lock()
			open.all = append(open.all, conn)
			open.mu.Unlock()
			if n%2 == 0 {
				_, err = fmt.Fprintf(conn, "%s%d\r\n\r\n%s", head, 2*len(body), body)
				return err
			}
			request := fmt.Sprintf("%s%d\r\n\r\n%s", head, len(body), body)
			if _, err := conn.Write([]byte(request)); err != nil {
				return err
			}
			go again(conn, request)
			return nil
		})
	}
	return open, group.Wait()
}

// again sends a request once a second from its answer on, until the connection is closed.
func again(conn net.Conn, request string) {
	answers := bufio.NewReader(conn)
	for {
		line, err := answers.ReadString('\n')
		if err != nil {
			return
		}
		if !strings.HasPrefix(line, "HTTP/1.1") {
			continue
		}
		time.Sleep(time.Second)
		if _, err := conn.Write([]byte(request)); err != nil {
			return
		}
	}
}
