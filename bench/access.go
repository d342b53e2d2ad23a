package main

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/child"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

const (
	swept  = 1000 // stand-in instances that are swept
	atOnce = 32   // logins read at once, by the service and by the bare loop
)

// parts are how the stand-in instances are shared out among those that rotate: the
// product, the bare loop, and a shell loop.
var parts = []struct {
	name string
	many int
}{{"product", rotated}, {"bare", rotated / 2}, {"shell", rotatedByShell}}

// partOf returns the part of the n-th instance.
func partOf(n int) string {
	for _, p := range parts {
		if n < p.many {
			return p.name
		}
		n -= p.many
	}
	return "rest"
}

// fleet is stand-in instances that a service of its own launched.
type fleet struct {
	service *service
	signer  ssh.Signer // of the key that opens all
	line    string     // its public key
	targets map[string][]sshio.Target
	stop    func()
}

// launchFleet launches the stand-in instances.
func launchFleet(ctx context.Context, dir, database string) (f *fleet, err error) {
	fmt.Fprintf(os.Stderr, "launching %d stand-in instances\n", swept)
	token := filepath.Join(dir, "cloud.token")
	cloud, cloudURL, err := startProgram(exec.Command(
		"bin/paddockd", "-data", filepath.Join(dir, "paddock"), "-token-file", token, "-block", "127.77.0.0/16",
		"-listen", "127.0.0.1:0",
	))
	if err != nil {
		return nil, err
	}
	f = &fleet{targets: map[string][]sshio.Target{}, stop: func() { cloud.Stop(20 * time.Second) }}
	s, err := startServiceWith(
		dir, database, "-cloud", cloudURL, "-safe-key-file", filepath.Join(dir, "safe.key"), "-sweep-every", "0",
	)
	if err != nil {
		return f, err
	}
	f.service, f.stop = s, func() { s.process.Stop(20 * time.Second); cloud.Stop(20 * time.Second) }
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, "bench")
	if err != nil {
		return f, err
	}
	text, err := pair.OpenSSH(nil)
	if err != nil {
		return f, err
	}
	if f.signer, err = ssh.ParsePrivateKey(text); err != nil {
		return f, err
	}
	f.line = pair.Line()
	if err := os.WriteFile(filepath.Join(dir, "old"), text, 0o600); err != nil {
		return f, err
	}
	if err := s.post(ctx, "/api/v1/keys", map[string]any{"name": "bench", "public_key": pair.Line()}, nil); err != nil {
		return f, err
	}
	group, launching := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for n := range swept {
		group.Go(func() error {
			return s.post(
				launching,
				"/api/v1/instances",
				map[string]any{
					"name":    fmt.Sprintf("swept-%04d", n),
					"image":   "debian-12",
					"size":    "small",
					"keys":    []string{"bench"},
					"steward": true,
					"labels":  map[string]string{"bench": "sweep", "part": partOf(n)},
				},
				nil,
			)
		})
	}
	if err := group.Wait(); err != nil {
		return f, err
	}
	return f, f.await(ctx)
}

// await waits until all instances are up and gathers how to reach them.
func (f *fleet) await(ctx context.Context) error {
	var up struct {
		Items []struct {
			Labels     map[string]string
			Connection struct {
				User, Address string
				Port          int
				HostKeys      []struct {
					PublicKey string `json:"public_key"`
				} `json:"host_keys"`
			}
		}
		Next  string
		Total int
	}
	for until := time.Now().Add(10 * time.Minute); ; {
		if err := f.service.get(
			ctx,
			"/api/v1/instances?label=bench%3Dsweep&state=running&total=true&limit=1", &up,
		); err != nil {
			return err
		}
		if up.Total == swept {
			break
		}
		if time.Now().After(until) {
			return fmt.Errorf("%d of %d instances are up", up.Total, swept)
		}
		time.Sleep(500 * time.Millisecond)
	}
	for after := ""; ; after = up.Next {
		up.Items, up.Next = nil, ""
		if err := f.service.get(ctx, "/api/v1/instances?label=bench%3Dsweep&limit=500&after="+after, &up); err != nil {
			return err
		}
		for _, i := range up.Items {
			t := sshio.Target{User: i.Connection.User, Address: i.Connection.Address, Port: i.Connection.Port}
			for _, h := range i.Connection.HostKeys {
				k, err := keypair.ReadLine(h.PublicKey)
				if err != nil {
					return err
				}
				t.HostKeys = append(t.HostKeys, k.Blob)
			}
			f.targets[i.Labels["part"]] = append(f.targets[i.Labels["part"]], t)
		}
		if up.Next == "" {
			return nil
		}
	}
}

