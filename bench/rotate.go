package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/sshio"
)

const (
	rotated        = 500 // logins that the product rotates
	rotatedByShell = 100
	rotateAtOnce   = 16 // by the product and by the bare loop
)

// rotations measures a rotation of stand-in logins with all steps, proofs and records,
// beside the same handshakes and edits without any records, and beside a shell loop of
// the OpenSSH client.
func (f *fleet) rotations(ctx context.Context, dir string) error {
	fmt.Fprintf(os.Stderr, "rotating %d logins\n", rotated)
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, "new")
	if err != nil {
		return err
	}
	text, err := pair.OpenSSH(nil)
	if err != nil {
		return err
	}
	if err := errors.Join(
		os.WriteFile(filepath.Join(dir, "new"), text, 0o600),
		os.WriteFile(filepath.Join(dir, "new.pub"), []byte(pair.Line()+"\n"), 0o644),
		os.WriteFile(filepath.Join(dir, "old.pub"), []byte(f.line+"\n"), 0o644),
	); err != nil {
		return err
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return err
	}
	// One half before and one after, as the machine is not the same throughout.
	half := len(f.targets["bare"]) / 2
	before, err := f.rotateBare(ctx, f.targets["bare"][:half], signer, pair.Line())
	if err != nil {
		return err
	}
	product, err := f.rotateByProduct(ctx)
	if err != nil {
		return err
	}
	after, err := f.rotateBare(ctx, f.targets["bare"][half:], signer, pair.Line())
	if err != nil {
		return err
	}
	bare := 2 / (1/before + 1/after)
	shell, err := f.rotateByShell(dir)
	if err != nil {
		return err
	}
	memory, err := f.memory()
	if err != nil {
		return err
	}
	fmt.Printf(
		"| rotation of %d logins, all steps, proofs and records, %d at once | %.0f logins a second, %.0f %% of the next "+
			"row, %.1f times the one after |\n",
		rotated,
		rotateAtOnce,
		product,
		100*product/bare,
		product/shell,
	)
	fmt.Printf("| only the handshakes and SFTP edits of it, %d at once | %.0f a second |\n", rotateAtOnce, bare)
	fmt.Printf(
		"| a shell loop of the OpenSSH client that appends, tries, removes and tries again, xargs -P 8 | %.1f a second |\n",
		shell,
	)
	fmt.Printf("| the most memory that the service has used meanwhile | %.0f MB |\n", memory)
	return nil
}

// rotateByProduct rotates the logins of its part and returns how many a second.
func (f *fleet) rotateByProduct(ctx context.Context) (float64, error) {
	wanted := map[string]any{"keys": []string{"bench"}, "label": "part=product"}
	var plan struct {
		Items []struct{ Login, Old, New string }
	}
	if err := f.service.post(ctx, "/api/v1/rotations/plans", map[string]any{"wanted": wanted}, &plan); err != nil {
		return 0, err
	}
	if len(plan.Items) != rotated {
		return 0, fmt.Errorf("the plan has %d logins", len(plan.Items))
	}
	var shown []map[string]string
	for _, i := range plan.Items {
		shown = append(shown, map[string]string{"login": i.Login, "old": i.Old, "new": i.New})
	}
	var r struct {
		ID      string
		EndedAt *time.Time `json:"ended_at"`
		Counts  map[string]int
	}
	begun := time.Now()
	if err := f.service.post(
		ctx, "/api/v1/rotations", map[string]any{"wanted": wanted, "shown": shown, "make": "service"}, &r,
	); err != nil {
		return 0, err
	}
	for r.EndedAt == nil {
		time.Sleep(200 * time.Millisecond) // as often as a client that watches
		if err := f.service.get(ctx, "/api/v1/rotations/"+r.ID, &r); err != nil {
			return 0, err
		}
	}
	took := time.Since(begun)
	if r.Counts["done"] != rotated {
		return 0, fmt.Errorf("the rotation ended with %v", r.Counts)
	}
	return rotated / took.Seconds(), nil
}

