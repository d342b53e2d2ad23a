package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

const (
	restoresEach   = 5   // of each route, one after the other
	restoresAtOnce = 100 // of all routes that need nobody
	benchPassword  = "brent goose"
)

// restoreRoutes are the routes that are measured, with the image that each needs.
var restoreRoutes = []struct{ route, image string }{
	{
		"standing-key",
		"debian-12",
	}, {"guest-agent", "debian-12"},
	{"metadata-keys", "ubuntu-24.04"},
	{"browser-shell", "debian-12"},
	{"password", "debian-12"},
	{"helper-disk", "fedora-42"},
	{"replacement", "debian-12"},
}

// restoring is a service and a stand-in cloud that takes no time.
type restoring struct {
	service *service
	cloud   *cloud.Cloud
	disks   string
	signer  ssh.Signer
	stop    func()
}

// restores measures restores by each route, and many at once.
func restores(ctx context.Context, dir, database string) error {
	r, err := startRestoring(dir, database)
	if r != nil && r.stop != nil {
		defer r.stop()
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "restoring %d instances by each route\n", restoresEach)
	medians := map[string]time.Duration{}
	for _, c := range restoreRoutes {
		var times []time.Duration
		for n := range restoresEach {
			name := fmt.Sprintf("one-%s-%d", c.route, n)
			if err := r.launch(ctx, name, c.image, c.route == "standing-key"); err != nil {
				return err
			}
			took, err := r.restore(ctx, name, c.route)
			if err != nil {
				return err
			}
			times = append(times, took)
		}
		slices.Sort(times)
		medians[c.route] = times[len(times)/2]
		fmt.Printf(
			"| restore by the route %s, from its begin to its end, cloud latency zero, %d restores | median %.2f s, longest "+
				"%.2f s |\n",
			c.route,
			restoresEach,
			medians[c.route].Seconds(),
			times[len(times)-1].Seconds(),
		)
	}
	if err := r.launch(ctx, "bare", "fedora-42", false); err != nil {
		return err
	}
	bare, err := r.bareHelper(ctx, "bare")
	if err != nil {
		return err
	}
	fmt.Printf(
		"| only the calls, the edit and the logins of the route helper-disk, one after the other, with nothing written "+
			"down and nothing to undo it by | %.2f s; the route takes %.1f times as long |\n",
		bare.Seconds(),
		float64(medians["helper-disk"])/float64(bare),
	)
	return r.atOnce(ctx)
}

func startRestoring(dir, database string) (*restoring, error) {
	token := filepath.Join(dir, "cloud.token")
	text := rand.Text()
	if err := os.WriteFile(token, []byte(text+"\n"), 0o600); err != nil {
		return nil, err
	}
	paddock, url, err := startProgram(exec.Command(
		"bin/paddockd", "-data", filepath.Join(dir, "restored"), "-token-file", token, "-block", "127.78.0.0/16",
		"-listen", "127.0.0.1:0",
	))
	if err != nil {
		return nil, err
	}
	r := &restoring{disks: filepath.Join(dir, "restored", "disks"), stop: func() { paddock.Stop(20 * time.Second) }}
	if r.cloud, err = cloud.Connect(url, text, cloud.CallTimeout); err != nil {
		return r, err
	}
	s, err := startServiceWith(
		dir, database, "-cloud", url, "-safe-key-file", filepath.Join(dir, "safe.key"), "-sweep-every", "0",
	)
	if err != nil {
		return r, err
	}
	r.service, r.stop = s, func() { s.process.Stop(20 * time.Second); paddock.Stop(20 * time.Second) }
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, "gone")
	if err != nil {
		return r, err
	}
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return r, err
	}
	if r.signer, err = ssh.ParsePrivateKey(private); err != nil {
		return r, err
	}
	return r, s.post(
		context.Background(), "/api/v1/keys", map[string]any{"name": "in-hand", "public_key": pair.Line()}, nil,
	)
}

// launch launches an instance opened by a key of its own, which is lost, and by another.
func (r *restoring) launch(ctx context.Context, name, image string, steward bool) error {
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, name)
	if err != nil {
		return err
	}
	if err := r.service.post(
		ctx, "/api/v1/keys", map[string]any{"name": "of-" + name, "public_key": pair.Line()}, nil,
	); err != nil {
		return err
	}
	if err := r.service.post(
		ctx,
		"/api/v1/instances",
		map[string]any{
			"name":    name,
			"image":   image,
			"size":    "small",
			"keys":    []string{"of-" + name, "in-hand"},
			"steward": steward,
		},
		nil,
	); err != nil {
		return err
	}
	for until := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Millisecond) {
		i, err := r.instance(ctx, name)
		if err != nil || i.State == "running" {
			return err
		}
		if time.Now().After(until) {
			return fmt.Errorf("%s is %s", name, i.State)
		}
	}
}

