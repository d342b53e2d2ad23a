package history

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/past"
	seen "plumlatch/internal/core/reading"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Wanted asks who could get in from one time to another, or at one where they are the same.
type Wanted struct {
	From, Until          time.Time
	Login, Key, Holder   string
	LabelName, LabelText string
}

// Grant is a grant as it was.
type Grant struct {
	At          time.Time
	By, Reason  string
	Until       *time.Time
	WithdrawnAt *time.Time
	WithdrawnBy string
}

// Key is one key in one login for a stretch of time: seen there, granted, or both.
type Key struct {
	Login, Instance string
	// Key is the name of the key's record, "" for a stranger.
	Key, SHA256, Comment string
	// Holder is who held it at the beginning of what is asked, as far as is known; "" for nobody.
	Holder string
	// Limits says what limits the line, Opens whether it opens the login with a shell.
	Limits string
	Opens  bool
	Known  past.Known
	// Interval is when it was seen; nil for a grant that no reading has seen.
	Interval *past.Interval[string]
	Grants   []Grant
}

// Unknown is a login of which something is not known.
type Unknown struct {
	Login string
	// FirstRead is when it was first read; nil for never.
	FirstRead *time.Time
}

// Way is a way into a login beside keys for a stretch of time, or something of them that was not known then.
type Way struct {
	Login, Instance string
	seen.Way
	Known past.Known
	// Interval is when it was read of the settings; nil where no reading says anything of the time.
	Interval *past.Interval[seen.Way]
}

// Page is a part of what was in the past.
type Page struct {
	Keys []Key
	// Ways are those beside keys; a question about a key or a holder has none.
	Ways    []Way
	Unknown []Unknown
	Next    string
}

// atOnce is how many logins are looked up together.
const atOnce = 50

// Past returns who could get in at a time that is over, by the readings and the grants that are kept.
func (s *Service) Past(ctx context.Context, w Wanted, after string) (Page, error) {
	f, err := s.filter(ctx, w)
	if err != nil {
		return Page{}, err
	}
	logins, err := s.store.PastLogins(ctx, f, record.Page{After: after, Limit: atOnce})
	if err != nil {
		return Page{}, problem.FromPage(err)
	}
	ids := make([]uuid.UUID, len(logins.Items))
	for n, l := range logins.Items {
		ids[n] = l.ID
	}
	versions, err := s.store.AllVersions(ctx, ids)
	if err != nil {
		return Page{}, err
	}
	granted, err := s.store.AllGrants(ctx, ids)
	if err != nil {
		return Page{}, err
	}
	var servers map[uuid.UUID][]record.LoginServer
	if f.Keys == nil {
		if servers, err = s.store.AllServers(ctx, ids); err != nil {
			return Page{}, err
		}
	}
	lines := linesOfAll(versions)
	known, err := s.knownInPast(ctx, lines, granted)
	if err != nil {
		return Page{}, err
	}
	out := Page{Next: logins.Next}
	for _, l := range logins.Items {
		keys, unknown := known.of(l, f, lines[l.ID], granted[l.ID])
		if w.Holder != "" {
			keys = slices.DeleteFunc(keys, func(k Key) bool { return k.Holder != w.Holder })
		}
		out.Keys = append(out.Keys, keys...)
		if f.Keys == nil {
			out.Ways = append(out.Ways, waysInPast(l, f, servers[l.ID])...)
		}
		if unknown != nil {
			out.Unknown = append(out.Unknown, *unknown)
		}
	}
	return out, nil
}

// waysInPast returns the ways into a login beside keys, by the versions of its server's settings.
func waysInPast(l record.PastLogin, f record.PastFilter, servers []record.LoginServer) (out []Way) {
	versions := make([]past.Version[seen.Way], len(servers))
	for n, s := range servers {
		versions[n] = past.Version[seen.Way]{SeenAt: s.Since, SeenUntil: s.ReadAt, Keys: s.Server.Ways(l.OSUser)}
	}
	called := fleet.LoginName(l.OSUser, l.InstanceName)
	for _, i := range past.Intervals(versions) {
		if i.Within(f.From, f.Until) {
			out = append(out, Way{called, l.InstanceName, i.Key, within(i, f), &i})
		}
	}
	if first := past.FirstRead(versions); first.IsZero() || first.After(f.From) {
		text := "nobody has read the SSH server's settings"
		if !first.IsZero() {
			text = "nobody had read the SSH server's settings yet"
		}
		out = append(out, Way{called, l.InstanceName, seen.Way{Kind: seen.WayUnread, Text: text}, past.Between, nil})
	}
	return out
}

