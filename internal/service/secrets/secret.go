package secrets

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
)

func New() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

func Hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
