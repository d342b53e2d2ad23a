package keypair

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/argon2"

	"plumlatch/internal/core/wire"
)

// The .ppk format, versions 2 and 3: headers, the public blob and the private
// blob in base64, and a MAC over all of it. ppkMagic and ppkMACKey are constants of
// the format, as bytes.
const (
	ppkMagic  = "\x50\x75\x54\x54\x59-User-Key-File-"
	ppkMACKey = "\x70\x75\x74\x74\x79-private-key-file-mac-key"
)

const (
	ppkMemoryKiB = 8192
	ppkPasses    = 13
)

func isPPK(text []byte) bool {
	return bytes.HasPrefix(bytes.TrimLeft(text, " \t\r\n\ufeff"), []byte(ppkMagic))
}

// ppk is a file's parts before they are judged.
type ppk struct {
	version         int
	algorithm       string
	encryption      string
	comment         string
	public, private []byte
	mac             []byte
	argon           map[string]string
}

func (p ppk) encrypted() bool { return p.encryption == "aes256-cbc" }

func readPPK(text, passphrase []byte) (PrivateFile, error) {
	p, err := parsePPK(string(text))
	if err != nil {
		return PrivateFile{}, err
	}
	file := PrivateFile{Format: PPK2, Encrypted: p.encrypted()}
	if p.version == 3 {
		file.Format = PPK3
	}
	if file.Encrypted {
		file.Cipher = p.encryption
	}
	if file.Public, err = ReadBlob(p.public); err != nil {
		return file, damaged("the public key in the file: %v", err)
	}
	file.Public.Comment = p.comment
	if file.Public.Algorithm != p.algorithm {
		return file, damaged(
			"the first line says %s, but the key data says %s", printable(p.algorithm), file.Public.Algorithm,
		)
	}
	keys, err := p.deriveKeys(passphrase)
	if err != nil {
		return file, err
	}
	plain := p.private
	if p.encrypted() {
		if plain, err = keys.open(p.private); err != nil {
			return file, err
		}
	}
	if !hmac.Equal(p.computeMAC(keys, plain), p.mac) {
		if p.encrypted() {
			return file, ErrPassphraseWrong
		}
		return file, damaged("the file's MAC does not fit: it was changed after it was written")
	}
	key, err := readPPKKey(file.Public, plain)
	if err != nil {
		return file, err
	}
	pair, err := pairOf(key, p.comment)
	if err != nil {
		return file, err
	}
	if !bytes.Equal(pair.Blob, p.public) {
		return file, damaged("the private and the public key in the file do not belong together")
	}
	file.Pair = pair
	return file, nil
}

// ppkText is the text of a .ppk file, read line by line.
type ppkText struct {
	lines []string
	at    int
}

// header returns the value of the line of that name, which is the next one.
func (t *ppkText) header(name string) (string, error) {
	refuse := func(code, problem string) error {
		return &Refusal{
			Code:    code,
			Line:    t.at + 1,
			Column:  1,
			Problem: problem,
			Remedy:  "Get the whole file again from where it was made",
		}
	}
	if t.at >= len(t.lines) {
		return "", refuse(CodeCutShort, "the file ends where the line "+name+" should be")
	}
	value, ok := strings.CutPrefix(t.lines[t.at], name+":")
	if !ok {
		return "", refuse(CodeBadBlob, "the line "+name+" should be here")
	}
	t.at++
	return strings.TrimSpace(value), nil
}

// blob returns the data of the lines that follow the line of that name, which says how many they are.
func (t *ppkText) blob(name string) ([]byte, error) {
	value, err := t.header(name)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(value)
	if err != nil || n < 1 || n > 2000 || t.at+n > len(t.lines) {
		return nil, &Refusal{
			Code:    CodeCutShort,
			Line:    t.at,
			Column:  1,
			Problem: "the file has not as many lines as " + name + " says",
			Remedy:  "Get the whole file again from where it was made",
		}
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(t.lines[t.at:t.at+n], ""))
	if err != nil {
		return nil, &Refusal{
			Code:    CodeBadBlob,
			Line:    t.at + 1,
			Column:  1,
			Problem: "the lines after " + name + " are not whole base64",
			Remedy:  "Get the whole file again from where it was made",
		}
	}
	t.at += n
	return data, nil
}

