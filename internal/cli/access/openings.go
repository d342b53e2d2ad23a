// Package access holds the commands about which key opens what, now and in the past: openers, sweeps and reach.
package access

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

var OpeningCommands = []kit.Command{
	{
		Name:    "find",
		Args:    "TEXT",
		Min:     1,
		Max:     1,
		Flags:   findNames,
		Summary: "Find instances, logins, keys, persons, teams and strangers by a part of a name",
		Detail: `It searches names, addresses, and the purposes and comments of keys, in any letter case;
exact matches come first. With an @ in the text it searches logins. Strangers, keys in no record, are
searched by their comments. For a fingerprint or a
key file use plumlatch trace. It ends with status 3 if nothing matches.`,
		Examples: []string{"plumlatch find tide", "plumlatch find 127.64.1.9", "plumlatch find pi@"},
	},
	{
		Name:     "opens",
		Args:     "KEY",
		Min:      1,
		Max:      1,
		Flags:    opens,
		Summary:  "Show which logins a key opens",
		Detail:   driftDetail,
		Examples: []string{"plumlatch opens hides-shared", "plumlatch opens hides-shared -at 21d"},
	},
	{
		Name:    "openers",
		Args:    "INSTANCE",
		Min:     1,
		Max:     1,
		Flags:   openers,
		Summary: "Show who gets in to an instance: its keys, strangers, and what else its server lets in",
		Detail: `Below the recorded keys it shows strangers, which are keys in no record, and what else the SSH
server's settings let in: passwords, certificate authorities, programs that name keys. What is not
known is said, and so are the machine's other OS users.

It ends with status 3 if the last reading found a stranger, another way in or a key that nobody
granted ("ungranted"), did not find a granted key ("missing"), or left a part unread.`,
		Examples: []string{"plumlatch openers atlas-web-1", "plumlatch openers atlas-db -at 2026-11-07"},
	},
}

const driftDetail = `It ends with status 3 if the last reading did not find a granted key ("missing"), or found
one that nobody granted ("ungranted").`

func findNames(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	limit := f.Int("limit", 20, "at most this `many` rows, 50 at most")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		found, err := kit.Answer[[]apiclient.Named](
			client.ListNames(ctx, &apiclient.ListNamesParams{Q: args[0], Limit: limit}),
		)
		if err == nil {
			err = nameListing.Show(s, found, len(found))
		}
		if err == nil && len(found) == 0 {
			err = kit.Quiet(kit.ExitNotAsItShould)
		}
		return err
	}
}

var nameListing = kit.Listing[apiclient.Named]{
	Head:  []string{"KIND", "NAME", "ABOUT", "SEE"},
	Least: []string{"KIND", "ABOUT"}, Whole: []string{"SEE"},
	Name: func(n apiclient.Named) string { return n.Name },
	None: "No matches.",
	Cells: func(n apiclient.Named) []string {
		see := map[apiclient.NamedKind]string{
			apiclient.NamedKindInstance: "plumlatch instance show ", apiclient.NamedKindLogin: "plumlatch login show ",
			apiclient.NamedKindKey:    "plumlatch key show ",
			apiclient.NamedKindPerson: "plumlatch key list -holder ",
			apiclient.NamedKindTeam:   "plumlatch key list -holder ", apiclient.NamedKindStranger: "plumlatch settle ",
		}[n.Kind]
		return []string{string(n.Kind), n.Name, n.About, see + n.Name}
	},
}

