package keypair

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/subtle"

	"golang.org/x/crypto/chacha20"
	//lint:ignore SA1019 the format prescribes it
	"golang.org/x/crypto/poly1305"

	"plumlatch/internal/core/wire"

	"plumlatch/internal/core/bcryptpbkdf"
)

// opensshMagic begins the format; see PROTOCOL.key in OpenSSH's source.
const opensshMagic = "openssh-key-v1\x00"

// opensshCipher is one way in which the private section is encrypted.
type opensshCipher struct {
	key, iv, tag, block int // lengths in bytes
	open                func(key, iv, encrypted []byte) ([]byte, error)
}

var opensshCiphers = map[string]opensshCipher{
	"none": {
		block: 8,
		open:  func(_, _, encrypted []byte) ([]byte, error) { return encrypted, nil },
	},
	"aes128-ctr":                    {key: 16, iv: 16, block: 16, open: openCTR},
	"aes192-ctr":                    {key: 24, iv: 16, block: 16, open: openCTR},
	"aes256-ctr":                    {key: 32, iv: 16, block: 16, open: openCTR},
	"aes128-cbc":                    {key: 16, iv: 16, block: 16, open: openCBC},
	"aes256-cbc":                    {key: 32, iv: 16, block: 16, open: openCBC},
	"aes128-gcm@openssh.com":        {key: 16, iv: 12, tag: 16, block: 16, open: openGCM},
	"aes256-gcm@openssh.com":        {key: 32, iv: 12, tag: 16, block: 16, open: openGCM},
	"chacha20-poly1305@openssh.com": {key: 64, tag: 16, block: 8, open: openChaCha},
}

func readOpenSSH(data, passphrase []byte) (PrivateFile, error) {
	rest, ok := bytes.CutPrefix(data, []byte(opensshMagic))
	if !ok {
		return PrivateFile{}, damaged("the data does not begin as OpenSSH's private key format does")
	}
	r := wire.Reader{Rest: rest}
	cipherName, kdf, options := string(r.Str()), string(r.Str()), r.Str()
	count := r.Uint32()
	publicBlob, encrypted := r.Str(), r.Str()
	if r.Err != nil {
		return PrivateFile{}, damaged("the data ends too early; part of the file is missing")
	}
	file := PrivateFile{Format: OpenSSHPrivate, Cipher: cipherName, Encrypted: cipherName != "none"}
	if count != 1 {
		return file, damaged("the file has %d keys; only a file with one is read", count)
	}
	how, ok := opensshCiphers[cipherName]
	if !ok {
		return file, damaged("the file is encrypted with %q, which is not known here", printable(cipherName))
	}
	var err error
	if file.Public, err = ReadBlob(publicBlob); err != nil {
		return file, damaged("the public key in the file: %v", err)
	}
	if len(r.Rest) != how.tag || len(encrypted) < how.block || len(encrypted)%how.block != 0 {
		return file, damaged("the encrypted part has a length that it cannot have")
	}
	plain, err := unsealOpenSSH(how, kdf, options, append(bytes.Clone(encrypted), r.Rest...), passphrase)
	if err != nil {
		return file, err
	}
	pair, err := readOpenSSHSection(plain, file.Encrypted)
	if err != nil {
		return file, err
	}
	if !bytes.Equal(pair.Blob, publicBlob) {
		return file, damaged("the private and the public key in the file do not belong together")
	}
	file.Pair = pair
	return file, nil
}

func unsealOpenSSH(how opensshCipher, kdf string, options, encrypted, passphrase []byte) ([]byte, error) {
	switch {
	case kdf == "none" && how.key == 0:
		return encrypted, nil
	case kdf != "bcrypt" || how.key == 0:
		return nil, damaged("the key derivation %q does not fit the cipher", printable(kdf))
	}
	o := wire.Reader{Rest: options}
	salt, rounds := o.Str(), o.Uint32()
	if o.Err != nil || len(o.Rest) > 0 || len(salt) == 0 || rounds == 0 {
		return nil, damaged("the settings of the key derivation are damaged")
	}
	if rounds > maxBcryptRounds {
		return nil, tooMuchWork("bcrypt rounds:", int64(rounds), maxBcryptRounds)
	}
	if len(passphrase) == 0 {
		return nil, ErrPassphraseNeeded
	}
	derived, err := bcryptpbkdf.Key(passphrase, salt, int(rounds), how.key+how.iv)
	if err != nil {
		return nil, damaged("the settings of the key derivation are damaged")
	}
	return how.open(derived[:how.key], derived[how.key:], encrypted)
}

