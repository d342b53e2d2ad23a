package paddock

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
)

// instance is one machine as the cloud keeps it.
type instance struct {
	adapter.Instance
	UserData string
	// Booted is whether first boot has been done.
	Booted bool
	// BootOutput is what the instance wrote to its console since its last start.
	BootOutput string
	// RootDisk is the disk that it was launched with, and Device the name under which
	// its system looks for it.
	RootDisk, Device string
	Encrypted        bool
	// Mounts are the disks that were mounted in it, by where.
	Mounts map[string]string
	// MetadataKeys are kept since MetadataSince; PlacedKeys are those that the process
	// in the guest has placed.
	MetadataKeys, PlacedKeys []adapter.MetadataKey
	MetadataSince            time.Time
	// RefusesGroupKeys is whether it was told to refuse the keys of its groups.
	RefusesGroupKeys bool
	// Password is the administrator's of a Windows instance.
	Password *adapter.Password
	// Copied is the copy that it was launched from.
	Copied string
	// AgentPermittedAt is when its guest agent was permitted; zero while it is not.
	AgentPermittedAt time.Time
	// Operation is the id of the last operation begun on it.
	Operation string
}

// operation is a slow action under way or ended.
type operation struct {
	adapter.Operation
	PhaseSince time.Time
	// Disk is what an attach, a detach or a snapshot works on.
	Disk       string
	Attachment adapter.Attachment
	Copy       adapter.Snapshot
	// Broken is whether it is to fail.
	Broken bool
}

var (
	bucketInstances  = []byte("instances")
	bucketOperations = []byte("operations")
	bucketRules      = []byte("rules")
	bucketTokens     = []byte("tokens")
	bucketAddresses  = []byte("addresses")
	bucketSnapshots  = []byte("snapshots")
	bucketDisks      = []byte("disks")
	bucketKeyPairs   = []byte("key pairs") // a region and a name to a key
	bucketGroups     = []byte("key groups")
	bucketChanges    = []byte("changes") // numbers to instances, each once
	bucketChangeOf   = []byte("change of")
	bucketAttached   = []byte("attached") // an instance and a disk to a key
	buckets          = [][]byte{
		bucketInstances,
		bucketOperations,
		bucketRules,
		bucketTokens,
		bucketAddresses,
		bucketSnapshots,
		bucketDisks,
		bucketKeyPairs,
		bucketGroups,
		bucketChanges,
		bucketChangeOf,
	}
)

// state keeps the cloud's records in one file. It does not flush each change to
// the disk: a killed process loses nothing, a power cut may lose the last moments.
type state struct{ db *bbolt.DB }

func openState(file string) (*state, error) {
	db, err := bbolt.Open(file, 0o600, &bbolt.Options{Timeout: 5 * time.Second, NoSync: true, NoFreelistSync: true})
	if err != nil {
		return nil, fmt.Errorf("paddock: open %s: %w (is another paddockd using it?)", file, err)
	}
	err = db.Update(func(tx *bbolt.Tx) error {
		for _, b := range buckets {
			if _, err := tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		if tx.Bucket(bucketAttached) != nil {
			return nil
		}
		if _, err := tx.CreateBucket(bucketAttached); err != nil {
			return err
		}
		return linkDisks(tx)
	})
	return &state{db}, err
}

func (s *state) close() { s.db.Close() }

// newID returns a cloud's kind of id: a prefix and 12 hexadecimal digits.
func newID(prefix string) string {
	var b [6]byte
	rand.Read(b[:])
	return prefix + "-" + hex.EncodeToString(b[:])
}

func put(tx *bbolt.Tx, bucket []byte, key string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if string(bucket) == string(bucketInstances) {
		if err := noteChange(tx, key); err != nil {
			return err
		}
	}
	return tx.Bucket(bucket).Put([]byte(key), data)
}

func get[T any](tx *bbolt.Tx, bucket []byte, key string) (T, error) {
	var v T
	data := tx.Bucket(bucket).Get([]byte(key))
	if data == nil {
		return v, adapter.ErrNotFound
	}
	return v, json.Unmarshal(data, &v)
}

func all[T any](s *state, bucket []byte, after string, limit int, keep func(T) bool) ([]T, error) {
	out := []T{}
	err := s.db.View(func(tx *bbolt.Tx) error {
		c := tx.Bucket(bucket).Cursor()
		k, data := c.Seek([]byte(after))
		if k != nil && string(k) == after {
			k, data = c.Next()
		}
		for ; k != nil && len(out) < limit; k, data = c.Next() {
			var v T
			if err := json.Unmarshal(data, &v); err != nil {
				return err
			}
			if keep == nil || keep(v) {
				out = append(out, v)
			}
		}
		return nil
	})
	return out, err
}

const noLimit = 1 << 30

func (s *state) instances() ([]instance, error) {
	return all[instance](s, bucketInstances, "", noLimit, nil)
}

func (s *state) runningOperations() ([]operation, error) {
	return all(
		s,
		bucketOperations,
		"",
		noLimit,
		func(o operation) bool { return o.State == adapter.OperationStateRunning },
	)
}

func (s *state) rules() ([]adapter.FirewallRule, error) {
	return all[adapter.FirewallRule](s, bucketRules, "", noLimit, nil)
}

func (s *state) instance(id string) (i instance, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		i, err = get[instance](tx, bucketInstances, id)
		return err
	})
	return i, err
}

