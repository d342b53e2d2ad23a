// Package journal holds the commands about what is going on and what was done: runs, the daybook, and subscribers.
package journal

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/core/text"
)

var DaybookCommands = []kit.Command{
	{
		Name:    "daybook list",
		Flags:   daybookList,
		Summary: "Show the daybook: who did what, newest first",
		Examples: []string{
			"plumlatch daybook list",
			"plumlatch daybook list -instance atlas-web-1",
			"plumlatch daybook list -person marek -action grant -from 2026-10-01",
		},
	},
	{
		Name:     "daybook watch",
		Flags:    daybookWatch,
		Summary:  "Follow the daybook live",
		Examples: []string{"plumlatch daybook watch", "plumlatch daybook watch -action key.release"},
	},
	{
		Name: "daybook export", NoNames: true,
		Flags:   daybookExport,
		Summary: "Write all entries as JSON Lines, oldest first",
		Examples: []string{
			"plumlatch daybook export > daybook.jsonl",
			"plumlatch daybook export -key atlas-deploy -out atlas-deploy.jsonl",
		},
	},
	{
		Name: "daybook head", NoNames: true,
		Flags:   daybookHead,
		Summary: "Write the signed head of the daybook, to compare with later",
		Detail: "Keep it where nobody who runs this service can write. The first time, compare the fingerprint of " +
			"the signing key with the one that the service shows.",
		Examples: []string{"plumlatch daybook head -out head-2026-11.json"},
	},
	{
		Name: "daybook check", NoNames: true,
		Flags:   daybookCheck,
		Summary: "Find the first entry that is not intact",
		Detail: "With -file it checks an export here, without the service. With -head it also finds whether the " +
			"daybook was shortened or rewritten since that head was written.",
		Examples: []string{
			"plumlatch daybook check",
			"plumlatch daybook check -head head-2026-11.json",
			"plumlatch daybook check -file daybook.jsonl -head head-2026-11.json",
		},
	},
}

// entryFlags narrow the daybook.
type entryFlags struct {
	person, about, action, key, instance, run string
	from, until                               kit.Ago
}

func (e *entryFlags) flags(f *flag.FlagSet) {
	f.StringVar(&e.person, "person", "", "only what this person did")
	f.StringVar(&e.about, "about", "", "only entries whose subject has this `name`")
	f.StringVar(&e.action, "action", "", "only this action, such as key.import, or all of one kind, such as key")
	f.StringVar(&e.key, "key", "", "only entries about this key")
	f.StringVar(&e.instance, "instance", "", "only entries about this instance")
	f.StringVar(&e.run, "run", "", "only entries about the run with this `id`")
	f.Var(&e.from, "from", "only entries of this `time` or later, such as 7d (ago), monday or 2026-11-25")
	f.Var(&e.until, "until", "only entries before this `time`")
}

func (e *entryFlags) params() apiclient.ExportDaybookParams {
	return apiclient.ExportDaybookParams{
		Person: kit.Optional(
			e.person,
		), Subject: kit.Optional(e.about),
		Action:   kit.Optional(e.action),
		Key:      kit.Optional(e.key),
		Instance: kit.Optional(e.instance),
		Run:      kit.Optional(e.run),
		From:     e.from.At, Until: e.until.At,
	}
}

func daybookList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	var e entryFlags
	p.Flags(f)
	e.flags(f)
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		q := e.params()
		entries, total, err := kit.Fetch[apiclient.Entry](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListDaybook(ctx, &apiclient.ListDaybookParams{
					After:    after,
					Limit:    &limit,
					Total:    count,
					Person:   q.Person,
					Subject:  q.Subject,
					Action:   q.Action,
					Key:      q.Key,
					Instance: q.Instance,
					Run:      q.Run,
					From:     q.From,
					Until:    q.Until,
				})
			},
		)
		if err != nil {
			return err
		}
		return entryListing.Show(s, entries, total)
	})
}

var entryListing = kit.Listing[apiclient.Entry]{
	Head:  []string{"WHEN", "BY", "WAY", "OUTCOME", "WHAT"},
	Least: []string{"WAY", "OUTCOME"}, Wraps: []string{"WHAT"},
	Name:  func(e apiclient.Entry) string { return strconv.Itoa(e.Seq) },
	None:  "No entry matches.",
	Cells: entryCells,
}

func entryCells(e apiclient.Entry) []string {
	what := e.Sentence
	if e.Why != nil {
		what += " Why: " + *e.Why
	}
	return []string{kit.Moment(e.At), e.Person, e.Via, e.Outcome, what}
}

