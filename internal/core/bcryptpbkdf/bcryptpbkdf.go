// Package bcryptpbkdf derives keys from passphrases as OpenBSD's bcrypt_pbkdf(3) does, on which OpenSSH's private
// key format rests.
package bcryptpbkdf

import (
	"crypto/sha512"
	"errors"

	//lint:ignore SA1019 the format prescribes it
	"golang.org/x/crypto/blowfish"
)

// Key derives length bytes, at most 1,024, from a passphrase in so many rounds.
func Key(passphrase, salt []byte, rounds, length int) ([]byte, error) {
	const size = 32
	if rounds < 1 || length < 1 || length > 1024 {
		return nil, errors.New("a length is out of range")
	}
	blocks := (length + size - 1) / size
	hashed := sha512.Sum512(passphrase)
	out := make([]byte, blocks*size)
	for block := 1; block <= blocks; block++ {
		h := sha512.New()
		h.Write(salt)
		h.Write([]byte{byte(block >> 24), byte(block >> 16), byte(block >> 8), byte(block)})
		round, err := bcryptHash(hashed[:], h.Sum(nil))
		if err != nil {
			return nil, err
		}
		sum := round
		for range rounds - 1 {
			again := sha512.Sum512(round[:])
			if round, err = bcryptHash(hashed[:], again[:]); err != nil {
				return nil, err
			}
			for i := range sum {
				sum[i] ^= round[i]
			}
		}
		for i, b := range sum { // the blocks are interleaved
			out[i*blocks+block-1] = b
		}
	}
	return out[:length], nil
}

func bcryptHash(passphrase, salt []byte) ([32]byte, error) {
	var out [32]byte
	c, err := blowfish.NewSaltedCipher(passphrase, salt)
	if err != nil {
		return out, err
	}
	for range 64 {
		blowfish.ExpandKey(salt, c)
		blowfish.ExpandKey(passphrase, c)
	}
	copy(out[:], "OxychromaticBlowfishSwatDynamite")
	for i := 0; i < len(out); i += blowfish.BlockSize {
		for range 64 {
			c.Encrypt(out[i:i+blowfish.BlockSize], out[i:i+blowfish.BlockSize])
		}
	}
	for i := 0; i < len(out); i += 4 { // the words are written little-endian
		out[i], out[i+1], out[i+2], out[i+3] = out[i+3], out[i+2], out[i+1], out[i]
	}
	return out, nil
}