func opens(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return openingsOf(
		f,
		false,
		"%s opens nothing.",
		func(
			ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
		) (*http.Response, error) {
			return c.ListOpens(ctx, name, &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
		},
	)
}

func openers(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return openingsOf(
		f,
		true,
		"No key that is known opens %s.",
		func(
			ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
		) (*http.Response, error) {
			return c.ListOpeners(ctx, name, &apiclient.ListOpenersParams{After: after, Limit: &limit, Total: count})
		},
	)
}

type openingsCall func(
	ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
) (*http.Response, error)

// openingsOf lists what the call gives for the one argument; none is said where
// that is nothing.
func openingsOf(
	f *flag.FlagSet, byInstance bool, none string, call openingsCall,
) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	var at kit.Ago
	f.Var(&at, "at", "how it was at this `time`, as far as is known: 2026-11-07, 21d or RFC 3339")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if at.At != nil {
			w := pastFlags{at: at, format: "table"}
			if w.key = args[0]; byInstance {
				w.key, w.login = "", args[0]
			}
			return pastAsked(ctx, s, client, w)
		}
		rows, total, err := kit.Fetch[apiclient.Opening](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return call(ctx, client, args[0], after, limit, count)
			},
		)
		if err != nil {
			return err
		}
		if byInstance {
			return showOpeners(ctx, s, client, args[0], rows, total)
		}
		return showOpenings(s, rows, total, false, fmt.Sprintf(none, args[0]))
	}
}

// showOpeners shows the keys of an instance, and all else by which somebody gets in. It ends with status 3 where
// that is not just what is granted.
func showOpeners(
	ctx context.Context, s *kit.Session, client *apiclient.Client, name string, rows []apiclient.Opening, total int,
) error {
	in, err := kit.Answer[apiclient.InstanceAccess](client.GetInstanceAccess(ctx, name))
	if err != nil {
		return err
	}
	if s.Json {
		err = s.WriteJSON(openerRows(rows, in))
	} else {
		err = showOpenings(s, rows, total, true, fmt.Sprintf("No key that is known opens %s.", name))
	}
	if err != nil && kit.Status(err) != kit.ExitNotAsItShould {
		return err
	}
	if !s.Json && !s.Quiet {
		SayElse(s, in)
	}
	if err == nil && !instanceAsGranted(in) {
		err = kit.Quiet(kit.ExitNotAsItShould)
	}
	return err
}

// SayElse says who gets in to an instance beside the recorded keys, and what is not known of that.
func SayElse(s *kit.Session, in apiclient.InstanceAccess) {
	for _, l := range in.Logins {
		sayFound(s, l)
		sayStrangers(s, l)
		sayAlso(s, l)
	}
	sayMachine(s, in)
}

// instanceAsGranted reports whether the granted keys get in to an instance, nobody else does, and nothing is unread.
func instanceAsGranted(in apiclient.InstanceAccess) bool {
	b := kit.Given(in.Beyond)
	return in.Whole && b.Missing+b.Ungranted+b.Strangers+b.OtherWays+b.Unread == 0 &&
		all(in.Logins, func(l apiclient.Login) bool {
			return l.FoundAt == nil || kit.Given(l.Reach.OwnAccount)
		})
}

// wayRow is a way in that is no recorded key, among the rows of openers -json.
type wayRow struct {
	Login  string `json:"login"`
	Status string `json:"status"` // stranger, open, accepted, condition or unread
	Kind   string `json:"kind"`   // key, user, or that of a way
	Name   string `json:"name,omitempty"`
	About  string `json:"about"`
}

// openerRows are the recorded keys, the strangers, the other ways in, and what is not known.
func openerRows(rows []apiclient.Opening, in apiclient.InstanceAccess) []any {
	out := []any{}
	for _, o := range rows {
		out = append(out, o)
	}
	for _, l := range in.Logins {
		for _, g := range l.Strangers {
			out = append(out, wayRow{l.Reach.Login, "stranger", "key", g.Sha256, g.Comment})
		}
		for _, w := range kit.Given(l.Ways) {
			status := "open"
			if w.Kind == apiclient.WayKindCondition || w.Kind == apiclient.WayKindUnread {
				status = string(w.Kind)
			}
			about := w.About
			if w.Accepted != nil {
				status, about = "accepted", about+"; "+*w.Accepted
			}
			out = append(out, wayRow{l.Reach.Login, status, string(w.Kind), kit.Given(w.Name), about})
		}
		if l.Reach.SweepError != nil {
			out = append(out, wayRow{l.Reach.Login, "unread", "unread", "", *l.Reach.SweepError})
		}
	}
	unread := func(user, why string) {
		out = append(out, wayRow{user + "@" + in.Instance, "unread", "user", user, why})
	}
	for _, u := range in.Machine.Unread {
		unread(u.User, u.Why)
	}
	if more := in.Machine.UnreadTotal - len(in.Machine.Unread); more > 0 {
		unread("*", fmt.Sprintf("%d more users were not read", more))
	}
	if in.Machine.ReadAt == nil {
		unread("*", "nobody has read the other OS users")
	}
	return out
}

