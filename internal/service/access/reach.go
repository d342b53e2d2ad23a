package access

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/store"
)

// World is what reach is computed from, with the names of things.
type World struct {
	Input  reach.Input
	Logins []record.ReachLogin
	Keys   []record.ReachKey
}

// World reads the logins that fit and all that joins them to keys.
func (s *Service) World(ctx context.Context, f record.ReachFilter) (*World, error) {
	logins, pairs, keys, err := s.store.Reach(ctx, f)
	if err != nil {
		return nil, err
	}
	w := &World{
		Logins: logins,
		Keys:   keys,
		Input: reach.Input{
			Now:       s.now(),
			Fresh:     s.Fresh,
			Keys:      make([]reach.Key, len(keys)),
			Pairs:     make([]reach.Pair, 0, len(pairs)),
			Swept:     make([]bool, len(logins)),
			Strangers: make([]int, len(logins)),
		},
	}
	keyAt, loginAt, keeperAt := make(
		map[uuid.UUID]int32,
		len(keys),
	), make(
		map[uuid.UUID]int32,
		len(logins),
	), map[uuid.UUID]int{}
	for n, k := range keys {
		keyAt[k.ID] = int32(n)
		out := &w.Input.Keys[n]
		out.Keeper, out.Lost, out.Steward = reach.Nobody, k.State == "lost", k.Steward
		if k.Keeper != nil {
			place, ok := keeperAt[*k.Keeper]
			if !ok {
				place = len(keeperAt)
				keeperAt[*k.Keeper] = place
			}
			out.Keeper = place
		}
		if k.ProvedAt != nil {
			out.Proved = *k.ProvedAt
		}
	}
	for n, l := range logins {
		loginAt[l.ID] = int32(n)
		w.Input.Swept[n], w.Input.Strangers[n] = l.SweptAt != nil, l.Strangers
	}
	for _, p := range pairs {
		login, here := loginAt[p.LoginID]
		if !here {
			continue // of an instance that is gone
		}
		pair := reach.Pair{Key: keyAt[p.KeyID], Login: login, Granted: p.Granted, Opens: p.Opens}
		if p.Present != nil {
			pair.Sighting = reach.NotSeen
			if *p.Present {
				pair.Sighting = reach.Seen
			}
		}
		if p.EnteredAt != nil {
			pair.Entered = *p.EnteredAt
		}
		w.Input.Pairs = append(w.Input.Pairs, pair)
	}
	return w, nil
}

func (w *World) LoginPlace(id uuid.UUID) int {
	for n, l := range w.Logins {
		if l.ID == id {
			return n
		}
	}
	return -1
}

func (w *World) KeyPlace(id uuid.UUID) int {
	for n, k := range w.Keys {
		if k.ID == id {
			return n
		}
	}
	return -1
}

// LoginReach is a login and how it stands.
type LoginReach struct {
	record.ReachLogin
	reach.Standing
	// Why says what is to be known about it; Next is the one command to type next.
	Why, Next string
	// Worry says what is bad about its best way back in; "" where nothing is.
	Worry string
}

// ReachWanted narrows and places a page of logins.
type ReachWanted struct {
	record.ReachFilter
	State string
	Drift bool
	// Worry is for those whose best way back in is a bad one alone.
	Worry bool
	// After is a place in the order, 0 for the first page.
	After string
	Limit int
}

// ReachPage is one page of logins, the worst first.
type ReachPage struct {
	Items    []LoginReach
	Next     string
	Total    int
	Counts   map[reach.State]int
	Drifting int
	// Asked is how many new public halves keepers are asked to bring.
	Asked int
	// Worrying is at how many the best way back in is a bad one.
	Worrying int
}

// Reach returns one page of logins, the worst first.
func (s *Service) Reach(ctx context.Context, r ReachWanted) (ReachPage, error) {
	place := 0
	if r.After != "" {
		var err error
		if place, err = strconv.Atoi(r.After); err != nil || place < 0 || place > 1e9 {
			return ReachPage{}, problem.FromPage(store.ErrCursor)
		}
	}
	w, err := s.World(ctx, r.ReachFilter)
	if err != nil {
		return ReachPage{}, err
	}
	standings := reach.Standings(w.Input)
	page := ReachPage{Counts: map[reach.State]int{}}
	for _, state := range reach.States {
		page.Counts[state] = 0
	}
	worries, worry := make([]string, len(standings)), s.Worry(ctx)
	for n, st := range standings {
		page.Counts[st.State]++
		if st.Drifts() {
			page.Drifting++
		}
		if worries[n] = worry(w.Logins[n], st); worries[n] != "" {
			page.Worrying++
		}
	}
	order := w.worstFirst(standings, r)
	if r.Worry {
		order = slices.DeleteFunc(order, func(n int) bool { return worries[n] == "" })
	}
	page.Total = len(order)
	end := min(place+r.Limit, len(order))
	for _, n := range order[min(place, len(order)):end] {
		item := judged(w.Logins[n], standings[n])
		item.Worry = worries[n]
		page.Items = append(page.Items, item)
	}
	if end < len(order) {
		page.Next = strconv.Itoa(end)
	}
	asked, err := s.store.AskedKeys(ctx, "")
	page.Asked = len(asked)
	return page, err
}

