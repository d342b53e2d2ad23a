package fleet

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// LoginNamed returns the login user@instance; an instance alone means its own
// login user's.
func (s *Service) LoginNamed(ctx context.Context, name string) (record.Login, record.Instance, error) {
	user, instance := CutLogin(name)
	i, err := s.Instance(ctx, instance)
	if err != nil {
		return record.Login{}, i, err
	}
	if user == "" {
		user = i.LoginUser
	}
	l, err := s.store.LoginOf(ctx, i.ID, user)
	if errors.Is(err, store.ErrNotFound) {
		return l, i, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-login",
			Where:  []string{name},
			Detail: fmt.Sprintf("no login %s is recorded on %s", user, i.Name),
			Remedy: "See those that are: plumlatch reach -find " + i.Name,
		}
	}
	return l, i, err
}

// LoginsNamed returns the ids of the logins, under the names that were given. One that is not there is the
// error of LoginNamed.
func (s *Service) LoginsNamed(ctx context.Context, names []string) (map[string]uuid.UUID, error) {
	instances := make([]string, len(names))
	for n, name := range names {
		_, instances[n] = CutLogin(name)
	}
	there, err := s.store.LoginsOn(ctx, instances)
	if err != nil {
		return nil, err
	}
	found := map[string]uuid.UUID{}
	for _, l := range there {
		found[LoginName(l.OSUser, l.InstanceName)] = l.ID
		if l.OSUser == l.LoginUser {
			found[l.InstanceName] = l.ID
		}
	}
	out := map[string]uuid.UUID{}
	for _, name := range names {
		id, ok := found[name]
		if !ok { // one more look tells what is wrong
			l, _, err := s.LoginNamed(ctx, name)
			if err != nil {
				return nil, err
			}
			id = l.ID
		}
		out[name] = id
	}
	return out, nil
}

// CutLogin parts user@instance; the user is "" where the instance alone is named.
func CutLogin(name string) (user, instance string) {
	user, instance, named := strings.Cut(name, "@")
	if !named {
		return "", name
	}
	return user, instance
}

func LoginName(user, instance string) string { return user + "@" + instance }

// CheckHostKey refuses a report from a machine that is not the one that is recorded.
func CheckHostKey(i record.Instance, seen string) error {
	d, ok := keypair.ReadFingerprint(seen)
	for _, h := range i.HostKeys {
		if ok && bytes.Equal(h.SHA256, d.Sum) {
			return nil
		}
	}
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "host-key-differs",
		Field:  "host_key",
		Detail: fmt.Sprintf("the host key that was seen is not a pinned one of %s, so nothing was recorded", i.Name),
		Remedy: "Find out why it differs. If the machine was set up again: plumlatch host-key pin " + i.Name,
	}
}

// Target is how the service reaches a login of the instance.
func (s *Service) Target(i record.Instance, user string) sshio.Target { return s.Jumps.Target(i, user) }
