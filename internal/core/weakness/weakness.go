// Package weakness finds what is wrong with keys and their files, and what to do about it.
package weakness

import (
	"fmt"
	"math/big"
	"regexp"
	"strings"

	"plumlatch/internal/core/keypair"
)

// Weight is how much a finding matters.
type Weight string

// The weights.
const (
	Bad     Weight = "bad"     // act now
	Caution Weight = "caution" // act soon
	Remark  Weight = "remark"  // worth knowing
)

// Finding is something to know about a key or its file.
type Finding struct {
	Code   string `json:"code"`
	Weight Weight `json:"weight"`
	Text   string `json:"text"`
	Remedy string `json:"remedy"`
	// ActBy is the day, as 2030-12-31, after which the key should not be in use.
	// It may be past. "" means at once for Bad and Caution, and no hurry for a Remark.
	ActBy string `json:"act_by,omitempty"`
}

var personAtHost = regexp.MustCompile(`\S@\S`)

// The days after which NIST SP 800-131A (revision 2) and SP 800-57 part 1
// (revision 5) no longer take RSA keys of under 2048 and under 3072 bits.
const (
	endOfShortRSA = "2013-12-31"
	endOfOldRSA   = "2030-12-31"
)

const newKeyRemedy = "Make a new key and let that in instead: plumlatch key new NAME"

// Judge returns what should be known about a public key, the worst first. The
// bounds are those of NIST SP 800-57 part 1 (112 and 128 bits of security).
func Judge(p keypair.Public) []Finding {
	var out []Finding
	if p.Type == keypair.RSA {
		switch {
		case p.Bits < 2048:
			out = append(out, Finding{
				"rsa-short",
				Bad,
				fmt.Sprintf("the RSA key has %d bits; fewer than 2048 can be broken by those with money", p.Bits),
				newKeyRemedy,
				endOfShortRSA,
			})
		case p.Bits < 3072:
			out = append(out, Finding{
				"rsa-old",
				Remark,
				fmt.Sprintf("the RSA key has %d bits; 3072 are advised for keys used beyond 2030", p.Bits),
				newKeyRemedy,
				endOfOldRSA,
			})
		}
		if e, _ := p.RSANumbers(); e != nil && e.Cmp(big.NewInt(65537)) < 0 {
			out = append(out, Finding{
				"rsa-exponent",
				Caution,
				fmt.Sprintf("the RSA exponent is %s; small ones made several attacks possible", e),
				newKeyRemedy,
				"",
			})
		}
	}
	if personAtHost.MatchString(p.Comment) {
		out = append(out, Finding{
			"comment-names",
			Remark,
			"the comment names a person and a machine, and is seen wherever the public key is",
			"Replace it: -comment TEXT, or -no-comment",
			"",
		})
	}
	return out
}

// JudgePrivate returns what should be known about a private key's file, beside
// what Judge says of the key.
func JudgePrivate(f keypair.PrivateFile) []Finding {
	var out []Finding
	switch {
	case !f.Encrypted:
		out = append(out, Finding{
			"no-passphrase",
			Caution,
			"the private key has no passphrase: anyone with the file can log in",
			"Give it one: plumlatch key passphrase FILE",
			"",
		})
	case f.Format == keypair.ClassicPEM:
		out = append(out, Finding{
			"old-encryption",
			Caution,
			"the passphrase is stretched with one round of MD5, so it can be guessed fast",
			"Write it again: plumlatch key convert FILE -to openssh",
			"",
		})
	case f.Format == keypair.PPK2:
		out = append(out, Finding{
			"old-encryption",
			Caution,
			"version 2 of .ppk stretches the passphrase with one round of SHA-1, so it can be guessed fast",
			"Write it again: plumlatch key convert FILE -to ppk3",
			"",
		})
	case strings.HasSuffix(f.Cipher, "-cbc") && f.Format == keypair.OpenSSHPrivate:
		out = append(out, Finding{
			"old-cipher",
			Remark,
			"it is encrypted with " + f.Cipher + "; OpenSSH has written aes256-ctr since 2018",
			"Write it again: plumlatch key passphrase FILE",
			"",
		})
	}
	return out
}

// SharedPrime is two RSA keys, by their places in the list given, that share a prime.
type SharedPrime struct{ A, B int }

// SharedPrimes finds the RSA moduli that share a prime with another: both keys
// of such a pair are broken, since anybody can compute the prime. It is Bernstein's
// batch GCD (cr.yp.to/papers.html#smoothparts): a product tree up, remainders down.
func SharedPrimes(moduli []*big.Int) []SharedPrime {
	if len(moduli) < 2 {
		return nil
	}
	tree := [][]*big.Int{moduli}
	for level := moduli; len(level) > 1; {
		var up []*big.Int
		for i := 0; i < len(level); i += 2 {
			if i+1 == len(level) {
				up = append(up, level[i])
				continue
			}
			up = append(up, new(big.Int).Mul(level[i], level[i+1]))
		}
		tree, level = append(tree, up), up
	}
	remainders := tree[len(tree)-1]
	for depth := len(tree) - 2; depth >= 0; depth-- {
		down := make([]*big.Int, len(tree[depth]))
		for i, n := range tree[depth] {
			down[i] = new(big.Int).Mod(remainders[i/2], new(big.Int).Mul(n, n))
		}
		remainders = down
	}
	var suspects []int
	for i, n := range moduli {
		rest := new(big.Int).Div(remainders[i], n)
		if new(big.Int).GCD(nil, nil, rest, n).Cmp(one) != 0 {
			suspects = append(suspects, i)
		}
	}
	var out []SharedPrime
	for x, a := range suspects {
		for _, b := range suspects[x+1:] {
			if sharePrime(moduli[a], moduli[b]) {
				out = append(out, SharedPrime{a, b})
			}
		}
	}
	return out
}

// SharedPrimesWith finds which of the fresh RSA moduli (A) share a prime with
// which of the known ones (B). Its work grows with the number of known moduli times
// the length of all fresh ones together, so a few hundred at once are best.
func SharedPrimesWith(fresh, known []*big.Int) []SharedPrime {
	product := big.NewInt(1)
	for _, n := range fresh {
		product.Mul(product, n)
	}
	rest := big.NewInt(1)
	for _, m := range known {
		rest.Mod(rest.Mul(rest, m), product)
	}
	var out []SharedPrime
	for a, n := range fresh {
		left := new(big.Int).Mod(rest, n)
		if left.GCD(nil, nil, left, n).Cmp(one) == 0 {
			continue
		}
		for b, m := range known {
			if sharePrime(n, m) {
				out = append(out, SharedPrime{a, b})
			}
		}
	}
	return out
}

var one = big.NewInt(1)

// sharePrime reports whether two moduli share one prime, and not both.
func sharePrime(a, b *big.Int) bool {
	return a.Cmp(b) != 0 && new(big.Int).GCD(nil, nil, a, b).Cmp(one) != 0
}

// SharedPrimeFinding is what should be known of a key that shares a prime with the
// others named.
func SharedPrimeFinding(others []string) Finding {
	return Finding{
		Code:   "shared-prime",
		Weight: Bad,
		Text:   "it shares a prime with " + strings.Join(others, ", ") + ", so anybody can compute both private keys",
		Remedy: "Make new keys on another machine, and let those in instead: plumlatch key new NAME",
	}
}