// filter checks a question and looks up what it names.
func (s *Service) filter(ctx context.Context, w Wanted) (record.PastFilter, error) {
	f := record.PastFilter{From: w.From, Until: w.Until, LabelName: w.LabelName, LabelText: w.LabelText}
	if w.Until.Before(w.From) || w.From.After(s.now()) {
		return f, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-time",
			Field:  "from",
			Detail: "the time is not over yet, or ends before it begins",
			Remedy: "Give a time that is over, such as 2026-11-07 or 21d",
		}
	}
	if w.Login != "" {
		f.OSUser, f.Instance = fleet.CutLogin(w.Login)
	}
	if w.Key != "" {
		k, err := s.keys.Key(ctx, w.Key)
		if err != nil {
			return f, err
		}
		f.Keys = []uuid.UUID{k.ID}
	}
	if w.Holder != "" {
		h, err := s.store.HolderNamed(ctx, w.Holder)
		if errors.Is(err, store.ErrNotFound) {
			return f, &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-holder",
				Field:  "holder",
				Detail: fmt.Sprintf("there is no holder %q", w.Holder),
				Remedy: "See who there is: plumlatch holder list",
			}
		}
		if err != nil {
			return f, err
		}
		held, err := s.store.KeysEverHeldBy(ctx, h.ID)
		if err != nil {
			return f, err
		}
		f.Keys = append([]uuid.UUID{}, held...)
	}
	return f, nil
}

// loginLines are the versions of a login's files, and for each key in them its newest line.
type loginLines struct {
	versions []past.Version[string]
	lines    map[string]authorizedkeys.Line
}

func linesOfAll(versions map[uuid.UUID][]record.FileVersion) map[uuid.UUID]loginLines {
	out := map[uuid.UUID]loginLines{}
	for login, all := range versions {
		l := loginLines{lines: map[string]authorizedkeys.Line{}}
		for _, v := range all {
			version := past.Version[string]{Path: v.Path, SeenAt: v.SeenAt, SeenUntil: v.SeenUntil, Method: v.Method}
			for _, line := range authorizedkeys.Parse(v.Content) {
				if line.Kind == authorizedkeys.Key {
					digest := string(keypair.Public{Blob: line.Blob}.SHA256())
					version.Keys = append(version.Keys, digest)
					l.lines[digest] = line
				}
			}
			l.versions = append(l.versions, version)
		}
		out[login] = l
	}
	return out
}

// keysKnown are the records of the keys that the past is about.
type keysKnown struct {
	byDigest  map[string]record.Key
	byID      map[uuid.UUID]record.Key
	handovers map[uuid.UUID][]past.Handover
}

func (s *Service) knownInPast(
	ctx context.Context, lines map[uuid.UUID]loginLines, granted map[uuid.UUID][]record.Grant,
) (keysKnown, error) {
	out := keysKnown{byID: map[uuid.UUID]record.Key{}, handovers: map[uuid.UUID][]past.Handover{}}
	seen := map[string]bool{}
	var digests [][]byte
	for _, l := range lines {
		for digest := range l.lines {
			if !seen[digest] {
				seen[digest] = true
				digests = append(digests, []byte(digest))
			}
		}
	}
	var err error
	if out.byDigest, err = s.store.KeysIn(ctx, digests); err != nil {
		return out, err
	}
	var ids []uuid.UUID
	for _, k := range out.byDigest {
		ids = append(ids, k.ID)
	}
	for _, all := range granted {
		for _, g := range all {
			ids = append(ids, g.KeyID)
		}
	}
	records, err := s.store.KeysByID(ctx, ids)
	if err != nil {
		return out, err
	}
	for _, k := range records {
		out.byID[k.ID] = k
	}
	handovers, err := s.store.HandoversDone(ctx, ids)
	for _, h := range handovers {
		if h.EndedAt != nil {
			out.handovers[h.KeyID] = append(
				out.handovers[h.KeyID], past.Handover{At: *h.EndedAt, From: h.FromName, To: h.ToName},
			)
		}
	}
	return out, err
}