// sweeps measures a sweep of the fleet, and beside it the bare rate of what that
// needs at least: a handshake and the reading of one file over SFTP for each.
func (f *fleet) sweeps(ctx context.Context) error {
	s := f.service
	var targets []sshio.Target
	for _, part := range f.targets {
		targets = append(targets, part...)
	}
	fmt.Fprintf(os.Stderr, "sweeping %d instances\n", len(targets))
	bare, err := readAll(ctx, targets, f.signer, readOne)
	if err != nil {
		return err
	}
	whole, err := readAll(ctx, targets, f.signer, readMachine)
	if err != nil {
		return err
	}
	var sweep struct {
		ID                               string
		EndedAt                          *time.Time `json:"ended_at"`
		Total, Failed, Changed, AsBefore int
	}
	begun := time.Now()
	if err := s.post(ctx, "/api/v1/sweeps", map[string]any{"label": "bench=sweep"}, &sweep); err != nil {
		return err
	}
	for sweep.EndedAt == nil {
		time.Sleep(20 * time.Millisecond)
		if err := s.get(ctx, "/api/v1/sweeps/"+sweep.ID, &sweep); err != nil {
			return err
		}
	}
	took := time.Since(begun)
	if sweep.Failed > 0 || sweep.Total != len(targets) {
		return fmt.Errorf("the sweep of %d logins failed at %d", sweep.Total, sweep.Failed)
	}
	rate, most, all := float64(swept)/took.Seconds(), float64(swept)/bare.Seconds(), float64(swept)/whole.Seconds()
	fmt.Printf(
		"| sweep of %d stand-in instances, all users and settings read, all records written | "+
			"%.0f logins a second, %.0f %% of the next row, %.0f %% of the one after |\n",
		swept, rate, 100*rate/all, 100*rate/most,
	)
	fmt.Printf(
		"| only a handshake and the reading of all that for each of them, %d at once | %.0f a second |\n",
		atOnce,
		all,
	)
	fmt.Printf("| only a handshake and one SFTP read for each of them, %d at once | %.0f a second |\n", atOnce, most)
	return nil
}

// readOne reads one file of a login, and readMachine all that a sweep reads.
func readOne(_ context.Context, t sshio.Target, session *sshio.Session) error {
	f, err := session.Read("/home/" + t.User + "/.ssh/authorized_keys")
	if err == nil && !f.There {
		err = errors.New("there is no authorized_keys file")
	}
	return err
}

func readMachine(ctx context.Context, _ sshio.Target, session *sshio.Session) error {
	if _, err := session.ReadAll(); err != nil {
		return err
	}
	_, err := session.Machine(ctx)
	return err
}

// readAll logs in to every target and reads.
func readAll(
	ctx context.Context, targets []sshio.Target, signer ssh.Signer,
	read func(context.Context, sshio.Target, *sshio.Session) error,
) (time.Duration, error) {
	begun := time.Now()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, t := range targets {
		group.Go(func() error {
			session, err := sshio.Login(ctx, t, signer)
			if err != nil {
				return err
			}
			defer session.Close()
			return read(ctx, t, session)
		})
	}
	err := group.Wait()
	return time.Since(begun), err
}

// startProgram starts a program that prints its address.
func startProgram(cmd *exec.Cmd) (*child.Process, string, error) {
	out, inward, err := os.Pipe()
	if err != nil {
		return nil, "", err
	}
	defer out.Close()
	cmd.Stdout = inward
	p, err := child.Start(cmd)
	if err != nil {
		return nil, "", err
	}
	inward.Close()
	buffer := make([]byte, 4096)
	n, err := out.Read(buffer)
	if err != nil {
		return nil, "", fmt.Errorf("%s did not start: %w", cmd.Path, err)
	}
	return p, string(regexp.MustCompile(`http://\S+`).Find(buffer[:n])), nil
}

func (s *service) post(ctx context.Context, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	return s.do(ctx, "POST", path, strings.NewReader(string(text)), into)
}

func (s *service) get(ctx context.Context, path string, into any) error {
	return s.do(ctx, "GET", path, nil, into)
}

func (s *service) do(ctx context.Context, method, path string, body io.Reader, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, s.url+path, body)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+s.token)
	r.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s %s %w", method, path, resp.Status, answer, err)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(answer, into)
}
