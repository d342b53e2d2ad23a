package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"

	"plumlatch/internal/service/problem"
)

// The cost of a password hash: argon2id with 46 MiB, one pass, one lane, as
// RFC 9106 and OWASP's list of 2023 allow.
const (
	argonMemory = 46 << 10 // KiB
	argonPasses = 1
)

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

// hashPassword returns what is kept of a password.
func hashPassword(ctx context.Context, password string) (hash string, err error) {
	var salt [16]byte
	rand.Read(salt[:])
	err = hashing(ctx, func() {
		hash = encodeHash(salt[:], argon2.IDKey([]byte(password), salt[:], argonPasses, argonMemory, 1, 32))
	})
	return hash, err
}

func encodeHash(salt, sum []byte) string {
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonPasses, enc(salt), enc(sum))
}

// nobody is what an unknown name is tried against, so that it takes as long as a known one.
// It is the hash of no password that anybody knows.
var nobody = func() string {
	var b [48]byte
	rand.Read(b[:])
	return encodeHash(b[:16], b[16:])
}()

// passwordFits reports whether the password is the one of the hash; of the hash "" none is, and
// finding that out takes as long.
func passwordFits(ctx context.Context, hash, password string) (fits bool, err error) {
	of := hash
	if of == "" {
		of = nobody
	}
	err = hashing(ctx, func() { fits = hashFits(of, password) })
	return fits && hash != "", err
}

func hashFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || len(password) > 1024 {
		return false
	}
	var memory, passes uint32
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(want) != 32 {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, passes, memory, 1, 32), want) == 1
}