// worstFirst returns the places of the logins with the wanted reach, the worst first.
func (w *World) worstFirst(standings []reach.Standing, r ReachWanted) []int {
	var order []int
	for n, st := range standings {
		if (r.State == "" || r.State == string(st.State)) && (!r.Drift || st.Drifts()) {
			order = append(order, n)
		}
	}
	sort.SliceStable(order, func(a, b int) bool { return severity(standings[order[a]]) < severity(standings[order[b]]) })
	return order
}

// maxMapped is the greatest number of logins on a map.
const maxMapped = 1000

// ReachMap is logins against keys.
type ReachMap struct {
	Keys   []MapKey
	Logins []MapLogin
	Total  int
}

// MapKey is a key on a map.
type MapKey struct {
	record.ReachKey
	// Fresh is whether its private half is freshly proved, Logins on how many logins
	// of the map it stands or should.
	Fresh  bool
	Logins int
}

// MapLogin is a login on a map with the keys that stand there or should.
type MapLogin struct {
	Name      string
	State     reach.State
	Strangers int
	Steward   bool // whether the service's own key is in place
	Cells     []MapCell
}

// MapCell is a key, by its place among the map's, and how it and the login stand.
type MapCell struct {
	Key int
	Fit reach.Fit
}

// Map returns the worst logins that fit, at most limit, against their keys, those
// with the most logins first. A steward key, of one login each, is told at its login.
func (s *Service) Map(ctx context.Context, r ReachWanted) (ReachMap, error) {
	if r.Limit < 1 || r.Limit > maxMapped {
		return ReachMap{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-limit",
			Field:  "limit",
			Detail: fmt.Sprintf("%d logins cannot be mapped; 1 to %d can", r.Limit, maxMapped),
		}
	}
	w, err := s.World(ctx, r.ReachFilter)
	if err != nil {
		return ReachMap{}, err
	}
	standings := reach.Standings(w.Input)
	order := w.worstFirst(standings, r)
	out := ReachMap{Total: len(order)}
	order = order[:min(r.Limit, len(order))]
	rowOf := make(map[int32]int, len(order))
	for row, n := range order {
		rowOf[int32(n)] = row
		l := w.Logins[n]
		out.Logins = append(
			out.Logins,
			MapLogin{
				Name:      fleet.LoginName(l.OSUser, l.Instance),
				State:     standings[n].State,
				Strangers: l.Strangers,
				Steward:   standings[n].Steward,
			},
		)
	}
	onMap := make([]int, len(w.Keys))
	for _, p := range w.Input.Pairs {
		fit, ok := reach.FitOf(p.Granted, p.Sighting)
		if row, shown := rowOf[p.Login]; ok && shown && !w.Keys[p.Key].Steward {
			onMap[p.Key]++
			out.Logins[row].Cells = append(out.Logins[row].Cells, MapCell{int(p.Key), fit})
		}
	}
	var keys []int
	for n, logins := range onMap {
		if logins > 0 {
			keys = append(keys, n)
		}
	}
	sort.Slice(keys, func(a, b int) bool {
		if onMap[keys[a]] != onMap[keys[b]] {
			return onMap[keys[a]] > onMap[keys[b]]
		}
		return w.Keys[keys[a]].Name < w.Keys[keys[b]].Name
	})
	placeOf := make([]int, len(w.Keys))
	for place, n := range keys {
		placeOf[n] = place
		out.Keys = append(
			out.Keys,
			MapKey{w.Keys[n], w.Keys[n].ProvedAt != nil && s.now().Sub(*w.Keys[n].ProvedAt) < s.Fresh, onMap[n]},
		)
	}
	for _, l := range out.Logins {
		for n := range l.Cells {
			l.Cells[n].Key = placeOf[l.Cells[n].Key]
		}
		sort.Slice(l.Cells, func(a, b int) bool { return l.Cells[a].Key < l.Cells[b].Key })
	}
	return out, nil
}

// severity orders logins: by state, and among those of one state first those
// with strangers, then those that drift otherwise.
func severity(s reach.Standing) int {
	drift := 2
	switch {
	case s.Strangers > 0:
		drift = 0
	case s.Drifts():
		drift = 1
	}
	return reach.Rank(s.State)*3 + drift
}

