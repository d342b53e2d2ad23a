package access

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"flag"
	"fmt"
	"html/template"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	_ "embed"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

var ReportCommands = []kit.Command{{
	Name:    "report access",
	Flags:   reportAccess,
	Summary: "Report who could get in where, at a time or in a stretch of time, for an auditor",
	Detail: `It joins the readings of key files, the grants and the hand-overs of keys. Each row says between which
readings a key was seen, and on whose word it was granted. What nobody read is listed as not known,
and the other ways in are those of the SSH servers' settings as they were read then.
With -changes it shows what differs between the two times.`,
	Examples: []string{
		"plumlatch report access -at 2026-11-07 -instance atlas-db",
		"plumlatch report access -from 2026-10-01 -until 2026-11-01 -holder marek",
		"plumlatch report access -from 30d -label service=atlas -format html -out access.html",
		"plumlatch report access -from 30d -instance ringing-db -changes",
	},
}}

// HolderCommands are about what one person or team can open.
var HolderCommands = []kit.Command{{
	Name:    "holder show",
	Args:    "HOLDER",
	Min:     1,
	Max:     1,
	Flags:   holderShow,
	Summary: "Show which logins the keys of a person or team open, now or at a date",
	Detail: `It joins the readings of key files, the grants and the hand-overs of keys. What nobody read is listed as
not known, and the command ends with status 3 then.`,
	Examples: []string{"plumlatch holder show marek", "plumlatch holder show marek -at 2026-11-07"},
}}

func holderShow(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	w := pastFlags{format: "table"}
	f.Var(&w.at, "at", "how it was at this `time`, as far as is known: 2026-11-07, 21d or RFC 3339; now unless given")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if w.holder = args[0]; w.at.At == nil {
			w.at.At = new(time.Now())
		}
		return pastAsked(ctx, s, client, w)
	}
}

// pastFlags say what a question about the past is about.
type pastFlags struct {
	at, from, until           kit.Ago
	login, key, holder, label string
	format, out               string
	changes                   bool
}

func reportAccess(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var w pastFlags
	f.Var(&w.at, "at", "the `time`: 2026-11-07, 21d or RFC 3339")
	f.Var(&w.from, "from", "the beginning of a stretch of `time`")
	f.Var(&w.until, "until", "its end; now unless given")
	f.StringVar(&w.login, "instance", "", "only this instance, or login user@instance, also of one that is gone")
	f.StringVar(&w.key, "key", "", "only this key")
	f.StringVar(&w.holder, "holder", "", "only keys that this person or team had then")
	f.StringVar(&w.label, "label", "", "only instances with this label, `name=value`")
	f.StringVar(&w.format, "format", "table", "table, csv or html")
	f.StringVar(&w.out, "out", "", "write it to this new `file`")
	f.BoolVar(&w.changes, "changes", false, "show what differs between -from and -until")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		switch {
		case (w.at.At == nil) == (w.from.At == nil):
			return kit.Usage("give -at, or -from with -until")
		case w.changes && w.from.At == nil:
			return kit.Usage("-changes goes with -from")
		case w.format != "table" && w.format != "csv" && w.format != "html":
			return kit.Usage(fmt.Sprintf("-format is table, csv or html, not %q", w.format))
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if w.changes {
			return reportChanges(ctx, s, client, w)
		}
		p, err := pastOf(ctx, client, w)
		if err != nil {
			return err
		}
		return writePast(ctx, s, client, w, p)
	}
}

