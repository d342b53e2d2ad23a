// Package secrets makes the secrets that the service hands out, as those of tokens and sessions, and
// the hashes by which it knows them again.
package secrets