// of returns the keys of one login, and whether something of it is not known.
func (k keysKnown) of(
	l record.PastLogin, f record.PastFilter, lines loginLines, granted []record.Grant,
) (out []Key, unknown *Unknown) {
	called := fleet.LoginName(l.OSUser, l.InstanceName)
	only := func(id uuid.UUID) bool { return f.Keys == nil || slices.Contains(f.Keys, id) }
	shown := map[uuid.UUID]bool{}
	for _, i := range past.Intervals(lines.versions) {
		if !i.Within(f.From, f.Until) {
			continue
		}
		line := lines.lines[i.Key]
		row := Key{
			Login: called, Instance: l.InstanceName, SHA256: keypair.FormatSHA256([]byte(i.Key)),
			Comment: text.Line(line.Comment, text.MaxLine), Opens: line.Opens(f.From),
			Limits: text.Line(strings.Join(line.Limits(f.From), "; "), text.MaxLine), Known: within(i, f), Interval: &i,
		}
		known, ok := k.byDigest[i.Key]
		if ok && !only(known.ID) || !ok && f.Keys != nil {
			continue
		}
		if ok {
			row.Key, row.Holder = known.Name, k.holderAt(known.ID, f.From)
			row.Grants = grantsOf(granted, known.ID, f)
			shown[known.ID] = true
		}
		out = append(out, row)
	}
	for _, g := range granted {
		known, ok := k.byID[g.KeyID]
		if !ok || shown[g.KeyID] || !only(g.KeyID) || !inForce(g, f) {
			continue
		}
		shown[g.KeyID] = true
		out = append(out, Key{
			Login: called, Instance: l.InstanceName, Key: known.Name, SHA256: keypair.FormatSHA256(known.SHA256),
			Comment: known.Comment, Holder: k.holderAt(g.KeyID, f.From), Known: past.Not,
			Grants: grantsOf(granted, g.KeyID, f),
		})
	}
	first := past.FirstRead(lines.versions)
	if first.IsZero() || first.After(f.From) {
		unknown = &Unknown{Login: called}
		if !first.IsZero() {
			unknown.FirstRead = &first
		}
		for n := range out {
			if out[n].Interval == nil {
				out[n].Known = past.Between
			}
		}
	}
	return out, unknown
}

// within is how well an interval is known in what is asked: seen, where it was at any time of it.
func within[K comparable](i past.Interval[K], f record.PastFilter) past.Known {
	if f.From.Equal(f.Until) {
		return i.At(f.From)
	}
	if !i.From.After(f.Until) && !i.To.Before(f.From) {
		return past.Seen
	}
	if i.StillThere && i.To.Before(f.From) {
		return past.Since
	}
	return past.Between
}

func (k keysKnown) holderAt(id uuid.UUID, at time.Time) string {
	now := ""
	if h := k.byID[id].Holder; h != nil {
		now = h.Name
	}
	return past.HolderAt(now, k.handovers[id], at)
}

func inForce(g record.Grant, f record.PastFilter) bool {
	return !g.GrantedAt.After(f.Until) && (g.WithdrawnAt == nil || g.WithdrawnAt.After(f.From))
}

// grantsOf returns the grants of a key that were in force in what is asked.
func grantsOf(all []record.Grant, key uuid.UUID, f record.PastFilter) (out []Grant) {
	for _, g := range all {
		if g.KeyID == key && inForce(g, f) {
			out = append(out, Grant{
				At: g.GrantedAt, By: g.GrantedBy, Reason: g.Reason, Until: g.Until, WithdrawnAt: g.WithdrawnAt,
				WithdrawnBy: g.WithdrawnBy,
			})
		}
	}
	return out
}
