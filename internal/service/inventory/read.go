package inventory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const (
	// readWithin is for how long the reading of one cloud may take, and pageSize how many instances are asked for at once.
	readWithin = 15 * time.Minute
	pageSize   = 1000
	// atOnce is how many instances are asked for by themselves at the same time, and sample how many of those that are
	// not recorded and that a list leaves out.
	atOnce = 8
	// cloudsAtOnce is how many clouds are read at the same time.
	cloudsAtOnce = 4
	sample       = 20
)

// Read asks for a reading of all that runs in a cloud, and returns the cloud; its ReadTriedAt tells of the end. A
// reading that finds most of what is recorded gone changes nothing unless acceptGone is given.
func (s *Service) Read(ctx context.Context, actor people.Actor, name string, acceptGone bool) (record.Cloud, error) {
	c, err := s.clouds.Cloud(ctx, name)
	if err != nil {
		return c, err
	}
	if c.PausedAt != nil {
		return c, problem.FromCloud(fmt.Errorf("%s: %w", c.Name, cloud.ErrPaused))
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		change := record.CloudChange{ReadWantedAt: new(s.now()), ReadAccepts: &acceptGone}
		if err := tx.ChangeCloud(ctx, c.ID, change); err != nil || !acceptGone {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), "cloud.accept-gone", "cloud", c.Name, "", nil))
	})
	if err != nil {
		return c, err
	}
	s.engine.Nudge(ctx, readDuty)
	return s.clouds.Cloud(ctx, name)
}

// List returns one page of what runs in the clouds.
func (s *Service) List(
	ctx context.Context, in string, f record.CloudInstanceFilter, p record.Page,
) (record.List[record.CloudInstance], error) {
	if in != "" {
		c, err := s.clouds.Cloud(ctx, in)
		if err != nil {
			return record.List[record.CloudInstance]{}, err
		}
		f.Cloud = &c.ID
	}
	l, err := s.store.CloudInstances(ctx, f, p)
	return l, problem.FromPage(err)
}

// readDue reads the clouds that somebody asked to be read, and those whose last reading is too old.
func (s *Service) readDue(ctx context.Context) error {
	list, err := s.clouds.List(ctx)
	if err != nil {
		return err
	}
	group := new(errgroup.Group) // one that fails holds up no other
	group.SetLimit(cloudsAtOnce)
	for _, c := range list {
		wanted := c.ReadWantedAt != nil && (c.ReadTriedAt == nil || c.ReadTriedAt.Before(*c.ReadWantedAt))
		old := s.Every > 0 && (c.ReadTriedAt == nil || s.now().Sub(*c.ReadTriedAt) >= s.Every)
		if c.PausedAt == nil && (wanted || old) {
			group.Go(func() error { return s.readCloud(ctx, c) })
		}
	}
	return group.Wait()
}

// readCloud reads what has changed in a cloud, where it can tell, and all that runs in it, where that is due; and keeps
// what came of it. A reading that is not whole changes nothing.
func (s *Service) readCloud(ctx context.Context, c record.Cloud) error {
	began := s.now()
	note := record.CloudChange{ReadAccepts: new(false)}
	said, err := s.readBoth(ctx, c, began, &note)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	note.ReadTriedAt = new(s.now())
	failure := ""
	if err == nil {
		err = cmp.Or(s.afterRebuilds(ctx, c), s.recordByRules(ctx, c))
	}
	if err != nil {
		failure = text.Line(err.Error(), text.MaxMessage)
		s.log.Warn("a cloud could not be read", "cloud", c.Name, "err", err)
	} else {
		said.Seconds = int(s.now().Sub(began).Round(time.Second).Seconds())
		note.ReadAt, note.ReadSaid = note.ReadTriedAt, &said
	}
	return s.store.NoteCloudRead(ctx, c.ID, note, failure)
}

// wholeEvery is how often the whole list is read of a cloud that tells what has changed.
const wholeEvery = 6 * time.Hour

