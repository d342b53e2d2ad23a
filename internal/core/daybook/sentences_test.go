package daybook

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestTextIsMadeFromTheDetails(t *testing.T) {
	until := time.Date(2026, 12, 1, 9, 30, 0, 0, time.UTC)
	for told, c := range map[string]struct {
		details map[string]any
		want    string
	}{
		"team.add":    {nil, "ines made the team gannet."},
		"sweep.start": {map[string]any{"logins": 1}, "ines started a sweep of 1 login."},
		"login.changed": {
			map[string]any{"path": "f", "added": 0, "removed": 2},
			"f of gannet changed: 0 lines added, 2 lines removed.",
		},
		"grant.add": {
			map[string]any{"key": "puffin", "until": until.Format(time.RFC3339)},
			"ines granted gannet to the key puffin until 1 Dec 2026 09:30 UTC.",
		},
		"grant.withdraw": {map[string]any{"key": "puffin"}, "ines asked to withdraw gannet from the key puffin."},
		"key.release": {
			map[string]any{"consent_by": "", "encrypted": false},
			"ines took the private key of gannet out of the safe.",
		},
		"subscriber.add": {
			map[string]any{"kinds": []string{"a", "b"}},
			"ines added the subscriber gannet, which is sent a, b.",
		},
		"operator.change": {
			map[string]any{"role": "admin", "closed": true},
			"ines changed the account of gannet: its role is admin; it was closed.",
		},
		"nobody.knows": {nil, "ines: nobody.knows of key gannet."},
		"grant.placed:not": {
			map[string]any{"key": "k", "reason": "it is full"},
			"The line of k was not placed in gannet: it is full.",
		},
	} {
		e := Entry{
			Person: "ines", Action: Action(told), SubjectKind: "key", Subject: "gannet", Told: told,
			Details: c.details,
		}
		if got := e.Text(); got != c.want {
			t.Errorf("%s: %q, want %q", told, got, c.want)
		}
		// As it comes back from the database, where numbers and lists are other types.
		data, err := json.Marshal(c.details)
		if err != nil {
			t.Fatal(err)
		}
		e.Details = nil
		if err := json.Unmarshal(data, &e.Details); err != nil {
			t.Fatal(err)
		}
		if got := e.Text(); got != c.want {
			t.Errorf("%s, read again: %q, want %q", told, got, c.want)
		}
	}
	consented := Entry{Person: "ines", Subject: "gannet", Told: "key.release", Details: map[string]any{
		"consent_by": "oona", "encrypted": true,
	}}
	want := "ines took the private key of gannet out of the safe, with the consent of oona, encrypted for their client."
	if got := consented.Text(); got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestAnEarlierEntryKeepsItsSentenceAndItsHash(t *testing.T) {
	e := Entry{Seq: 1, At: time.Unix(0, 0), Person: "ines", Sentence: "Ines made it.", Details: map[string]any{}}
	if e.Text() != "Ines made it." {
		t.Errorf("%q", e.Text())
	}
	canonical, err := Canonical(e)
	if err != nil || strings.Contains(string(canonical), "told") {
		t.Errorf("what the hash covers is not what it was: %s %v", canonical, err)
	}
	e.Told = "team.add"
	if with, err := Canonical(e); err != nil || !strings.Contains(string(with), `"told":"team.add"`) {
		t.Errorf("the hash does not cover what is told: %s %v", with, err)
	}
}

func TestEverySentenceIsWhole(t *testing.T) {
	names := Told()
	if len(names) < 80 {
		t.Fatalf("only %d sentences", len(names))
	}
	for _, name := range names {
		words := sentences[name]
		if strings.Count(words, "{") != strings.Count(words, "}") || strings.Count(words, "[") != strings.Count(words, "]") {
			t.Errorf("%s: an open brace or bracket in %q", name, words)
		}
		if got := (Entry{Person: "ines", Subject: "s", Told: name}).Text(); !strings.HasSuffix(got, ".") {
			t.Errorf("%s: no sentence: %q", name, got)
		}
	}
	if !slices.Contains(names, "key.import:made") || Action("key.import:made") != "key.import" {
		t.Error("what tells the ends of an action apart is missing")
	}
}