func daybookWatch(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var e entryFlags
	e.flags(f)
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		q := e.params()
		var last *string
		patience := s.Patience()
		for ctx.Err() == nil {
			resp, err := client.WatchDaybook(ctx, &apiclient.WatchDaybookParams{
				LastEventID: last,
				Person:      q.Person,
				Subject:     q.Subject,
				Action:      q.Action,
				Key:         q.Key,
				Instance:    q.Instance,
				Run:         q.Run,
				From:        q.From,
				Until:       q.Until,
			})
			switch {
			case err != nil:
				err = fmt.Errorf("%w: %w", kit.ErrUnreachable, err)
			case resp.StatusCode != http.StatusOK:
				_, err = kit.AnswerBytes(resp, nil)
			default:
				patience.Answered()
				if err = followEntries(s, resp, &last); ctx.Err() == nil {
					err = nil // the stream broke off, and is opened again
				}
			}
			if err := patience.Wait(ctx, err); err != nil && ctx.Err() == nil {
				return err
			}
		}
		return nil
	})
}

// followEntries shows each entry of a stream, and remembers the last.
func followEntries(s *kit.Session, resp *http.Response, last **string) error {
	return kit.EventsOf(resp, func(data string) error {
		var e apiclient.Entry
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return err
		}
		*last = new(strconv.Itoa(e.Seq))
		switch {
		case s.Json:
			fmt.Fprintln(s.Env.Out, data)
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, e.Seq)
		default:
			cells := entryCells(e)
			fmt.Fprintf(s.Env.Out, "%s  %-8s  %s\n", s.Faint(cells[0]), cells[3], cells[4])
		}
		return nil
	})
}

func daybookExport(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var e entryFlags
	e.flags(f)
	out := f.String("out", "", "`file` to write, never over an existing one; standard output unless given")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		data, err := kit.AnswerBytes(client.ExportDaybook(ctx, new(e.params())))
		if err != nil {
			return err
		}
		if *out == "" {
			_, err := s.Env.Out.Write(data)
			return err
		}
		if err := writeNew(*out, data); err != nil {
			return err
		}
		keys.Say(s, "%s in %s.", text.Counted(bytes.Count(data, []byte("\n")), "entry line"), *out)
		return nil
	})
}

// writeNew writes a file that is not there yet.
func writeNew(path string, data []byte) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	return errors.Join(err, file.Close())
}

func daybookHead(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	out := f.String("out", "", "`file` to write, never over an existing one; standard output unless given")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		h, err := kit.Answer[apiclient.SignedHead](client.GetDaybookHead(ctx))
		if err != nil {
			return err
		}
		if *out == "" {
			return s.WriteJSON(h)
		}
		data, err := json.MarshalIndent(h, "", "  ")
		if err != nil {
			return err
		}
		if err := writeNew(*out, append(data, '\n')); err != nil {
			return err
		}
		keys.Say(s,
			"The head, of entry %d, is in %s, signed with the service's key %s. Keep it where nobody of this service can write.",
			h.Seq,
			*out,
			fingerprintOf(h.PublicKey),
		)
		return nil
	})
}

func fingerprintOf(line string) string {
	k, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return "(unreadable)"
	}
	return ssh.FingerprintSHA256(k)
}

// readHead reads a kept head and sees that its signature holds.
func readHead(path, signer string) (daybook.Head, string, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return daybook.Head{}, "", err
	}
	var h apiclient.SignedHead
	if err := json.Unmarshal(data, &h); err != nil {
		return daybook.Head{}, "", fmt.Errorf("%s is no head of a daybook: %w", path, err)
	}
	hash, err := daybook.ReadHash(h.Hash)
	if err != nil {
		return daybook.Head{}, "", fmt.Errorf("%s: %w", path, err)
	}
	key, err := keypair.ReadLine(h.PublicKey)
	if err != nil {
		return daybook.Head{}, "", fmt.Errorf("%s: its public key: %w", path, err)
	}
	head := daybook.Head{Service: h.Service, Seq: int64(h.Seq), Hash: hash, At: h.At}
	if err := signature.Verify(h.Signature, daybook.Namespace, []byte(head.Text()), key.Blob); err != nil {
		return daybook.Head{}, "", fmt.Errorf("%s: the signature is not valid: %w", path, err)
	}
	print := keypair.FormatSHA256(key.SHA256())
	if signer != "" && signer != print {
		return daybook.Head{}, "", fmt.Errorf("%s is signed with %s, not with %s", path, print, signer)
	}
	return head, print, nil
}