// readOpenSSHSection reads the decrypted section: two equal check numbers, the
// key, the comment, and a padding of 1, 2, 3 …
func readOpenSSHSection(plain []byte, encrypted bool) (Pair, error) {
	r := wire.Reader{Rest: plain}
	first, second := r.Uint32(), r.Uint32()
	if r.Err != nil || first != second {
		if encrypted {
			return Pair{}, ErrPassphraseWrong
		}
		return Pair{}, damaged("the check numbers of the private part differ")
	}
	name := string(r.Str())
	alg, ok := algorithms[name]
	if r.Err != nil || !ok {
		return Pair{}, damaged("the private key is of the type %q, which is not known here", printable(name))
	}
	key, err := readOpenSSHKey(&r, alg)
	comment := string(r.Str())
	if r.Err != nil {
		return Pair{}, damaged("the private part ends too early")
	}
	if err != nil {
		return Pair{}, err
	}
	for i, b := range r.Rest {
		if int(b) != i+1 {
			return Pair{}, damaged("the padding after the key is not 1, 2, 3 and so on")
		}
	}
	return pairOf(key, comment)
}

func readOpenSSHKey(r *wire.Reader, alg algorithm) (any, error) {
	switch alg.typ {
	case Ed25519:
		public, both := r.Str(), r.Str()
		if r.Err != nil || len(both) != ed25519.PrivateKeySize {
			return nil, damaged("the Ed25519 key has a length that it cannot have")
		}
		return ed25519Key(both[:ed25519.SeedSize], public)
	case RSA:
		n, e, d, _, p, q := r.Mpint(), r.Mpint(), r.Mpint(), r.Mpint(), r.Mpint(), r.Mpint()
		if r.Err != nil {
			return nil, damaged("a number of the RSA key is damaged")
		}
		return rsaKey(n, e, d, p, q)
	case ECDSA:
		curve, point, d := string(r.Str()), r.Str(), r.Mpint()
		if r.Err != nil || curve != alg.curve {
			return nil, damaged("the ECDSA key is damaged")
		}
		return ecdsaKey(curve, point, d)
	}
	return nil, &Refusal{
		Code:    CodeUnknownType,
		Problem: "the private key of this key is in a hardware token; the file only tells the token which",
		Remedy:  "Use its public key, the .pub file beside it; sign through an agent",
	}
}

func openCTR(key, iv, encrypted []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	cipher.NewCTR(block, iv).XORKeyStream(encrypted, encrypted)
	return encrypted, nil
}

func openCBC(key, iv, encrypted []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(encrypted, encrypted)
	return encrypted, nil
}

func openGCM(key, iv, encrypted []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	plain, err := aead.Open(nil, iv, encrypted, nil)
	if err != nil {
		return nil, ErrPassphraseWrong
	}
	return plain, nil
}

// openChaCha opens OpenSSH's own ChaCha20-Poly1305 with sequence number zero:
// the first 32 bytes of the key serve, block 0 makes the Poly1305 key.
func openChaCha(key, _, encrypted []byte) ([]byte, error) {
	stream, err := chacha20.NewUnauthenticatedCipher(key[:32], make([]byte, chacha20.NonceSize))
	if err != nil {
		return nil, err
	}
	var macKey [32]byte
	stream.XORKeyStream(macKey[:], macKey[:])
	n := len(encrypted) - poly1305.TagSize
	var tag [poly1305.TagSize]byte
	poly1305.Sum(&tag, encrypted[:n], &macKey)
	if subtle.ConstantTimeCompare(tag[:], encrypted[n:]) != 1 {
		return nil, ErrPassphraseWrong
	}
	stream.SetCounter(1)
	plain := make([]byte, n)
	stream.XORKeyStream(plain, encrypted[:n])
	return plain, nil
}