// readBoth reads what has changed first, since that is known at once, and then the whole list: where somebody asked for
// it, where the cloud does not tell of changes, and from time to time.
func (s *Service) readBoth(
	ctx context.Context, c record.Cloud, at time.Time, note *record.CloudChange,
) (said record.CloudReading, err error) {
	ctx, cancel := context.WithTimeout(ctx, readWithin)
	defer cancel()
	can, err := s.clouds.Of(&c.ID).Capabilities(ctx)
	if err != nil {
		return said, err
	}
	tells := slices.Contains(can.Capabilities, cloud.CanChanges)
	groups, err := s.keyGroups(ctx, c, slices.Contains(can.Capabilities, cloud.CanGroupKeys))
	if err != nil {
		return said, err
	}
	wanted := c.ReadWantedAt != nil && (c.ReadTriedAt == nil || c.ReadTriedAt.Before(*c.ReadWantedAt))
	whole := wanted || !tells || c.ChangesAfter == "" || c.WholeAt == nil || at.Sub(*c.WholeAt) >= wholeEvery
	if tells && c.ChangesAfter != "" {
		var next string
		said, next, err = s.readChanges(ctx, c, at, groups)
		switch {
		case cloud.Gone(err):
			whole = true
		case err != nil:
			return said, err
		default:
			note.ChangesAfter = &next
		}
	}
	if !whole {
		return said, nil
	}
	if tells { // the place of before the list is read, so that nothing falls between
		now, err := s.clouds.Of(&c.ID).InstanceChanges(ctx, "", 1)
		if err != nil {
			return said, err
		}
		note.ChangesAfter = new(text.Cut(now.Next, mostPlace))
	}
	note.WholeAt = &at
	if said, err = s.readWhole(ctx, c, at, groups); err != nil {
		note.WholeAt, note.ChangesAfter = nil, nil
	}
	return said, err
}

// mostPlace is the length of a place in time, in bytes; mostParts how many parts of changes are read at once.
const (
	mostPlace = 512
	mostParts = 1 + machines.MostListed/pageSize
)

// readChanges reads what has changed since the last reading.
func (s *Service) readChanges(
	ctx context.Context, c record.Cloud, at time.Time, groups []record.KeyGroup,
) (said record.CloudReading, next string, err error) {
	next = c.ChangesAfter
	latest := map[string]record.CloudInstance{}
	for parts := 0; ; parts++ {
		if parts > mostParts {
			return said, "", errors.New("it tells of changes without an end")
		}
		part, err := s.clouds.Of(&c.ID).InstanceChanges(ctx, next, pageSize)
		if err != nil {
			return said, "", err
		}
		for _, i := range part.Instances {
			told, err := toldOf(i)
			if err != nil {
				return said, "", err
			}
			latest[told.CloudID] = told
		}
		if part.More && (part.Next == next || len(part.Instances) == 0) || len(part.Next) > mostPlace {
			return said, "", errors.New("it tells of changes and does not come further")
		}
		if next = part.Next; !part.More {
			break
		}
	}
	var list []record.CloudInstance
	ended := map[string]bool{}
	for id, i := range latest {
		if i.State == machines.Deleted {
			ended[id] = true
		} else {
			list = append(list, i)
		}
	}
	var gone []record.CloudInstance
	if len(ended) > 0 {
		known, err := s.store.CloudInstancesThere(ctx, c.ID)
		if err != nil {
			return said, "", err
		}
		gone = slices.DeleteFunc(known, func(i record.CloudInstance) bool { return !ended[i.CloudID] })
	}
	var recorded []string
	for _, i := range gone {
		if i.RecordedAs != "" {
			recorded = append(recorded, i.CloudID)
		}
	}
	if err := tooManyGone(c, len(recorded)); err != nil {
		return said, "", err
	}
	if err := s.askGone(ctx, c, recorded); err != nil {
		return said, "", err
	}
	said = record.CloudReading{Instances: len(latest), Gone: len(gone), Part: true}
	among := make([]string, len(list))
	for n, i := range list {
		among[n] = i.CloudID
	}
	return said, next, s.keep(ctx, c, at, &said, found{list: list, gone: gone, among: among, groups: groups})
}

func tooManyGone(c record.Cloud, ended int) error {
	if machines.TooManyGone(ended, c.Instances) && !c.ReadAccepts {
		return fmt.Errorf(
			"it no longer knows %d of the %d instances that are recorded in it, so that it may be another cloud: nothing was "+
				"changed. If they are gone, say so: plumlatch cloud read %s -accept-gone", ended, c.Instances, c.Name,
		)
	}
	return nil
}

// found is what a reading found: what is there, what is gone, recorded instances that no reading ever had, and groups.
// among are the ids of those that may have changed; nil for all.
type found struct {
	list, gone []record.CloudInstance
	lost       []record.Instance
	groups     []record.KeyGroup
	among      []string
}

// keep keeps what a reading found, all of it or nothing.
func (s *Service) keep(
	ctx context.Context, c record.Cloud, at time.Time, said *record.CloudReading, f found,
) error {
	return s.store.InTx(ctx, func(tx *store.Store) (err error) {
		if said.New, err = tx.PutCloudInstances(ctx, c.ID, f.list, at); err != nil {
			return err
		}
		if err := s.putGroups(ctx, tx, c, f.groups); err != nil {
			return err
		}
		if err := s.endGone(ctx, tx, c, f.gone); err != nil {
			return err
		}
		for _, i := range f.lost {
			if err := s.endRecorded(ctx, tx, c, i.Name); err != nil {
				return err
			}
		}
		if f.among == nil || len(f.among) > 0 {
			said.Changed, err = s.noteChanges(ctx, tx, c, at, f.among)
		}
		return err
	})
}