// rotateBare does the same handshakes and edits without any record.
func (f *fleet) rotateBare(ctx context.Context, targets []sshio.Target, next ssh.Signer, line string) (float64, error) {
	begun := time.Now()
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(rotateAtOnce)
	for _, t := range targets {
		group.Go(func() error {
			old, err := sshio.Login(ctx, t, f.signer)
			if err != nil {
				return err
			}
			defer old.Close()
			if err := old.EditAll(func(_ string, first bool, file authorizedkeys.File) (authorizedkeys.File, error) {
				if !first {
					return file, nil
				}
				return file.Add(line), nil
			}); err != nil {
				return err
			}
			if err := enterOnce(ctx, t, next); err != nil {
				return err
			}
			if err := old.EditAll(func(_ string, _ bool, file authorizedkeys.File) (authorizedkeys.File, error) {
				return slices.DeleteFunc(
					slices.Clone(file),
					func(l authorizedkeys.Line) bool { return bytes.Equal(l.Blob, f.signer.PublicKey().Marshal()) },
				), nil
			}); err != nil {
				return err
			}
			session, accepted, err := sshio.LoginAndSee(ctx, t, next, f.signer.PublicKey().Marshal())
			if err != nil || accepted {
				return fmt.Errorf("the old key is accepted: %v, %w", accepted, err)
			}
			session.Close()
			return nil
		})
	}
	err := group.Wait()
	return float64(len(targets)) / time.Since(begun).Seconds(), err
}

func enterOnce(ctx context.Context, t sshio.Target, signer ssh.Signer) error {
	session, err := sshio.Login(ctx, t, signer)
	if err == nil {
		session.Close()
	}
	return err
}

// rotateOne is what an engineer would write for one machine; $1 is its address and
// port. The stand-in's shell has no redirection, so the file is fetched and put back.
const rotateOne = `set -e
at=${1%:*}; port=${1#*:}; f=$(mktemp -d)
o="-q -oBatchMode=yes -oIdentitiesOnly=yes -oStrictHostKeyChecking=no -oUserKnownHostsFile=$f/hosts"
printf 'get .ssh/authorized_keys %s/a\n!cat %s/new.pub >> %s/a\nput %s/a .ssh/authorized_keys\n' $f $DIR $f $f > $f/add
sftp $o -i $DIR/old -P $port -b $f/add debian@$at >/dev/null
ssh $o -i $DIR/new -p $port debian@$at true
printf 'get .ssh/authorized_keys %s/b\n!grep -vF "$(cut -d" " -f2 %s/old.pub)" %s/b > %s/c\n' $f $DIR $f $f > $f/drop
printf 'put %s/c .ssh/authorized_keys\n' $f >> $f/drop
sftp $o -i $DIR/new -P $port -b $f/drop debian@$at >/dev/null
if ssh $o -i $DIR/old -p $port debian@$at true 2>/dev/null; then exit 1; fi
ssh $o -i $DIR/new -p $port debian@$at true
rm -r $f
`

func (f *fleet) rotateByShell(dir string) (float64, error) {
	script := filepath.Join(dir, "rotate-one")
	if err := os.WriteFile(script, []byte(rotateOne), 0o700); err != nil {
		return 0, err
	}
	var hosts strings.Builder
	for _, t := range f.targets["shell"] {
		fmt.Fprintf(&hosts, "%s:%d\n", t.Address, t.Port)
	}
	cmd := exec.Command("xargs", "-P", "8", "-n", "1", "sh", script)
	cmd.Env = append(os.Environ(), "DIR="+dir)
	cmd.Stdin = strings.NewReader(hosts.String())
	begun := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("the shell loop: %w: %s", err, out)
	}
	return float64(len(f.targets["shell"])) / time.Since(begun).Seconds(), nil
}

// memory returns the most resident memory that the service has had, in MB.
func (f *fleet) memory() (float64, error) {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", f.service.process.PID()))
	if err != nil {
		return 0, err
	}
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status)
	if m == nil {
		return 0, errors.New("the kernel tells no peak of memory")
	}
	var kb float64
	_, err = fmt.Sscan(string(m[1]), &kb)
	return kb / 1024, err
}
