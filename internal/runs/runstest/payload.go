// Package runstest tries the payloads of kinds of runs.
package runstest

import (
	"bytes"
	"encoding/json"
	"testing"

	"plumlatch/internal/record"
	"plumlatch/internal/runs"
)

// FuzzPayload reads made-up payloads as a kind of run does, beginning with the samples. What is read is
// written and read again the same.
func FuzzPayload[T any](f *testing.F, samples ...T) {
	f.Helper()
	for _, w := range samples {
		data, err := runs.Encode(w)
		if err != nil {
			f.Fatal(err)
		}
		f.Add([]byte(data), runs.PayloadVersion)
	}
	f.Add([]byte(`{"journal":{"removed":{"/home/debian/.ssh/authorized_keys":["x"]}}}`), runs.PayloadVersion)
	f.Add([]byte(`null`), 2)
	f.Fuzz(func(t *testing.T, payload []byte, version int) {
		if !json.Valid(payload) || version <= 0 {
			return
		}
		again[T](t, record.Run{Payload: payload, PayloadVersion: version})
	})
}

func again[T any](t *testing.T, run record.Run) {
	t.Helper()
	w, err := runs.Decode[T](run, runs.PayloadVersion)
	if err != nil {
		return
	}
	if run.PayloadVersion > runs.PayloadVersion {
		t.Fatalf("a payload of the version %d was read", run.PayloadVersion)
	}
	first, err := runs.Encode(w)
	if err != nil {
		t.Fatal(err)
	}
	run.Payload = first
	if w, err = runs.Decode[T](run, runs.PayloadVersion); err != nil {
		t.Fatalf("%s cannot be read again: %v", first, err)
	}
	if second, err := runs.Encode(w); err != nil || !bytes.Equal(second, first) {
		t.Errorf("%s is read, written and read as %s: %v", first, second, err)
	}
}
