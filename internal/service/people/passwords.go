package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"sync"

	"github.com/alexedwards/argon2id"

	"plumlatch/internal/service/problem"
)

// cost is that of a password hash: argon2id with 46 MiB, one pass, one lane, as
// RFC 9106 and OWASP's list of 2023 allow.
var cost = &argon2id.Params{Memory: 46 << 10, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// longestPassword is the most that is hashed, in bytes.
const longestPassword = 1024

// Each hash takes 46 MiB: so many are made at once, and so many more may wait for that.
const (
	hashersAtOnce  = 4
	hashersWaiting = 32
)

var (
	hashers = make(chan struct{}, hashersAtOnce)
	waiting = make(chan struct{}, hashersAtOnce+hashersWaiting)
)

// hashing does what takes a hash's memory once there is room for it. Where too many wait
// already, or ctx ends, it is not done.
func hashing(ctx context.Context, do func()) error {
	select {
	case waiting <- struct{}{}:
		defer func() { <-waiting }()
	default:
		return &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "too-many-sign-ins",
			After:  2,
			Detail: "too many people sign in at this moment",
			Remedy: "Try again in a few seconds",
		}
	}
	select {
	case hashers <- struct{}{}:
		defer func() { <-hashers }()
	case <-ctx.Done():
		return ctx.Err()
	}
	do()
	return nil
}

// hashPassword returns what is kept of a password, in the form of the reference implementation.
func hashPassword(ctx context.Context, password string) (hash string, err error) {
	failed := hashing(ctx, func() { hash, err = argon2id.CreateHash(password, cost) })
	return hash, cmp.Or(failed, err)
}

// nobody is what an unknown name is tried against, so that it takes as long as a known one. It is the
// hash of no password that anybody knows.
var nobody = sync.OnceValues(func() (string, error) { return argon2id.CreateHash(rand.Text(), cost) })

// passwordFits reports whether the password is the one of the hash; of the hash "" none is, and
// finding that out takes as long.
func passwordFits(ctx context.Context, hash, password string) (fits bool, err error) {
	of := hash
	if of == "" {
		if of, err = nobody(); err != nil {
			return false, err
		}
	}
	if len(password) > longestPassword {
		return false, nil
	}
	failed := hashing(ctx, func() { fits, err = argon2id.ComparePasswordAndHash(password, of) })
	return fits && hash != "" && err == nil, cmp.Or(failed, err)
}