func (s *Service) readWhole(
	ctx context.Context, c record.Cloud, at time.Time, groups []record.KeyGroup,
) (said record.CloudReading, err error) {
	var list []record.CloudInstance
	err = problem.Guard(s.log, "reading "+c.Name, func() (err error) { list, err = s.listAll(ctx, c); return err })
	if err != nil {
		return said, err
	}
	seen := map[string]bool{}
	for _, i := range list {
		seen[i.CloudID] = true
	}
	gone, err := s.goneFrom(ctx, c, seen)
	if err != nil {
		return said, err
	}
	unknown, err := s.store.RecordedUnknown(ctx, c.ID)
	if err != nil {
		return said, err
	}
	lost, err := s.lost(ctx, c, unknown, seen)
	if err != nil {
		return said, err
	}
	ended := len(lost)
	for _, i := range gone {
		if i.RecordedAs != "" {
			ended++
		}
	}
	if err := tooManyGone(c, ended); err != nil {
		return said, err
	}
	said = record.CloudReading{Instances: len(list), Gone: len(gone) + len(lost)}
	return said, s.keep(ctx, c, at, &said, found{list: list, gone: gone, lost: lost, groups: groups})
}

// listAll reads the list of a cloud to its end.
func (s *Service) listAll(ctx context.Context, c record.Cloud) (out []record.CloudInstance, err error) {
	from, after := s.clouds.Of(&c.ID), ""
	var listed machines.Listed
	for {
		page, err := from.InstancesPage(ctx, after, pageSize)
		if err != nil {
			return nil, err
		}
		if len(page) == 0 {
			return out, nil
		}
		ids := make([]string, len(page))
		for n, i := range page {
			ids[n] = i.Id
		}
		if after, err = listed.Take(ids); err != nil {
			return nil, err
		}
		for _, i := range page {
			told, err := toldOf(i)
			if err != nil {
				return nil, err
			}
			if told.State != machines.Deleted {
				out = append(out, told)
			}
		}
	}
}

// toldOf takes over what a cloud tells of an instance, within bounds.
func toldOf(i cloud.Instance) (record.CloudInstance, error) {
	line := func(s string) string { return text.Line(s, text.MaxLine) }
	out := record.CloudInstance{
		CloudID: i.Id, Name: line(i.Name), State: machines.State(i.State), Image: line(i.Image), Size: line(i.Size),
		Zone: line(i.Zone), Region: line(i.Region), PrivateAddress: line(i.PrivateAddress),
		PublicAddress: line(i.PublicAddress), SSHPort: i.SshPort, StaticAddress: i.StaticAddress,
		KeyLabel: line(
			i.KeyLabel,
		), LaunchedAt: i.LaunchedAt, RebuiltAt: i.RebuiltAt, TakesGroupKeys: i.TakesGroupKeys == nil || *i.TakesGroupKeys,
	}
	if err := tellBeside(&out, i); err != nil {
		return out, err
	}
	switch {
	case line(i.Id) != i.Id:
		return out, errors.New("it lists an instance with an id that is too long or not in printable characters")
	case !machines.KnownState(out.State):
		return out, fmt.Errorf("it says that %s is %q, which is no state of an instance", i.Id, line(string(i.State)))
	case i.SshPort < 1 || i.SshPort > 65535:
		return out, fmt.Errorf("it says that the SSH port of %s is %d", i.Id, i.SshPort)
	}
	return out, nil
}

// At most so many labels, other addresses and groups of one instance are taken over.
const mostBeside = 64

// tellBeside takes over the labels, other addresses and groups of an instance. Groups are ways in: too many are an
// error.
func tellBeside(out *record.CloudInstance, i cloud.Instance) error {
	line := func(s string) string { return text.Line(s, text.MaxLine) }
	if i.Labels != nil {
		out.Labels = map[string]string{}
		for _, name := range slices.Sorted(maps.Keys(*i.Labels))[:min(len(*i.Labels), mostBeside)] {
			out.Labels[line(name)] = line((*i.Labels)[name])
		}
	}
	if i.OtherAddresses != nil {
		for _, a := range (*i.OtherAddresses)[:min(len(*i.OtherAddresses), mostBeside)] {
			out.OtherAddresses = append(out.OtherAddresses, line(a))
		}
	}
	if i.KeyGroups != nil {
		if len(*i.KeyGroups) > mostBeside {
			return fmt.Errorf("it says that %s is in %d groups; %d are read", line(i.Id), len(*i.KeyGroups), mostBeside)
		}
		for _, g := range *i.KeyGroups {
			out.KeyGroups = append(out.KeyGroups, line(g))
		}
	}
	return nil
}