func parsePPK(text string) (ppk, error) {
	t := ppkText{
		lines: strings.Split(strings.ReplaceAll(strings.TrimLeft(text, " \t\r\n\ufeff"), "\r\n", "\n"), "\n"),
	}
	p := ppk{argon: map[string]string{}}
	versionText, _, _ := strings.Cut(strings.TrimPrefix(t.lines[0], ppkMagic), ":")
	switch versionText {
	case "2", "3":
		p.version = int(versionText[0] - '0')
	default:
		return p, &Refusal{
			Code:    CodeOtherForm,
			Line:    1,
			Column:  1,
			Problem: fmt.Sprintf("this is a .ppk file of the version %q; 2 and 3 are read", printable(versionText)),
			Remedy:  "Save it again with the program that made it",
		}
	}
	var err error
	if p.algorithm, err = t.header(ppkMagic + versionText); err != nil {
		return p, err
	}
	if p.encryption, err = t.header("Encryption"); err != nil {
		return p, err
	}
	if p.encryption != "none" && !p.encrypted() {
		return p, damaged("the file is encrypted with %q, which is not known here", printable(p.encryption))
	}
	if p.comment, err = t.header("Comment"); err != nil {
		return p, err
	}
	if p.public, err = t.blob("Public-Lines"); err != nil {
		return p, err
	}
	if p.version == 3 && p.encrypted() {
		for _, name := range []string{
			"Key-Derivation", "Argon2-Memory", "Argon2-Passes", "Argon2-Parallelism", "Argon2-Salt",
		} {
			if p.argon[name], err = t.header(name); err != nil {
				return p, err
			}
		}
	}
	if p.private, err = t.blob("Private-Lines"); err != nil {
		return p, err
	}
	mac, err := t.header("Private-MAC")
	if err != nil {
		return p, err
	}
	if p.mac, err = hex.DecodeString(mac); err != nil {
		return p, damaged("the line Private-MAC is not hexadecimal")
	}
	return p, nil
}

// ppkKeys are what a passphrase gives.
type ppkKeys struct{ cipher, iv, mac []byte }

func (p ppk) deriveKeys(passphrase []byte) (ppkKeys, error) {
	if p.encrypted() && p.version == 3 {
		if err := p.checkArgon(); err != nil {
			return ppkKeys{}, err
		}
	}
	if p.encrypted() && len(passphrase) == 0 {
		return ppkKeys{}, ErrPassphraseNeeded
	}
	if !p.encrypted() {
		passphrase = nil
	}
	if p.version == 2 {
		mac := sha1.Sum(append([]byte(ppkMACKey), passphrase...))
		var stretched []byte
		for n := range uint32(2) {
			sum := sha1.Sum(append(binary.BigEndian.AppendUint32(nil, n), passphrase...))
			stretched = append(stretched, sum[:]...)
		}
		return ppkKeys{cipher: stretched[:32], iv: make([]byte, aes.BlockSize), mac: mac[:]}, nil
	}
	if !p.encrypted() {
		return ppkKeys{}, nil
	}
	salt, err := hex.DecodeString(p.argon["Argon2-Salt"])
	if err != nil || len(salt) < 1 || len(salt) > 256 {
		return ppkKeys{}, damaged("the line Argon2-Salt is damaged")
	}
	number := func(name string) uint32 { n, _ := strconv.Atoi(p.argon[name]); return uint32(n) } // checked above
	derive := argon2.IDKey
	if p.argon["Key-Derivation"] == "Argon2i" {
		derive = argon2.Key
	}
	key := derive(
		passphrase, salt, number("Argon2-Passes"), number("Argon2-Memory"), uint8(number("Argon2-Parallelism")), 80,
	)
	return ppkKeys{cipher: key[:32], iv: key[32:48], mac: key[48:]}, nil
}

func (p ppk) checkArgon() error {
	if kdf := p.argon["Key-Derivation"]; kdf != "Argon2id" && kdf != "Argon2i" {
		return damaged("the key derivation %q is not known here", printable(kdf))
	}
	var n [3]int64
	for i, name := range []string{"Argon2-Memory", "Argon2-Passes", "Argon2-Parallelism"} {
		v, err := strconv.ParseInt(p.argon[name], 10, 32)
		if err != nil || v < 1 {
			return damaged("the line %s is damaged", name)
		}
		n[i] = v
	}
	switch {
	case n[0] > maxArgon2MemoryKiB:
		return tooMuchWork("Argon2 memory in KiB:", n[0], maxArgon2MemoryKiB)
	case n[0]*n[1] > maxArgon2Work:
		return tooMuchWork("Argon2 memory in KiB times passes:", n[0]*n[1], maxArgon2Work)
	case n[2] > 16:
		return tooMuchWork("Argon2 lanes:", n[2], 16)
	}
	return nil
}

func (k ppkKeys) open(encrypted []byte) ([]byte, error) {
	if len(encrypted) == 0 || len(encrypted)%aes.BlockSize != 0 {
		return nil, damaged("the encrypted part has a length that it cannot have")
	}
	return openCBC(k.cipher, k.iv, bytes.Clone(encrypted))
}

func (p ppk) computeMAC(k ppkKeys, plain []byte) []byte {
	h := hmac.New(sha1.New, k.mac)
	if p.version == 3 {
		h = hmac.New(sha256.New, k.mac)
	}
	var w wire.Writer
	for _, s := range [][]byte{[]byte(p.algorithm), []byte(p.encryption), []byte(p.comment), p.public, plain} {
		w.Str(s)
	}
	h.Write(w.Bytes)
	return h.Sum(nil)
}

