package keypair

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/md5"
	"crypto/x509"
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"strings"

	"github.com/youmark/pkcs8"
)

func readPEM(text, passphrase []byte) (PrivateFile, error) {
	for {
		block, rest := pem.Decode(text)
		if block == nil {
			return PrivateFile{}, notPrivate(text)
		}
		text = rest
		switch block.Type {
		case "OPENSSH PRIVATE KEY":
			return readOpenSSH(block.Bytes, passphrase)
		case "RSA PRIVATE KEY", "EC PRIVATE KEY":
			return readClassic(block, passphrase)
		case "PRIVATE KEY", "ENCRYPTED PRIVATE KEY":
			return readPKCS8(block, passphrase)
		case "DSA PRIVATE KEY":
			return PrivateFile{}, &Refusal{
				Code:    CodeUnknownType,
				Problem: "this is a DSA key: 1024 bits, and OpenSSH has refused them since version 7.0",
				Remedy:  "Make a new key: plumlatch key new NAME",
			}
		case "EC PARAMETERS": // comes before an EC key that some programs write
			continue
		}
		return PrivateFile{}, notPrivate(text)
	}
}

func notPrivate(text []byte) error {
	r := &Refusal{
		Code:    CodeOtherForm,
		Problem: "this is no private key in a form that is known here",
		Remedy:  "Known are OpenSSH's own form, PEM (PKCS#1, SEC1, PKCS#8) and .ppk",
	}
	if HoldsPrivate(string(text)) {
		r.Problem = "this looks like a private key, but its PEM armour is damaged: a header, a footer or a line between them"
		r.Remedy = "Get the file again from where it was made; see what is wrong with it: plumlatch key inspect FILE"
	}
	return r
}

func readClassic(block *pem.Block, passphrase []byte) (PrivateFile, error) {
	file := PrivateFile{Format: ClassicPEM}
	der := block.Bytes
	if info := block.Headers["DEK-Info"]; info != "" {
		file.Encrypted = true
		file.Cipher, _, _ = strings.Cut(info, ",")
		if len(passphrase) == 0 {
			return file, ErrPassphraseNeeded
		}
		var err error
		if der, err = openDEK(info, der, passphrase); err != nil {
			return file, err
		}
	}
	var key any
	var err error
	if block.Type == "RSA PRIVATE KEY" {
		key, err = readPKCS1(der)
	} else {
		key, err = x509.ParseECPrivateKey(der)
	}
	if err != nil {
		if file.Encrypted {
			return file, ErrPassphraseWrong
		}
		var r *Refusal
		if errors.As(err, &r) {
			return file, err
		}
		return file, damaged("the key data in the PEM armour is damaged")
	}
	file.Pair, err = pairOf(key, "")
	return file, err
}

// pkcs1Private is RSAPrivateKey of RFC 8017 appendix A.1.2.
type pkcs1Private struct {
	Version             int
	N, E, D, P, Q       *big.Int
	Dp, Dq, Coefficient *big.Int
}

// readPKCS1 reads an RSA key without the standard library's test that the
// primes are prime, which takes seconds for the largest keys.
func readPKCS1(der []byte) (any, error) {
	var k pkcs1Private
	rest, err := asn1.Unmarshal(der, &k)
	if err != nil || len(rest) > 0 || k.Version != 0 {
		return nil, errors.New("not an RSAPrivateKey of two primes")
	}
	return rsaKey(k.N, k.E, k.D, k.P, k.Q)
}

// dekCiphers are the ciphers of RFC 1423's DEK-Info header as OpenSSL writes it.
var dekCiphers = map[string]struct {
	key int
	new func([]byte) (cipher.Block, error)
}{
	"AES-128-CBC":  {16, aes.NewCipher},
	"AES-192-CBC":  {24, aes.NewCipher},
	"AES-256-CBC":  {32, aes.NewCipher},
	"DES-EDE3-CBC": {24, des.NewTripleDESCipher},
	"DES-CBC":      {8, des.NewCipher},
}

func dekBlock(name string, salt, passphrase []byte) (cipher.Block, error) {
	c, ok := dekCiphers[name]
	if !ok {
		return nil, damaged("the file is encrypted with %q, which is not known here", printable(name))
	}
	var key, last []byte // EVP_BytesToKey with MD5 and one round
	for len(key) < c.key {
		h := md5.New()
		h.Write(last)
		h.Write(passphrase)
		h.Write(salt[:8])
		last = h.Sum(nil)
		key = append(key, last...)
	}
	return c.new(key[:c.key])
}