// judged says in words how a login stands, and what to do next.
func judged(l record.ReachLogin, s reach.Standing) LoginReach {
	out := LoginReach{ReachLogin: l, Standing: s}
	name := fleet.LoginName(l.OSUser, l.Instance)
	var words []string
	switch s.State {
	case reach.Shut:
		words = append(words, "nobody is known to hold a key in place")
		if s.Ungranted > 0 { // somebody may well get in; whether they should is to be said
			words[0] = "nobody is known to hold a key that is granted there"
			out.Next = "plumlatch settle " + name
		} else if s.Steward {
			out.Next = "plumlatch grant add KEY " + name
		} else {
			words = append(words, "no steward key either")
			out.Next = "plumlatch restore routes " + l.Instance
		}
	case reach.Unswept:
		words = append(words, "nobody has looked")
		out.Next = "plumlatch sweep " + l.Instance
	case reach.Stale:
		words = append(words, "no key in place is freshly proved")
		out.Next = "plumlatch prove " + name
	case reach.Thin:
		words = append(words, "one keeper only, so one lost laptop shuts it")
		out.Next = "plumlatch grant add KEY " + name
		if !s.Steward {
			out.Next += " -with FILE"
		}
	case reach.Solid:
		words = append(words, "two or more keepers with a fresh proof")
	}
	if s.Strangers > 0 {
		words = append(words, text.Counted(s.Strangers, "stranger")+" in the file")
	}
	if s.Missing > 0 {
		words = append(words, text.Counted(s.Missing, "granted key")+" missing")
	}
	if s.Ungranted > 0 {
		words = append(words, text.Counted(s.Ungranted, "known key")+" that nobody granted")
	}
	if s.Drifts() && s.State != reach.Shut && s.State != reach.Stale {
		out.Next = "plumlatch settle " + name
	}
	if l.SweepError != "" {
		words = append(words, "the last sweep failed")
	}
	out.Why = strings.Join(words, "; ")
	return out
}

// Login is a login with all that is known of it.
type Login struct {
	LoginReach
	Of        record.Instance
	Openers   []record.Opening
	Strangers []record.Stranger
	Files     []record.FileVersion
	Folders   []record.Folder
	// Label says what the cloud's key label is worth; "" where there is nothing to say.
	Label string
}

const maxOpeners = 500

// Login returns a login with what was seen in it.
func (s *Service) Login(ctx context.Context, name string) (Login, error) {
	l, i, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return Login{}, err
	}
	w, err := s.World(ctx, record.ReachFilter{Instance: i.ID})
	if err != nil {
		return Login{}, err
	}
	place := w.LoginPlace(l.ID)
	if place < 0 {
		return Login{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-login",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no login %s any more", name),
		}
	}
	out := Login{LoginReach: judged(w.Logins[place], reach.Standings(w.Input)[place]), Of: i, Folders: l.Folders}
	openers, err := s.store.Openers(ctx, i.ID, record.Page{Limit: maxOpeners})
	if err != nil {
		return Login{}, err
	}
	for _, o := range openers.Items {
		if o.OSUser == l.OSUser {
			out.Openers = append(out.Openers, o)
		}
	}
	out.Label = labelWorth(i, out.Openers)
	strangers, err := s.store.StrangersOf(ctx, i.ID, maxOpeners)
	if err != nil {
		return Login{}, err
	}
	for _, g := range strangers {
		if g.LoginID == l.ID {
			out.Strangers = append(out.Strangers, g)
		}
	}
	out.Files, err = s.store.NewestVersions(ctx, l.ID)
	return out, err
}

// labelWorth says in plain words where the cloud's key label misleads.
func labelWorth(i record.Instance, openers []record.Opening) string {
	if i.KeyLabel == "" {
		return ""
	}
	for _, o := range openers {
		if o.KeyName != i.KeyLabel || o.Present == nil {
			continue
		}
		if *o.Present {
			return ""
		}
	}
	for _, o := range openers {
		if o.Present != nil { // somebody has looked
			return fmt.Sprintf("the cloud's label names the key %s, which does not open it", i.KeyLabel)
		}
	}
	return ""
}

// At most so many versions are told of at once, and so many bytes of them.
const (
	maxVersions     = 100
	maxVersionBytes = 4 << 20
)

// Version is a content of a file with what was new in it.
type Version struct {
	record.FileVersion
	Came, Went []string
}