// sayFound says of a login that nobody has asked for.
func sayFound(s *kit.Session, l apiclient.Login) {
	if kit.Given(l.Reach.OwnAccount) {
		s.Below("\n", l.Reach.Login+" is an account of the service's own, which its steward key alone opens.", kit.AsItIs)
		return
	}
	if l.FoundAt == nil {
		return
	}
	s.Below("\n", fmt.Sprintf(
		"%s was found on %s, and nobody has added it. To grant it:  plumlatch login add %s", l.Reach.Login,
		kit.Day(*l.FoundAt), l.Reach.Login,
	), kit.AsItIs)
}

// sayMachine says what was read of all users of a machine, and of whom it is not known who gets in.
func sayMachine(s *kit.Session, in apiclient.InstanceAccess) {
	m := in.Machine
	fmt.Fprintln(s.Env.Out)
	if st := in.Steward; st != nil && st.OwnAccount {
		also := ""
		if len(st.Changes) > 0 {
			also = " and changes files of " + strings.Join(st.Changes, ", ")
		}
		s.Below("", "The steward key logs in as "+st.Login+also+".", kit.AsItIs)
	}
	if m.ReadAt == nil {
		s.Below("", "Not known who gets in as another OS user of "+in.Instance+": nobody has read them.", kit.AsItIs)
		read := "plumlatch sweep " + in.Instance
		if !slices.ContainsFunc(in.Logins, func(l apiclient.Login) bool { return l.Reach.Steward }) {
			read = "plumlatch instance steward " + in.Instance + " -with FILE, then " + read
		}
		s.Below("", "Read them:  "+read, kit.AsItIs)
		return
	}
	if m.Accounts > 0 {
		s.Below("", fmt.Sprintf(
			"Of the %s of the machine, nobody gets in as %d (%s as %s on %s).", text.Counted(m.Accounts, "OS user"), m.NoWay,
			kit.Given(m.ReadBy), rightsText[kit.Given(m.Rights)], kit.Moment(*m.ReadAt),
		), kit.AsItIs)
	}
	if m.UnreadTotal > 0 {
		fmt.Fprintln(s.Env.Out, "Not known who gets in as:")
		for _, u := range m.Unread {
			s.Below("  ", u.User+": "+u.Why, kit.AsItIs)
		}
		if more := m.UnreadTotal - len(m.Unread); more > 0 {
			fmt.Fprintf(s.Env.Out, "  and %d more\n", more)
		}
		if m.Remedy != nil {
			s.Below("", "To know it, "+*m.Remedy, kit.AsItIs)
			if in.Steward == nil || !in.Steward.OwnAccount {
				own := "plumlatch instance steward " + in.Instance + " -account plumlatch -with FILE"
				s.Below("", "or give the service an account that may:  "+own, kit.AsItIs)
			}
		}
	}
	for _, file := range m.Gone {
		s.Below("", file+" holds keys for a user that does not exist.", kit.AsItIs)
	}
}

var rightsText = map[apiclient.MachineReadingRights]string{
	apiclient.MachineReadingRightsRoot: "root", apiclient.MachineReadingRightsSudo: "root by sudo",
	apiclient.MachineReadingRightsUser: "the login user",
}