func daybookCheck(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	file := f.String("file", "", "check this export here, without the service")
	kept := f.String("head", "", "compare with the head in this `file`")
	signer := f.String("signer", "", "the `fingerprint` of the key that must have signed the head")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		var head *daybook.Head
		by := ""
		if *kept != "" {
			h, print, err := readHead(*kept, *signer)
			if err != nil {
				return err
			}
			head, by = &h, print
		}
		check := checkHere
		if *file == "" {
			check = func(ctx context.Context, file string, kept *daybook.Head) (apiclient.DaybookCheck, error) {
				return checkThere(s, ctx, file, kept)
			}
		}
		c, err := check(ctx, *file, head)
		if err != nil {
			return err
		}
		last := ""
		if c.Entries > 0 {
			last = c.Head
		}
		if err := keys.Record(s, c, strconv.Itoa(c.Entries), func() {
			if c.Intact {
				keys.Say(s, "%s", s.Good(fmt.Sprintf("All %d entries are intact.", c.Entries)))
			} else {
				keys.Say(s, "%s", s.Bad(fmt.Sprintf("Entry %d is not intact: %s.", c.Fault.Seq, c.Fault.What)))
			}
			compared := ""
			if head != nil && c.Intact {
				compared = fmt.Sprintf("of entry %d on %s, signed by %s: it fits", head.Seq, kit.Moment(head.At), by)
			}
			open := ""
			if c.CanChange {
				open = "the database role of the service could change entries; see docs/operations.md"
			}
			redacted := ""
			if len(c.Redacted) > 0 {
				redacted = fmt.Sprintf(
					"%s, whose details held a private key and were removed: %s", text.Counted(len(c.Redacted), "entry"),
					numbers(c.Redacted),
				)
			}
			s.Facts("Last hash", last, "Kept head", compared, "Redacted", redacted, "But", open)
		}); err != nil {
			return err
		}
		if !c.Intact {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

// numbers lists the first ten.
func numbers(all []int) string {
	var words []string
	for _, n := range all[:min(len(all), 10)] {
		words = append(words, strconv.Itoa(n))
	}
	if len(all) > 10 {
		words = append(words, "…")
	}
	return strings.Join(words, ", ")
}

func checkThere(s *kit.Session, ctx context.Context, _ string, head *daybook.Head) (apiclient.DaybookCheck, error) {
	client, err := s.Connect()
	if err != nil {
		return apiclient.DaybookCheck{}, err
	}
	if head == nil {
		return kit.Answer[apiclient.DaybookCheck](client.CheckDaybookWithBody(ctx, "application/json", http.NoBody))
	}
	return kit.Answer[apiclient.DaybookCheck](
		client.CheckDaybook(ctx, apiclient.KeptHead{Seq: int(head.Seq), Hash: head.Hash.String()}),
	)
}

// checkHere goes through an export.
func checkHere(_ context.Context, path string, head *daybook.Head) (apiclient.DaybookCheck, error) {
	file, err := os.Open(path)
	if err != nil {
		return apiclient.DaybookCheck{}, err
	}
	defer file.Close()
	c := daybook.Checker{Kept: head}
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 4<<20)
	for n := 1; lines.Scan() && err == nil; n++ {
		var e apiclient.Entry
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return apiclient.DaybookCheck{}, fmt.Errorf("%s, line %d: %w", path, n, err)
		}
		linked := linkedOf(e)
		if err = c.Add(linked); err == nil && e.Sentence != linked.Text() {
			// The chain holds what is told and the details, from which the sentence was made.
			err = &daybook.Fault{Seq: linked.Seq, What: "its sentence is not what its details say, which is: " +
				strings.TrimSuffix(linked.Text(), ".")}
		}
	}
	if lines.Err() != nil {
		return apiclient.DaybookCheck{}, lines.Err()
	}
	if err == nil {
		err = c.End()
	}
	seq, hash := c.Head()
	out := apiclient.DaybookCheck{Entries: int(seq), Head: hash.String(), Intact: err == nil, Redacted: []int{}}
	for _, seq := range c.Redacted() {
		out.Redacted = append(out.Redacted, int(seq))
	}
	var fault *daybook.Fault
	if errors.As(err, &fault) {
		out.Fault = &apiclient.DaybookFault{Seq: int(fault.Seq), What: fault.What}
	}
	return out, nil
}

func linkedOf(e apiclient.Entry) daybook.Linked {
	before, err := hex.DecodeString(kit.Given(e.PrevHash))
	if err != nil {
		before = nil // fits nothing
	}
	hash, err := hex.DecodeString(kit.Given(e.Hash))
	if err != nil {
		hash = nil
	}
	stored := e.Sentence
	if e.Told != nil { // then the sentence was made when it was read, and none is kept
		stored = ""
	}
	return daybook.Linked{Before: before, Hash: hash, Entry: daybook.Entry{
		Seq:         int64(e.Seq),
		At:          e.At,
		Person:      e.Person,
		Via:         e.Via,
		Action:      e.Action,
		SubjectKind: e.SubjectKind,
		Subject:     e.Subject,
		About:       kit.Given(e.About),
		Why:         kit.Given(e.Why),
		Outcome:     e.Outcome,
		Told:        kit.Given(e.Told),
		Sentence:    stored,
		Details:     kit.Given(e.Details),
		RequestID:   kit.Given(e.RequestId),
	}}
}
