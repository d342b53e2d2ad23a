package croft

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
)

// journal keeps operations, and what is known of machines that are gone, in one file. It is bbolt: one file, a flush at
// each commit, no C. Nothing is in it that libvirt could tell.
type journal struct{ db *bbolt.DB }

var (
	bucketOperations = []byte("operations")
	bucketGone       = []byte("gone")
	bucketSelf       = []byte("self")
)

// operation is one as it is kept.
type operation struct {
	adapter.Operation
	Begun time.Time
	// UserData is that of a launch.
	UserData string `json:",omitempty"`
	// Lending is what an attach or a detach is about, Copy what a snapshot is.
	Lending *lending `json:",omitempty"`
	Copy    *copying `json:",omitempty"`
}

// openJournal opens the journal in a folder. A second croftd on it is refused.
func openJournal(folder string) (*journal, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "croft.journal")
	db, err := bbolt.Open(path, 0o600, &bbolt.Options{Timeout: 2 * time.Second})
	if err != nil {
		return nil, fmt.Errorf("%s: %w (is another croftd at work with it?)", path, err)
	}
	err = db.Update(func(tx *bbolt.Tx) error {
		for _, name := range [][]byte{bucketOperations, bucketGone, bucketSelf} {
			if _, err := tx.CreateBucketIfNotExists(name); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		db.Close()
		return nil, err
	}
	return &journal{db}, nil
}

// id tells this journal from all others.
func (j *journal) id() (string, error) {
	id, there, err := get[string](j, bucketSelf, "id")
	if err != nil || there {
		return id, err
	}
	id = strings.ToLower(rand.Text()[:16])
	return id, put(j, bucketSelf, "id", id)
}

func put(j *journal, bucket []byte, id string, v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return j.db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucket).Put([]byte(id), text) })
}

func get[T any](j *journal, bucket []byte, id string) (v T, there bool, err error) {
	err = j.db.View(func(tx *bbolt.Tx) error {
		text := tx.Bucket(bucket).Get([]byte(id))
		if there = text != nil; !there {
			return nil
		}
		return json.Unmarshal(text, &v)
	})
	return v, there, err
}

func all[T any](j *journal, bucket []byte) (out []T, err error) {
	err = j.db.View(func(tx *bbolt.Tx) error {
		return tx.Bucket(bucket).ForEach(func(_, text []byte) error {
			var v T
			if err := json.Unmarshal(text, &v); err != nil {
				return err
			}
			out = append(out, v)
			return nil
		})
	})
	return out, err
}

// running are the operations that have not ended.
func (j *journal) running() (out []operation, err error) {
	list, err := all[operation](j, bucketOperations)
	for _, o := range list {
		if o.State == adapter.OperationStateRunning {
			out = append(out, o)
		}
	}
	return out, err
}