// Versions returns the contents that the login's files were seen with, the newest first.
func (s *Service) Versions(ctx context.Context, name string) ([]Version, error) {
	l, _, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	versions, err := s.store.Versions(ctx, l.ID, maxVersions)
	if err != nil {
		return nil, err
	}
	held := 0
	for n, v := range versions {
		if held += len(v.Content); held > maxVersionBytes && n > 0 {
			versions = versions[:n]
			break
		}
	}
	out := make([]Version, len(versions))
	for n, v := range versions {
		out[n] = Version{FileVersion: v}
		for _, earlier := range versions[n+1:] {
			if earlier.Path == v.Path {
				out[n].Came, out[n].Went = reading.ChangesOf(earlier.Content, v.Content)
				break
			}
		}
	}
	return out, nil
}

// Compare returns the later of two versions of a file with the lines that came and
// went since the earlier.
func (s *Service) Compare(ctx context.Context, name string, from, to uuid.UUID) (Version, error) {
	l, _, err := s.fleet.LoginNamed(ctx, name)
	if err != nil {
		return Version{}, err
	}
	versions, err := s.store.VersionsByID(ctx, l.ID, from, to)
	if err != nil {
		return Version{}, err
	}
	if len(versions) != 2 || versions[0].Path != versions[1].Path {
		return Version{}, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-version",
			Where:  []string{name},
			Detail: "these are not two versions of one file of " + name,
			Remedy: "See them: plumlatch login history " + name,
		}
	}
	out := Version{FileVersion: versions[1]}
	out.Came, out.Went = reading.ChangesOf(versions[0].Content, versions[1].Content)
	return out, nil
}

// LossChange is a login whose reach would change.
type LossChange struct {
	Login, Instance string
	Before, After   reach.State
}

// Loss returns what would become of the logins if keys were lost together: those of the
// names, and all active ones of the keeper, unless that is "". It returns the names of all, too.
func (s *Service) Loss(ctx context.Context, names []string, keeper string) ([]string, []LossChange, error) {
	if len(names) == 0 && keeper == "" {
		return nil, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-key",
			Field:  "key",
			Detail: "no key is named",
			Remedy: "Name keys, or whoever keeps them",
		}
	}
	keys, err := s.store.KeysNamed(ctx, names)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range names {
		if !slices.ContainsFunc(keys, func(k record.Key) bool { return k.Name == n }) {
			return nil, nil, s.keys.NoKey(store.ErrNotFound, n)
		}
	}
	if keeper != "" {
		k, err := s.store.KeeperNamed(ctx, keeper)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil, &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-keeper",
				Field:  "keeper",
				Where:  []string{keeper},
				Detail: fmt.Sprintf("there is no keeper %q", keeper),
				Remedy: "See who there is: plumlatch keeper list",
			}
		}
		if err != nil {
			return nil, nil, err
		}
		held, err := s.store.KeysHeldBy(ctx, k.ID)
		if err != nil {
			return nil, nil, err
		}
		keys = append(keys, held...)
	}
	slices.SortFunc(keys, func(a, b record.Key) int { return cmp.Compare(a.Name, b.Name) })
	keys = slices.CompactFunc(keys, func(a, b record.Key) bool { return a.Name == b.Name })
	all := make([]string, len(keys))
	for n, k := range keys {
		all[n] = k.Name
	}
	w, err := s.World(ctx, record.ReachFilter{Keys: all})
	if err != nil {
		return nil, nil, err
	}
	var places []int
	for _, k := range keys {
		if place := w.KeyPlace(k.ID); place >= 0 {
			places = append(places, place)
		}
	}
	var out []LossChange
	for _, c := range reach.Loss(w.Input, places...) {
		l := w.Logins[c.Login]
		out = append(out, LossChange{fleet.LoginName(l.OSUser, l.Instance), l.Instance, c.Before, c.After})
	}
	return all, out, nil
}

// MarkLost marks a key as lost: by the person who is its keeper, or an admin.
func (s *Service) MarkLost(ctx context.Context, actor people.Actor, name, reason string) (record.Key, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Key{}, err
	}
	if reason == "" {
		return record.Key{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "no reason was given",
			Remedy: "Say what happened, for the daybook: -reason TEXT",
		}
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		k, err := s.keys.LockKey(ctx, tx, name, func(k record.Key) error {
			own, err := s.keys.Holds(ctx, tx, actor, k)
			if err != nil {
				return err
			}
			if actor.Role != people.Admin && !own {
				return &problem.Problem{
					Kind:   problem.Forbidden,
					Code:   "not-the-keeper",
					Where:  []string{name},
					Detail: fmt.Sprintf("only the keeper of %s or an admin marks it as lost", name),
					Remedy: "Ask them",
				}
			}
			return s.keys.Beyond(ctx, tx, k)
		})
		if err != nil {
			return err
		}
		if k.State == "lost" {
			return nil
		}
		if err := tx.SetKeyState(ctx, k.ID, "lost"); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "key.mark-lost", "key", name, reason, "%s marked the key %s as lost.", actor.Name, name),
		)
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.keys.Key(ctx, name)
}
