package service

import (
	"bytes"
	"encoding/json"
	"testing"

	"plumlatch/internal/runs"
	"plumlatch/internal/store"
)

// FuzzPayloads reads made-up payloads as each kind of run does. What is read is written and read again the same.
func FuzzPayloads(f *testing.F) {
	for _, w := range []any{
		lifecycleWork{},
		grantWork{Worker: "ines", Added: true},
		settleWork{},
		rotateWork{Proved: true},
		restoreWork{Kept: true},
	} {
		f.Add([]byte(encode(w)), runs.PayloadVersion)
	}
	f.Add([]byte(`{"journal":{"removed":{"/home/debian/.ssh/authorized_keys":["x"]}}}`), runs.PayloadVersion)
	f.Add([]byte(`null`), 2)
	f.Fuzz(func(t *testing.T, payload []byte, version int) {
		if !json.Valid(payload) || version <= 0 {
			return
		}
		run := store.Run{Payload: payload, PayloadVersion: version}
		again[lifecycleWork](t, run)
		again[grantWork](t, run)
		again[settleWork](t, run)
		again[rotateWork](t, run)
		again[restoreWork](t, run)
	})
}

func again[T any](t *testing.T, run store.Run) {
	t.Helper()
	w, err := runs.Decode[T](run, runs.PayloadVersion)
	if err != nil {
		return
	}
	if run.PayloadVersion > runs.PayloadVersion {
		t.Fatalf("a payload of the version %d was read", run.PayloadVersion)
	}
	first := encode(w)
	run.Payload = first
	if w, err = runs.Decode[T](run, runs.PayloadVersion); err != nil || !bytes.Equal(encode(w), first) {
		t.Errorf("%s is read, written and read as %s: %v", first, encode(w), err)
	}
}

func encode(payload any) json.RawMessage {
	data, err := runs.Encode(payload)
	if err != nil {
		panic(err)
	}
	return data
}