// pastOf asks for all pages.
func pastOf(ctx context.Context, client *apiclient.Client, w pastFlags) (out apiclient.PastPage, err error) {
	params := apiclient.GetPastParams{
		At: w.at.At, From: w.from.At, Until: w.until.At, Login: kit.Optional(w.login), Key: kit.Optional(w.key),
		Holder: kit.Optional(w.holder), Label: kit.Optional(w.label),
	}
	out.Keys, out.Unknown = []apiclient.PastKey{}, []apiclient.PastUnknown{}
	var ways []apiclient.PastWay
	for {
		p, err := kit.Answer[apiclient.PastPage](client.GetPast(ctx, &params))
		if err != nil {
			return out, err
		}
		out.From, out.Until = p.From, p.Until
		out.Keys, out.Unknown = append(out.Keys, p.Keys...), append(out.Unknown, p.Unknown...)
		if p.Ways != nil {
			ways = append(ways, *p.Ways...)
			out.Ways = &ways
		}
		if p.Next == nil {
			return out, nil
		}
		params.After = p.Next
		if params.From != nil && params.Until == nil {
			params.Until = &p.Until // all pages are about the same time
		}
	}
}

// pastAsked answers a question about one time. It ends with 3 where something is not known.
func pastAsked(ctx context.Context, s *kit.Session, client *apiclient.Client, w pastFlags) error {
	p, err := pastOf(ctx, client, w)
	if err == nil {
		err = writePast(ctx, s, client, w, p)
	}
	if err == nil && (len(p.Unknown) > 0 || slices.ContainsFunc(kit.Given(p.Ways), wayUnknown)) {
		err = kit.Quiet(kit.ExitNotAsItShould)
	}
	return err
}