type restoredInstance struct {
	State      string
	CloudID    string `json:"cloud_id"`
	Connection struct {
		User, Address string
		Port          int
		HostKeys      []struct {
			PublicKey string `json:"public_key"`
		} `json:"host_keys"`
	}
}

func (r *restoring) instance(ctx context.Context, name string) (i restoredInstance, err error) {
	return i, r.service.get(ctx, "/api/v1/instances/"+name, &i)
}

func (i restoredInstance) target() (sshio.Target, error) {
	t := sshio.Target{User: i.Connection.User, Address: i.Connection.Address, Port: i.Connection.Port}
	for _, h := range i.Connection.HostKeys {
		k, err := keypair.ReadLine(h.PublicKey)
		if err != nil {
			return t, err
		}
		t.HostKeys = append(t.HostKeys, k.Blob)
	}
	return t, nil
}

type restoredRun struct {
	Run struct {
		ID        string
		State     string
		Error     string
		CreatedAt time.Time  `json:"created_at"`
		EndedAt   *time.Time `json:"ended_at"`
	}
	Waits *struct{ Step string }
	Left  []string
}

func (r *restoring) begin(ctx context.Context, name, route string) (run restoredRun, err error) {
	return run, r.service.post(
		ctx,
		"/api/v1/restores",
		map[string]any{
			"login":   name,
			"route":   route,
			"key":     "new-" + name,
			"make":    true,
			"lost":    []string{"of-" + name},
			"confirm": name,
		},
		&run,
	)
}

// restore gets back into an instance and returns how long that took from begin to end.
func (r *restoring) restore(ctx context.Context, name, route string) (time.Duration, error) {
	i, err := r.instance(ctx, name)
	if err == nil && route == "password" {
		err = r.takePasswords(i)
	}
	if err != nil {
		return 0, err
	}
	run, err := r.begin(ctx, name, route)
	placed := false
	for err == nil && run.Run.EndedAt == nil {
		if run.Waits != nil && run.Waits.Step == "place" && !placed {
			placed, err = true, r.typePassword(ctx, name, i)
			continue
		}
		time.Sleep(10 * time.Millisecond)
		run.Waits = nil
		err = r.service.get(ctx, "/api/v1/restores/"+run.Run.ID, &run)
	}
	if err == nil && (run.Run.State != "done" || len(run.Left) > 0) {
		err = fmt.Errorf("the restore of %s by %s ended as %s: %s %v", name, route, run.Run.State, run.Run.Error, run.Left)
	}
	if err != nil {
		return 0, err
	}
	return run.Run.EndedAt.Sub(run.Run.CreatedAt), nil
}

// takePasswords turns password login on, on the disk of a stand-in instance.
func (r *restoring) takePasswords(i restoredInstance) error {
	hash, err := bcrypt.GenerateFromPassword([]byte(benchPassword), bcrypt.MinCost)
	if err != nil {
		return err
	}
	config := filepath.Join(r.disks, i.CloudID, "etc/ssh/sshd_config")
	text, err := os.ReadFile(config)
	if err != nil {
		return err
	}
	return errors.Join(
		os.WriteFile(
			config, []byte(strings.ReplaceAll(string(text), "PasswordAuthentication no", "PasswordAuthentication yes")),
			0o644,
		),
		os.WriteFile(filepath.Join(r.disks, i.CloudID, "etc/shadow"), []byte(i.Connection.User+":"+string(hash)+"\n"), 0o600),
	)
}

// typePassword places the new line as somebody who knows the password does, and tells of
// it.
func (r *restoring) typePassword(ctx context.Context, name string, i restoredInstance) error {
	var k struct {
		PublicKey string `json:"public_key"`
	}
	if err := r.service.get(ctx, "/api/v1/keys/new-"+name, &k); err != nil {
		return err
	}
	target, err := i.target()
	if err != nil {
		return err
	}
	s, err := sshio.LoginWithPassword(ctx, target, benchPassword)
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.EditAll(func(_ string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		if !first {
			return f, nil
		}
		return f.Add(k.PublicKey), nil
	}); err != nil {
		return err
	}
	files, err := s.ReadAll()
	if err != nil {
		return err
	}
	var seen []map[string]any
	for _, f := range files {
		seen = append(seen, map[string]any{"path": f.Path, "there": f.There, "content": f.Content, "mode": int(f.Mode)})
	}
	return r.service.post(
		ctx, "/api/v1/logins/"+name+"/files",
		map[string]any{"files": seen, "host_key": ssh.FingerprintSHA256(s.HostKey)}, nil,
	)
}