// sayStrangers shows the keys in the login's files that are in no record.
func sayStrangers(s *kit.Session, l apiclient.Login) {
	if len(l.Strangers) == 0 {
		return
	}
	fmt.Fprintf(s.Env.Out, "\nStrangers in %s, keys that are in no record:\n", l.Reach.Login)
	t := kit.Table{Head: []string{"SHA-256", "COMMENT", "SINCE", "LIMITS"}, Least: []string{"LIMITS", "SINCE"}}
	for _, g := range l.Strangers {
		t.Add(g.Sha256, g.Comment, kit.Day(g.FirstSeenAt), kit.Given(g.Limits))
	}
	t.Write(s)
	fmt.Fprintf(s.Env.Out, "Decide about them:  plumlatch settle %s\n", l.Reach.Login)
}

// showOpenings shows the rows, and ends with status 3 if one is not as it should be.
func showOpenings(s *kit.Session, rows []apiclient.Opening, total int, byInstance bool, none string) error {
	switch {
	case s.Json:
		if err := s.WriteJSON(rows); err != nil {
			return err
		}
	case s.Quiet:
		for _, o := range rows {
			if byInstance {
				fmt.Fprintln(s.Env.Out, o.Key.Name)
			} else {
				fmt.Fprintln(s.Env.Out, o.Login)
			}
		}
	case len(rows) == 0:
		fmt.Fprintln(s.Env.Out, none)
	default:
		OpeningTable(s, rows, byInstance)
		s.Rest(len(rows), total)
	}
	if slices.ContainsFunc(rows, adrift) {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

// adrift reports whether what was seen is not what is wanted.
func adrift(o apiclient.Opening) bool {
	return o.Status == apiclient.StatusMissing || o.Status == apiclient.StatusUngranted
}

// OpeningTable shows logins of one key, or keys of one instance.
func OpeningTable(s *kit.Session, rows []apiclient.Opening, byInstance bool) {
	t := kit.Table{
		Head:  []string{"LOGIN", "REGION", "STATUS", "GRANTED", "LAST SEEN", "HOW", "WHY"},
		Least: []string{"HOW", "REGION", "WHY", "GRANTED"},
	}
	if byInstance {
		t.Head = []string{"KEY", "LOGIN", "TYPE", "HOLDER", "STATUS", "GRANTED", "LAST SEEN", "HOW"}
		t.Least = []string{"HOW", "TYPE", "GRANTED", "LAST SEEN", "LOGIN"}
	}
	limited := slices.ContainsFunc(rows, func(o apiclient.Opening) bool { return kit.Given(o.Limits) != "" })
	if limited {
		t.Head = append(t.Head, "LIMITS")
	}
	for _, o := range rows {
		granted, seen := "not granted", "never read"
		if o.GrantedAt != nil {
			granted = kit.Day(*o.GrantedAt) + " by " + kit.Given(o.GrantedBy)
		}
		switch {
		case o.SeenAt != nil && o.Status == apiclient.StatusMissing:
			seen = "not there on " + kit.Day(*o.SeenAt)
		case o.SeenAt != nil:
			seen = kit.Day(*o.SeenAt)
		}
		how := kit.Given(o.SeenBy)
		status := string(o.Status)
		if adrift(o) {
			status += " !"
		}
		holder := kit.Given(o.Key.Holder)
		if kit.Given(o.Steward) {
			holder = "the service's own"
		}
		row := []string{o.Login, o.Region, status, granted, seen, how, kit.Given(o.Reason)}
		if byInstance {
			kind := fmt.Sprintf("%s %d", o.Key.Type, o.Key.Bits)
			row = []string{o.Key.Name, o.Login, kind, holder, status, granted, seen, how}
		}
		if limited {
			row = append(row, kit.Given(o.Limits))
		}
		t.Add(row...)
	}
	t.Write(s)
}