// writePast writes the report in the form that is wanted.
func writePast(
	ctx context.Context, s *kit.Session, client *apiclient.Client, w pastFlags, p apiclient.PastPage,
) (err error) {
	if s.Json {
		return s.WriteJSON(p)
	}
	to := io.Writer(s.Env.Out)
	var b bytes.Buffer
	if w.out != "" || w.format != "table" {
		to = &b
	}
	switch w.format {
	case "csv":
		err = pastCSV(to, p)
	case "html":
		head, failed := kit.Answer[apiclient.SignedHead](client.GetDaybookHead(ctx))
		if failed != nil {
			return failed
		}
		err = pastHTML(to, p, head)
	default:
		if w.out != "" {
			return kit.Usage("-out goes with -format csv or html")
		}
		ShowPast(s, p)
	}
	if err != nil || w.format == "table" {
		return err
	}
	if w.out == "" {
		_, err = s.Env.Out.Write(b.Bytes())
		return err
	}
	file, err := os.OpenFile(w.out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err = file.Write(b.Bytes()); err != nil {
		file.Close()
		return err
	}
	if err = file.Close(); err == nil && !s.Quiet {
		fmt.Fprintf(s.Env.Out, "The report is in %s: %s.\n", w.out, text.Counted(len(p.Keys), "key"))
	}
	return err
}

// wayUnknown reports whether a row says that something of the other ways in was not known.
func wayUnknown(w apiclient.PastWay) bool { return w.Kind == apiclient.PastWayKindUnread }

// knownText says in short how well something is known, a key or another way in.
func knownText[K ~string](known K) string {
	return map[apiclient.PastKeyKnown]string{
		apiclient.PastKeyKnownSeen:                    "seen",
		apiclient.PastKeyKnownNotKnownBetweenReadings: "not known",
		apiclient.PastKeyKnownSeenBeforeNotReadSince:  "seen before",
		apiclient.PastKeyKnownNotThere:                "not there",
	}[apiclient.PastKeyKnown(known)]
}

// ShowPast shows who could get in, as a table, and what is not known.
func ShowPast(s *kit.Session, p apiclient.PastPage) {
	when := "on " + kit.Moment(p.From)
	if !p.From.Equal(p.Until) {
		when = "from " + kit.Moment(p.From) + " to " + kit.Moment(p.Until)
	}
	if len(p.Keys) == 0 {
		fmt.Fprintf(s.Env.Out, "No key is known to have been granted or in place %s.\n", when)
	} else {
		t := kit.Table{
			Head:  []string{"LOGIN", "KEY", "HOLDER", "IN PLACE", "SEEN", "GRANTED", "LIMITS"},
			Least: []string{"LIMITS", "HOLDER"},
		}
		for _, k := range p.Keys {
			t.Add(
				k.Login, pastName(k), kit.Given(k.Holder), knownText(k.Known), seenText(k), grantText(k), kit.Given(k.Limits),
			)
		}
		t.Write(s)
	}
	if ways := kit.Given(p.Ways); len(ways) > 0 {
		fmt.Fprintln(s.Env.Out)
		t := kit.Table{Head: []string{"LOGIN", "OTHER WAY IN", "KNOWN", "READ"}, Wraps: []string{"OTHER WAY IN"}}
		for _, w := range ways {
			t.Add(w.Login, w.Text, knownText(w.Known), waySeenText(w))
		}
		t.Write(s)
	}
	if len(p.Unknown) > 0 {
		fmt.Fprintf(s.Env.Out, "\nNot known what was in place %s:\n", when)
		for _, u := range p.Unknown {
			read := "it was never read"
			if u.FirstRead != nil {
				read = "it was first read on " + kit.Moment(*u.FirstRead)
			}
			fmt.Fprintf(s.Env.Out, "  %s: %s\n", u.Login, read)
		}
	}
}

func pastName(k apiclient.PastKey) string {
	if k.Key != nil {
		return *k.Key
	}
	return strings.TrimSpace("stranger " + k.Comment + " " + k.Sha256)
}

// seenText says between which readings a key was in place, waySeenText the same of another way in.
func seenText(k apiclient.PastKey) string {
	return between(k.NotBefore, k.SeenFrom, k.SeenTo, k.GoneBy)
}

func waySeenText(w apiclient.PastWay) string {
	return between(w.NotBefore, w.SeenFrom, w.SeenTo, w.GoneBy)
}

func between(notBefore, from, to, goneBy *time.Time) string {
	if from == nil {
		return "by no reading"
	}
	out := kit.Moment(*from)
	if !to.Equal(*from) {
		out += " to " + kit.Moment(*to)
	}
	if notBefore != nil {
		out = "not on " + kit.Moment(*notBefore) + ", then " + out
	}
	if goneBy != nil {
		out += ", gone by " + kit.Moment(*goneBy)
	}
	return out
}

func grantText(k apiclient.PastKey) string {
	var out []string
	for _, g := range k.Grants {
		one := kit.Day(g.GrantedAt) + " by " + g.GrantedBy
		switch {
		case g.WithdrawnAt != nil:
			one += " to " + kit.Day(*g.WithdrawnAt) + " by " + kit.Given(g.WithdrawnBy)
		case g.Until != nil:
			one += " until " + kit.Moment(*g.Until)
		}
		out = append(out, one)
	}
	return cmp.Or(strings.Join(out, "; "), "not granted")
}

// reportChanges shows what differs between two times.
func reportChanges(ctx context.Context, s *kit.Session, client *apiclient.Client, w pastFlags) error {
	then, until := w, time.Now()
	if w.until.At != nil {
		until = *w.until.At
	}
	then.at, then.from, then.until = w.from, kit.Ago{}, kit.Ago{}
	now := then
	now.at = kit.Ago{At: &until}
	before, err := pastOf(ctx, client, then)
	if err != nil {
		return err
	}
	after, err := pastOf(ctx, client, now)
	if err != nil {
		return err
	}
	there := func(p apiclient.PastPage) map[string]bool {
		out := map[string]bool{}
		for _, k := range p.Keys {
			out[k.Login+" "+k.Sha256] = true
		}
		for _, w := range kit.Given(p.Ways) {
			out[w.Login+" "+w.Text] = true
		}
		return out
	}
	type change struct {
		Login  string `json:"login"`
		Key    string `json:"key"` // or another way in, in words
		Sha256 string `json:"sha256"`
		Change string `json:"change"`
	}
	changes := []change{}
	was, is := there(before), there(after)
	compare := func(of apiclient.PastPage, other map[string]bool, what string) {
		for _, k := range of.Keys {
			if !other[k.Login+" "+k.Sha256] {
				changes = append(changes, change{k.Login, pastName(k), k.Sha256, what})
			}
		}
		for _, w := range kit.Given(of.Ways) {
			if !wayUnknown(w) && !other[w.Login+" "+w.Text] {
				changes = append(changes, change{w.Login, w.Text, "", what})
			}
		}
	}
	compare(after, was, "came")
	compare(before, is, "went")
	if s.Json {
		return s.WriteJSON(changes)
	}
	if len(changes) == 0 {
		fmt.Fprintln(s.Env.Out, "Nothing is known to have changed.")
		return nil
	}
	t := kit.Table{Head: []string{"LOGIN", "KEY OR WAY IN", "CHANGE"}, Wraps: []string{"KEY OR WAY IN"}}
	for _, c := range changes {
		t.Add(c.Login, c.Key, c.Change)
	}
	t.Write(s)
	return nil
}

// pastColumns is how many columns the CSV form has.
const pastColumns = 18

func pastCSV(to io.Writer, p apiclient.PastPage) error {
	w := csv.NewWriter(to)
	at := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	w.Write([]string{
		"login", "instance", "key", "sha256", "comment", "holder", "known", "not_before", "seen_from", "seen_to", "gone_by",
		"granted_at", "granted_by", "until", "withdrawn_at", "withdrawn_by", "reason",
		"way",
	})
	for _, k := range p.Keys {
		grants := k.Grants
		if len(grants) == 0 {
			grants = []apiclient.PastGrant{{}}
		}
		for _, g := range grants {
			granted := ""
			if !g.GrantedAt.IsZero() {
				granted = at(&g.GrantedAt)
			}
			w.Write(spreadsheetSafe([]string{
				k.Login, k.Instance, kit.Given(k.Key), k.Sha256, k.Comment, kit.Given(k.Holder), string(k.Known),
				at(k.NotBefore), at(k.SeenFrom), at(k.SeenTo), at(k.GoneBy), granted, g.GrantedBy, at(g.Until),
				at(g.WithdrawnAt), kit.Given(g.WithdrawnBy), kit.Given(g.Reason), "",
			}))
		}
	}
	for _, way := range kit.Given(p.Ways) {
		row := make([]string, pastColumns)
		row[0], row[1], row[4], row[6], row[17] = way.Login, way.Instance, way.Text, string(way.Known), string(way.Kind)
		row[7], row[8], row[9], row[10] = at(way.NotBefore), at(way.SeenFrom), at(way.SeenTo), at(way.GoneBy)
		w.Write(spreadsheetSafe(row))
	}
	for _, u := range p.Unknown {
		row := make([]string, pastColumns)
		row[0], row[6], row[8] = u.Login, "not known", at(u.FirstRead)
		w.Write(spreadsheetSafe(row))
	}
	w.Flush()
	return w.Error()
}

// spreadsheetSafe keeps a spreadsheet from taking a cell that a machine's file gave for a formula.
func spreadsheetSafe(cells []string) []string {
	for n, c := range cells {
		if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) {
			cells[n] = "'" + c
		}
	}
	return cells
}

//go:embed past.html
var pastPage string

var pastTemplate = template.Must(template.New("past").Funcs(template.FuncMap{
	"moment": kit.Moment, "name": pastName, "seen": seenText, "granted": grantText,
	"known": func(k apiclient.PastKey) string {
		return knownText(k.Known)
	},
	"wayKnown": func(w apiclient.PastWay) string {
		return knownText(w.Known)
	},
	"waySeen": waySeenText,
}).Parse(pastPage))

// pastHTML writes a page that prints well, and asks for nothing from elsewhere.
func pastHTML(to io.Writer, p apiclient.PastPage, head apiclient.SignedHead) error {
	return pastTemplate.Execute(
		to,
		map[string]any{"Past": p, "Head": head, "One": p.From.Equal(p.Until), "Now": time.Now()},
	)
}