// bareHelper makes the calls of the route helper-disk one after the other, as a script
// of somebody's would, and writes nothing down.
func (r *restoring) bareHelper(ctx context.Context, name string) (time.Duration, error) {
	i, err := r.instance(ctx, name)
	if err != nil {
		return 0, err
	}
	disks, err := r.cloud.Disks(ctx, i.CloudID)
	if err != nil {
		return 0, err
	}
	disk, own := disks[0].Id, disks[0].Attachments[0]
	begun := time.Now()
	op, err := r.cloud.Launch(ctx, cloud.Launch{
		RequestToken: "bare helper",
		Name:         "bare-helper",
		Image:        "fedora-42",
		Size:         "small",
		Zone:         disks[0].Zone,
	})
	helper, err := r.cloud.Await(ctx, op, err)
	if err != nil {
		return 0, err
	}
	lent := cloud.Attachment{Instance: helper.Instance, Device: "/dev/vdx"}
	place := cloud.AgentPlace{Instance: helper.Instance, Below: "/mnt/bare"}
	file := "/home/" + i.Connection.User + "/.ssh/authorized_keys"
	wait := func(op cloud.Operation, err error) error {
		_, err = r.cloud.Await(ctx, op, err)
		return err
	}
	command := func(words ...string) error {
		said, err := r.cloud.AgentCommand(ctx, helper.Instance, words...)
		if err == nil && said.Status != 0 {
			err = errors.New(said.Errors)
		}
		return err
	}
	for _, step := range []func() error{
		func() error { return r.cloud.PermitAgent(ctx, helper.Instance, true) },
		func() error { return wait(r.cloud.Stop(ctx, i.CloudID)) },
		func() error { return wait(r.cloud.Detach(ctx, disk, i.CloudID)) },
		func() error { return wait(r.cloud.Attach(ctx, disk, lent)) },
		func() error { return command("mount", "-o", "nouuid", lent.Device, "/mnt/bare") },
		func() error {
			f, err := r.cloud.AgentFile(ctx, place, file, i.Connection.User)
			if err == nil {
				err = r.cloud.WriteAgentFile(
					ctx, place, file, *f.Content, append(*f.Content, "# bare\n"...), i.Connection.User, 0o600,
				)
			}
			return err
		},
		func() error { return command("chcon", "-h", "-t", "ssh_home_t", place.Below+file) },
		func() error { return command("umount", "/mnt/bare") },
		func() error { return wait(r.cloud.Detach(ctx, disk, helper.Instance)) },
		func() error { return wait(r.cloud.Attach(ctx, disk, own)) },
		func() error { return wait(r.cloud.Start(ctx, i.CloudID)) },
		func() error { return wait(r.cloud.Delete(ctx, helper.Instance)) },
	} {
		if err := step(); err != nil {
			return 0, err
		}
	}
	now, err := r.cloud.Instance(ctx, i.CloudID)
	if err != nil {
		return 0, err
	}
	target, err := i.target()
	if err != nil {
		return 0, err
	}
	target.Address = now.PublicAddress
	s, err := sshio.Login(ctx, target, r.signer)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	err = s.EditAll(func(_ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) { return f, nil })
	return time.Since(begun), errors.Join(err, enterOnce(ctx, target, r.signer))
}

// atOnce begins restores on as many instances, by all routes that need nobody.
func (r *restoring) atOnce(ctx context.Context) error {
	fmt.Fprintf(os.Stderr, "restoring %d instances at once\n", restoresAtOnce)
	routes := slices.DeleteFunc(
		slices.Clone(restoreRoutes),
		func(c struct{ route, image string }) bool { return c.route == "password" },
	)
	for n := range restoresAtOnce {
		c := routes[n%len(routes)]
		if err := r.launch(ctx, fmt.Sprintf("many-%03d", n), c.image, c.route == "standing-key"); err != nil {
			return err
		}
	}
	begun := time.Now()
	var ids []string
	for n := range restoresAtOnce {
		run, err := r.begin(ctx, fmt.Sprintf("many-%03d", n), routes[n%len(routes)].route)
		if err != nil {
			return err
		}
		ids = append(ids, run.Run.ID)
	}
	done := 0
	for _, id := range ids {
		var run restoredRun
		for run.Run.EndedAt == nil {
			if err := r.service.get(ctx, "/api/v1/restores/"+id, &run); err != nil {
				return err
			}
			time.Sleep(20 * time.Millisecond)
		}
		if run.Run.State == "done" && len(run.Left) == 0 {
			done++
		}
	}
	fmt.Printf(
		"| %d restores at once on as many instances, by six routes | all over after %.1f s, %d done and proved |\n",
		restoresAtOnce, time.Since(begun).Seconds(), done,
	)
	return nil
}