// goneFrom returns those that a whole list no longer has. Each that is recorded here, and some of the others, are
// asked for by themselves: where the cloud knows one of them, the list was not whole.
func (s *Service) goneFrom(
	ctx context.Context, c record.Cloud, seen map[string]bool,
) (gone []record.CloudInstance, err error) {
	known, err := s.store.CloudInstancesThere(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	var ask []string
	others := 0
	for _, i := range known {
		if seen[i.CloudID] {
			continue
		}
		gone = append(gone, i)
		if i.RecordedAs != "" || others < sample {
			ask = append(ask, i.CloudID)
		}
		if i.RecordedAs == "" {
			others++
		}
	}
	return gone, s.askGone(ctx, c, ask)
}

// lost returns the recorded instances that a whole list does not have and that no reading ever had.
func (s *Service) lost(
	ctx context.Context, c record.Cloud, recorded []record.Instance, seen map[string]bool,
) (lost []record.Instance, err error) {
	var ask []string
	for _, i := range recorded {
		if !seen[i.CloudID] {
			lost, ask = append(lost, i), append(ask, i.CloudID)
		}
	}
	return lost, s.askGone(ctx, c, ask)
}

// askGone asks a cloud for instances that should be gone, each by itself. One that is there is an error.
func (s *Service) askGone(ctx context.Context, c record.Cloud, ids []string) error {
	from := s.clouds.Of(&c.ID)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, id := range ids {
		group.Go(func() error {
			i, err := from.Instance(ctx, id)
			switch {
			case cloud.NotThere(err) || err == nil && i.State == cloud.Deleted:
				return nil
			case err != nil:
				return err
			}
			return fmt.Errorf("it tells that %s is gone, and knows it when asked for that alone: nothing was changed", id)
		})
	}
	return group.Wait()
}

// endGone notes that instances are gone, and ends what is recorded of them.
func (s *Service) endGone(ctx context.Context, tx *store.Store, c record.Cloud, gone []record.CloudInstance) error {
	for n := 0; n < len(gone); n += pageSize {
		var ids []uuid.UUID
		for _, i := range gone[n:min(n+pageSize, len(gone))] {
			ids = append(ids, i.ID)
		}
		if err := tx.EndCloudInstances(ctx, ids, s.now()); err != nil {
			return err
		}
	}
	for _, i := range gone {
		if i.RecordedAs == "" {
			continue
		}
		if err := s.endRecorded(ctx, tx, c, i.RecordedAs); err != nil {
			return err
		}
	}
	return nil
}

// endRecorded ends what is recorded of an instance that is gone from its cloud, unless a run is at work on it, which
// comes to know by itself.
func (s *Service) endRecorded(ctx context.Context, tx *store.Store, c record.Cloud, name string) error {
	i, err := tx.InstanceNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	switch _, err := tx.LiveRunOf(ctx, i.ID); {
	case err == nil:
		return nil
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	if err := s.fleet.Forget(ctx, tx, i.ID); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		journal.ByService, "instance.gone", "instance", i.Name, "", journal.Facts{"cloud": c.Name},
	))
}

// noteChanges takes over what a cloud tells otherwise of recorded instances.
func (s *Service) noteChanges(
	ctx context.Context, tx *store.Store, c record.Cloud, since time.Time, among []string,
) (int, error) {
	changes, err := tx.CloudChanges(ctx, c.ID, since, among)
	if err != nil {
		return 0, err
	}
	for _, change := range changes {
		was, now := change.Instance, change.Now
		to := record.InstanceChange{
			State: now.State, PrivateAddress: &now.PrivateAddress, PublicAddress: &now.PublicAddress,
			SSHPort: now.SSHPort, StaticAddress: &now.StaticAddress, Size: now.Size, KeyLabel: &now.KeyLabel,
		}
		facts := journal.Facts{"cloud": c.Name}
		if was.State != now.State {
			facts["state"], facts["state_before"] = string(now.State), string(was.State)
		}
		if was.PublicAddress != now.PublicAddress {
			to.AddressChangedAt = new(s.now())
			if was.PublicAddress != "" {
				to.AddressBefore = was.PublicAddress
			}
			facts["address"] = cmp.Or(now.PublicAddress, "none")
			facts["address_before"] = cmp.Or(was.PublicAddress, "none")
		}
		if was.Size != now.Size {
			facts["size"], facts["size_before"] = now.Size, was.Size
		}
		if was.KeyLabel != now.KeyLabel {
			facts["label"] = cmp.Or(now.KeyLabel, "none")
		}
		if err := tx.ChangeInstance(ctx, was.ID, to); err != nil {
			return 0, err
		}
		if err := tx.Note(ctx, s.journal.Entry(
			journal.ByService, "instance.changed", "instance", was.Name, "", facts,
		)); err != nil {
			return 0, err
		}
	}
	return len(changes), nil
}
