package replace

import (
	"context"

	"plumlatch/internal/means"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
)

// Means is the name of what the files of a login are changed by in a rotation.
type Means string

// The means, as they are kept. Another one is a line here and a value below.
const (
	BySteward Means = "steward key"
	FromHere  Means = "from here"
	ByAgent   Means = "guest agent"
)

// hand is what a rotation does differently by one of its means.
type hand struct {
	// here is whether somebody changes the lines from their own machine.
	here bool
	// by is who changes the lines, and proof by what a login is completed where the safe has not the new
	// private key, both for people.
	by, proof func(*Work) string
	// method is what a look by it is called.
	method string
	// change changes the files.
	change func(
		context.Context, *rotating, *runs.Progress, subject, func(*means.Door) (means.Seen, error),
	) (means.Seen, error)
	// entered is the login by which the old line may go where the safe has not the new private key, and
	// says what it shows beside that the new key is accepted.
	entered func(context.Context, *rotating, subject) (sshio.Entry, error)
	says    func(subject) string
}

var hands = map[Means]hand{
	BySteward: {
		by:      func(*Work) string { return "the steward key" },
		proof:   func(*Work) string { return "the steward key, after a login with the new key was reported," },
		method:  reading.StewardMethod,
		change:  changeBySteward,
		entered: enteredBySteward,
		says: func(r subject) string {
			return "the steward key gets in, and " + r.New.Name + " is accepted; a login with it was reported before"
		},
	},
	ByAgent: {
		by:     func(*Work) string { return "the guest agent" },
		proof:  func(*Work) string { return "the new key, of which a signed login was reported," },
		method: reading.AgentMethod,
		change: changeByAgent,
		entered: func(ctx context.Context, e *rotating, r subject) (sshio.Entry, error) {
			return e.reportedEntry(ctx, r)
		},
		says: func(r subject) string {
			return r.New.Name + " is accepted; a login with it was reported before, signed with it"
		},
	},
	FromHere: { // whose steps are reported, and not taken by the service; see package work
		here:  true,
		by:    func(w *Work) string { return "the old private key, from the machine of " + w.Worker },
		proof: func(w *Work) string { return "the new key, from the machine of " + w.Worker },
	},
}

// IsHere reports whether the lines of an item are changed from somebody's own machine.
func IsHere(name string) bool { return hands[Means(name)].here }

// changeBySteward changes the files with the steward key. A session that broke is opened again at the
// next try.
func changeBySteward(
	ctx context.Context, e *rotating, p *runs.Progress, r subject, change func(*means.Door) (means.Seen, error),
) (means.Seen, error) {
	session, err := e.steward(ctx, r)
	if err != nil {
		return means.Seen{}, err
	}
	read, err := change(e.reading.DoorBy(means.Over(session), p, &e.work.Journal))
	if err != nil {
		e.end()
		e.session, e.end = nil, func() {}
		return means.Seen{}, reading.Reaching(err)
	}
	return read, nil
}

func enteredBySteward(ctx context.Context, e *rotating, r subject) (sshio.Entry, error) {
	session, err := e.steward(ctx, r)
	if err != nil {
		return sshio.Entry{}, err
	}
	if by := session.Entry(); by.Key() != nil {
		return by, nil
	}
	return e.reportedEntry(ctx, r) // it acts from another user's login, which shows nothing of this one
}

func changeByAgent(
	ctx context.Context, e *rotating, p *runs.Progress, r subject, change func(*means.Door) (means.Seen, error),
) (means.Seen, error) {
	if err := e.reading.AgentReady(ctx, r.login); err != nil {
		return means.Seen{}, err
	}
	read, err := change(e.reading.DoorBy(e.reading.AgentOf(r.login), p, &e.work.Journal))
	return read, reading.ReachingOrNil(err)
}