func openDEK(info string, encrypted, passphrase []byte) ([]byte, error) {
	name, ivText, _ := strings.Cut(info, ",")
	iv, err := hex.DecodeString(strings.TrimSpace(ivText))
	if err != nil || len(iv) < 8 {
		return nil, damaged("the DEK-Info header is damaged")
	}
	block, err := dekBlock(name, iv, passphrase)
	if err != nil {
		return nil, err
	}
	if len(iv) != block.BlockSize() || len(encrypted) == 0 || len(encrypted)%block.BlockSize() != 0 {
		return nil, damaged("the encrypted key data has a length that it cannot have")
	}
	plain := make([]byte, len(encrypted))
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, encrypted)
	pad := int(plain[len(plain)-1])
	if pad == 0 || pad > block.BlockSize() || !bytes.Equal(plain[len(plain)-pad:], bytes.Repeat([]byte{byte(pad)}, pad)) {
		return nil, ErrPassphraseWrong
	}
	return plain[:len(plain)-pad], nil
}

// sealDEK encrypts with AES-256-CBC, the strongest that the old header has.
func sealDEK(random io.Reader, typ string, der, passphrase []byte) (*pem.Block, error) {
	iv := make([]byte, aes.BlockSize)
	if _, err := io.ReadFull(random, iv); err != nil {
		return nil, err
	}
	block, err := dekBlock("AES-256-CBC", iv, passphrase)
	if err != nil {
		return nil, err
	}
	pad := aes.BlockSize - len(der)%aes.BlockSize
	encrypted := append(bytes.Clone(der), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(encrypted, encrypted)
	return &pem.Block{
		Type:  typ,
		Bytes: encrypted,
		Headers: map[string]string{
			"Proc-Type": "4,ENCRYPTED",
			"DEK-Info":  "AES-256-CBC," + strings.ToUpper(hex.EncodeToString(iv)),
		},
	}, nil
}

func readPKCS8(block *pem.Block, passphrase []byte) (PrivateFile, error) {
	file := PrivateFile{Format: PKCS8}
	der := block.Bytes
	if block.Type == "ENCRYPTED PRIVATE KEY" {
		file.Encrypted, file.Cipher = true, "PBES2"
		if err := checkPBES2(der); err != nil {
			return file, err
		}
		if len(passphrase) == 0 {
			return file, ErrPassphraseNeeded
		}
		key, _, err := pkcs8.ParsePrivateKey(der, passphrase)
		if err != nil {
			return file, ErrPassphraseWrong
		}
		file.Pair, err = pairOf(key, "")
		return file, err
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return file, damaged("the key data in the PEM armour is damaged, or of a type that SSH does not know")
	}
	file.Pair, err = pairOf(key, "")
	return file, err
}

// checkPBES2 bounds the work that the key derivation asks for (RFC 8018
// appendix A.4; scrypt: RFC 7914 section 7).
func checkPBES2(der []byte) error {
	type algorithmIdentifier struct {
		ID     asn1.ObjectIdentifier
		Params asn1.RawValue `asn1:"optional"`
	}
	var outer struct {
		Algorithm struct {
			ID     asn1.ObjectIdentifier
			Params struct{ KDF, Cipher algorithmIdentifier }
		}
		Data []byte
	}
	if rest, err := asn1.Unmarshal(der, &outer); err != nil || len(rest) > 0 {
		return damaged("the file is not encrypted with PBES2, the one scheme of PKCS#8 that is read")
	}
	kdf := outer.Algorithm.Params.KDF
	var pbkdf2 struct {
		Salt   asn1.RawValue
		Rounds int
		Rest   asn1.RawValue `asn1:"optional"`
		PRF    asn1.RawValue `asn1:"optional"`
	}
	var scrypt struct {
		Salt                []byte
		Cost, Block, Spread int
		KeyLength           int `asn1:"optional"`
	}
	switch {
	case kdf.ID.Equal(asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}):
		if _, err := asn1.Unmarshal(kdf.Params.FullBytes, &pbkdf2); err != nil || pbkdf2.Rounds < 1 {
			return damaged("the settings of the key derivation are damaged")
		}
		if pbkdf2.Rounds > maxPBKDF2Rounds {
			return tooMuchWork("PBKDF2 rounds:", int64(pbkdf2.Rounds), maxPBKDF2Rounds)
		}
	case kdf.ID.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}):
		if _, err := asn1.Unmarshal(kdf.Params.FullBytes, &scrypt); err != nil || scrypt.Cost < 2 || scrypt.Block < 1 ||
			scrypt.Spread < 1 {
			return damaged("the settings of the key derivation are damaged")
		}
		if scrypt.Spread > 4 || scrypt.Block > 32 || scrypt.Cost > maxScryptMemory/(128*scrypt.Block) {
			return tooMuchWork("scrypt work:", int64(scrypt.Cost), int64(maxScryptMemory/(128*min(scrypt.Block, 32))))
		}
	default:
		return damaged("the key derivation of the file is not known here")
	}
	return nil
}