// readPPKKey reads the private blob, which leans on the public one.
func readPPKKey(public Public, plain []byte) (any, error) {
	pub, r := wire.Reader{Rest: public.Blob}, wire.Reader{Rest: plain}
	pub.Str()
	switch public.Type {
	case RSA:
		e, n := pub.Mpint(), pub.Mpint()
		d, p, q, _ := r.Mpint(), r.Mpint(), r.Mpint(), r.Mpint()
		if r.Err != nil {
			return nil, damaged("a number of the RSA key is damaged")
		}
		return rsaKey(n, e, d, p, q)
	case ECDSA:
		curve, point := string(pub.Str()), pub.Str()
		d := r.Mpint()
		if r.Err != nil {
			return nil, damaged("the ECDSA key is damaged")
		}
		return ecdsaKey(curve, point, d)
	case Ed25519:
		point, seed := pub.Str(), slices.Clone(r.Str())
		if r.Err != nil || len(seed) > ed25519.SeedSize {
			return nil, damaged("the Ed25519 key is damaged")
		}
		// The number is written little-endian without its leading zeros.
		return ed25519Key(append(seed, make([]byte, ed25519.SeedSize-len(seed))...), point)
	}
	return nil, damaged("a .ppk file cannot have a key of the type %s", public.Type)
}

func ppkPrivateBlob(key crypto.Signer) []byte {
	var w wire.Writer
	switch k := key.(type) {
	case *rsa.PrivateKey:
		w.Mpint(k.D)
		w.Mpint(k.Primes[0])
		w.Mpint(k.Primes[1])
		w.Mpint(new(big.Int).ModInverse(k.Primes[1], k.Primes[0]))
	case *ecdsa.PrivateKey:
		d, err := k.Bytes()
		if err != nil {
			panic(err) // only for curves that pairOf never takes
		}
		w.Mpint(new(big.Int).SetBytes(d))
	case ed25519.PrivateKey:
		w.Str(bytes.TrimRight(k.Seed(), "\x00"))
	}
	return w.Bytes
}

func (p Pair) ppk(random io.Reader, version int, passphrase []byte) ([]byte, error) {
	f := ppk{
		version:    version,
		algorithm:  p.Algorithm,
		encryption: "none",
		comment:    p.Comment,
		public:     p.Blob,
		argon:      map[string]string{},
	}
	plain := ppkPrivateBlob(p.private)
	if len(passphrase) > 0 {
		f.encryption = "aes256-cbc"
		pad := sha256.Sum256(plain)
		plain = append(plain, pad[:(aes.BlockSize-len(plain)%aes.BlockSize)%aes.BlockSize]...)
		if version == 3 {
			salt := make([]byte, 16)
			if _, err := io.ReadFull(random, salt); err != nil {
				return nil, err
			}
			f.argon = map[string]string{
				"Key-Derivation":     "Argon2id",
				"Argon2-Memory":      strconv.Itoa(ppkMemoryKiB),
				"Argon2-Passes":      strconv.Itoa(ppkPasses),
				"Argon2-Parallelism": "1",
				"Argon2-Salt":        hex.EncodeToString(salt),
			}
		}
	}
	keys, err := f.deriveKeys(passphrase)
	if err != nil {
		return nil, err
	}
	f.mac = f.computeMAC(keys, plain)
	f.private = plain
	if f.encrypted() {
		block, err := aes.NewCipher(keys.cipher)
		if err != nil {
			return nil, err
		}
		f.private = make([]byte, len(plain))
		cipher.NewCBCEncrypter(block, keys.iv).CryptBlocks(f.private, plain)
	}
	return f.write(), nil
}

func (p ppk) write() []byte {
	var b bytes.Buffer
	line := func(name, value string) { fmt.Fprintf(&b, "%s: %s\n", name, value) }
	blob := func(name string, data []byte) {
		text := base64.StdEncoding.EncodeToString(data)
		line(name, strconv.Itoa((len(text)+63)/64))
		for l := range slices.Chunk([]byte(text), 64) {
			b.Write(l)
			b.WriteByte('\n')
		}
	}
	line(ppkMagic+strconv.Itoa(p.version), p.algorithm)
	line("Encryption", p.encryption)
	line("Comment", p.comment)
	blob("Public-Lines", p.public)
	if p.version == 3 && p.encrypted() {
		for _, name := range []string{
			"Key-Derivation",
			"Argon2-Memory",
			"Argon2-Passes",
			"Argon2-Parallelism",
			"Argon2-Salt",
		} {
			line(name, p.argon[name])
		}
	}
	blob("Private-Lines", p.private)
	line("Private-MAC", hex.EncodeToString(p.mac))
	return b.Bytes()
}