func (s *state) operation(id string) (o operation, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		o, err = get[operation](tx, bucketOperations, id)
		return err
	})
	return o, err
}

// change applies f to the instance and its operation and keeps both, or neither.
func (s *state) change(op operation, f func(*instance, *operation)) (instance, operation, error) {
	var i instance
	err := s.db.Update(func(tx *bbolt.Tx) error {
		var err error
		if i, err = get[instance](tx, bucketInstances, op.Instance); err != nil {
			return err
		}
		f(&i, &op)
		return cmp.Or(put(tx, bucketInstances, i.Id, i), put(tx, bucketOperations, op.Id, op))
	})
	return i, op, err
}

// takeAddress gives out the next free address of the block to the instance:
// one of the lower half as a private address, one of the upper half as a public
// one. It continues from the last one given, so that an address given back is not
// soon given out again.
func takeAddress(tx *bbolt.Tx, block netip.Prefix, id string, public bool) (string, error) {
	b := tx.Bucket(bucketAddresses)
	hosts := uint32(1) << (32 - block.Bits())
	first, last := uint32(1), hosts/2-1
	cursor := []byte("next-private")
	if public {
		first, last, cursor = hosts/2, hosts-1, []byte("next-public")
	}
	base := toUint(block.Masked().Addr())
	next := first
	if v := b.Get(cursor); len(v) == 4 {
		next = uint32(v[0])<<24 | uint32(v[1])<<16 | uint32(v[2])<<8 | uint32(v[3])
	}
	for range last - first + 1 {
		if next > last || next < first {
			next = first
		}
		n := next
		next++
		if low := n & 0xff; low == 0 || low == 255 {
			continue
		}
		address := fromUint(base + n).String()
		if b.Get([]byte(address)) != nil {
			continue
		}
		if err := b.Put(cursor, []byte{byte(next >> 24), byte(next >> 16), byte(next >> 8), byte(next)}); err != nil {
			return "", err
		}
		return address, b.Put([]byte(address), []byte(id))
	}
	return "", fmt.Errorf("no address is free in %s", block)
}

func giveAddress(tx *bbolt.Tx, address string) error {
	if address == "" {
		return nil
	}
	return tx.Bucket(bucketAddresses).Delete([]byte(address))
}

func toUint(a netip.Addr) uint32 {
	b := a.As4()
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
}

func fromUint(n uint32) netip.Addr {
	return netip.AddrFrom4([4]byte{byte(n >> 24), byte(n >> 16), byte(n >> 8), byte(n)})
}

// ensureDefaultRule opens the SSH port to everybody in the group "default", as
// a new cloud account often does.
func (s *state) ensureDefaultRule() error {
	return s.db.Update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketRules)
		if k, _ := b.Cursor().First(); k != nil || b.Sequence() > 0 {
			return nil
		}
		if _, err := b.NextSequence(); err != nil {
			return err
		}
		r := adapter.FirewallRule{Id: newID("rule"), Group: "default", Source: "127.0.0.0/8", Port: SSHPort}
		return put(tx, bucketRules, r.Id, r)
	})
}
