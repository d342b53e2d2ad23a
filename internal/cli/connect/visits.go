package connect

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
)

// VisitCommands are about logins that people use through the console.
var VisitCommands = []kit.Command{
	{
		Name:    "visit list",
		Flags:   visitList,
		Summary: "List who uses, or used, logins through the console",
		Detail:  "They are your own; an admin sees everybody's.",
		Examples: []string{
			"plumlatch visit list -live",
			"plumlatch visit list -login debian@atlas-web-1",
		},
	},
	{
		Name:     "visit end",
		Args:     "ID",
		Min:      1,
		Max:      1,
		Flags:    visitEnd,
		Summary:  "End a visit that is open",
		Examples: []string{"plumlatch visit end 01a22b5e"},
	},
	{
		Name:    "visit recording",
		Args:    "ID",
		Min:     1,
		Max:     1,
		Flags:   visitRecording,
		Summary: "Write the recording of a visit",
		Detail: "It is in the format asciicast v2 and holds what was typed and shown. Only admins get it, and the daybook " +
			"tells who did.",
		Examples: []string{"plumlatch visit recording 01a22b5e -reason \"audit\" -out visit.cast"},
	},
	{
		Name:    "visit label",
		Args:    "[NAME=VALUE]",
		Max:     1,
		Flags:   visitLabel,
		Summary: "Show or set the labels of instances whose visits are recorded",
		Examples: []string{
			"plumlatch visit label",
			"plumlatch visit label team=atlas",
			"plumlatch visit label team=atlas -off",
		},
	},
}

func visitList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	login := f.String("login", "", "only to this login, user@instance, or to all logins of an instance")
	person := f.String("person", "", "only of this person")
	live := f.Bool("live", false, "only those that are not over")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		rows, total, err := kit.Fetch[apiclient.Visit](
			ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				params := apiclient.ListVisitsParams{
					After: after, Limit: &limit, Total: count, Login: kit.Optional(*login), Person: kit.Optional(*person),
				}
				if *live {
					params.Live = live
				}
				return client.ListVisits(ctx, &params)
			},
		)
		if err != nil {
			return err
		}
		return visitListing.Show(s, rows, total)
	})
}

var visitListing = kit.Listing[apiclient.Visit]{
	Head:  []string{"LOGIN", "PERSON", "STATE", "KEY", "WAY", "FROM", "ASKED", "RECORDED", "ID", "WHY"},
	Least: []string{"WHY", "FROM", "RECORDED", "WAY"},
	Name:  func(v apiclient.Visit) string { return v.Id.String() },
	None:  "No visit matches.",
	Cells: func(v apiclient.Visit) []string {
		state := string(v.State)
		if v.EndedHow != nil {
			state = "ended: " + string(*v.EndedHow)
		}
		recorded := "no"
		if v.Recorded {
			recorded = "yes"
		}
		return []string{
			v.Login,
			v.Person,
			state,
			v.Key,
			string(v.Way),
			v.Address,
			kit.Moment(v.AskedAt),
			recorded,
			v.Id.String(),
			cmp.Or(kit.Given(v.Problem), kit.Given(v.Reason)),
		}
	},
}

// visitMeant returns the visit that text means.
func visitMeant(ctx context.Context, client *apiclient.Client, text string) (uuid.UUID, error) {
	if id, err := uuid.Parse(text); err == nil {
		return id, nil
	}
	limit := 200
	page, err := kit.Answer[apiclient.VisitPage](client.ListVisits(ctx, &apiclient.ListVisitsParams{Limit: &limit}))
	if err != nil {
		return uuid.Nil, err
	}
	things := make([]kit.Thing, len(page.Items))
	for n, v := range page.Items {
		things[n] = kit.Thing{ID: v.Id, What: fmt.Sprintf("%s to %s, %s", v.Person, v.Login, kit.Moment(v.AskedAt))}
	}
	return kit.Meant("visit", text, "visit list", things)
}

func visitEnd(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		id, err := visitMeant(ctx, client, args[0])
		if err != nil {
			return err
		}
		v, err := kit.Answer[apiclient.Visit](client.EndVisit(ctx, id))
		if err != nil {
			return err
		}
		return keys.Record(s, v, v.Id.String(), func() {
			if v.State == apiclient.VisitStateEnded {
				keys.Say(s, "The visit of %s to %s is over.", v.Person, v.Login)
				return
			}
			keys.Say(s, "The visit of %s to %s ends within seconds.", v.Person, v.Login)
		})
	})
}

func visitRecording(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why you look at it, for the daybook")
	out := f.String("out", "", "write it to this `file`; standard output unless given")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		id, err := visitMeant(ctx, client, args[0])
		if err != nil {
			return err
		}
		params := apiclient.GetRecordingParams{Reason: kit.Optional(*reason)}
		text, err := kit.AnswerBytes(client.GetRecording(ctx, id, &params))
		if err != nil {
			return err
		}
		if *out == "" {
			_, err = s.Env.Out.Write(text)
			return err
		}
		file, err := os.OpenFile(*out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return fmt.Errorf("write the recording: %w", err)
		}
		if _, err = file.Write(text); err != nil {
			file.Close()
			return fmt.Errorf("write the recording: %w", err)
		}
		if err := file.Close(); err != nil {
			return fmt.Errorf("write the recording: %w", err)
		}
		keys.Say(s, "The recording is in %s, readable by you alone.", *out)
		return nil
	})
}

func visitLabel(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	off := f.Bool("off", false, "no longer record because of this label")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if len(args) == 0 {
			all, err := kit.Answer[[]apiclient.RecordedLabel](client.ListRecordedLabels(ctx))
			if err != nil {
				return err
			}
			return recordedLabelListing.Show(s, all, len(all))
		}
		name, value, ok := strings.Cut(args[0], "=")
		if !ok {
			return kit.Usage("a label is written name=value")
		}
		words := "Visits to instances with %s are recorded from now on: what is typed and what is shown."
		if *off {
			words = "Visits are not recorded because of %s from now on."
		}
		r, err := client.SetRecordedLabel(ctx, apiclient.RecordedLabelChange{Name: name, Value: value, Records: !*off})
		return keys.Settled(s, r, err, words, args[0])
	})
}

var recordedLabelListing = kit.Listing[apiclient.RecordedLabel]{
	Head: []string{"LABEL", "SET BY", "ON"},
	Name: func(l apiclient.RecordedLabel) string { return l.Name + "=" + l.Value },
	None: "No visit is recorded.",
	Cells: func(l apiclient.RecordedLabel) []string {
		return []string{l.Name + "=" + l.Value, l.AddedBy, kit.Day(l.AddedAt)}
	},
}
