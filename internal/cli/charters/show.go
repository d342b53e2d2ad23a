package charters

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/pmezard/go-difflib/difflib"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

func write(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "only logins of instances with this label, `name=value`")
	noKeys := f.Bool("no-keys", false, "leave the public keys out, which are recorded already")
	into := f.String("into", "", "write this `file`, which must not be there yet")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		out, err := kit.Answer[apiclient.WrittenCharter](
			client.WriteCharter(ctx, &apiclient.WriteCharterParams{Name: args[0], Label: kit.Optional(*label), NoKeys: noKeys}),
		)
		if err != nil {
			return err
		}
		if *into == "" {
			fmt.Fprint(s.Env.Out, text.PlainLines(out.Text))
			return nil
		}
		file, err := os.OpenFile(*into, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil {
			return err
		}
		if _, err = file.WriteString(out.Text); err == nil {
			err = file.Close()
		} else {
			_ = file.Close()
		}
		if err == nil {
			keys.Say(s, "Written to %s. Make it so that the charter owns this: plumlatch charter settle %s", *into, *into)
		}
		return err
	})
}

func list(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Charter](client.ListCharters(ctx))
		if err != nil {
			return err
		}
		return kit.Listing[apiclient.Charter]{
			Head: []string{"CHARTER", "VERSION", "GRANTS", "DIFFERS", "COMPARED", "NOTE"}, Least: []string{"NOTE", "COMPARED"},
			Name: func(c apiclient.Charter) string { return c.Name },
			None: "There is no charter. Write one of what there is: plumlatch charter write NAME -into FILE",
			Cells: func(c apiclient.Charter) []string {
				compared, differs := "not yet", fmt.Sprint(c.Differs)
				if c.ComparedAt != nil {
					compared = kit.Moment(*c.ComparedAt)
				}
				if c.Problem != nil {
					differs += ", " + *c.Problem
				}
				return []string{c.Name, fmt.Sprint(c.Version), fmt.Sprint(c.Grants), differs, compared, c.Note}
			},
		}.Show(s, all, len(all))
	})
}

func show(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	files := f.Bool("files", false, "print the files")
	version := f.Int("version", 0, "an earlier `number`")
	against := f.Int("against", 0, "show what changed in the files since the version with this `number`")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		d, err := kit.Answer[apiclient.CharterDetail](client.GetCharter(ctx, args[0]))
		if err != nil {
			return err
		}
		if *version > 0 {
			v, err := kit.Answer[apiclient.CharterVersion](client.GetCharterVersion(ctx, args[0], *version))
			if err != nil {
				return err
			}
			d.Files = kit.Given(v.Files)
		}
		if *against > 0 {
			v, err := kit.Answer[apiclient.CharterVersion](client.GetCharterVersion(ctx, args[0], *against))
			if err != nil {
				return err
			}
			return showChanged(s, kit.Given(v.Files), d.Files)
		}
		if *files && !s.Json {
			for _, f := range d.Files {
				if len(d.Files) > 1 {
					fmt.Fprintf(s.Env.Out, "# %s\n", text.Plain(f.Path))
				}
				fmt.Fprint(s.Env.Out, text.PlainLines(f.Content))
			}
			return nil
		}
		return keys.Record(s, d, d.Charter.Name, func() { showCharter(s, d) })
	})
}

// showChanged prints what changed in files, as a unified diff.
func showChanged(s *kit.Session, before, after []apiclient.CharterFile) error {
	was, is := map[string]string{}, map[string]string{}
	paths := map[string]bool{}
	for _, f := range before {
		was[f.Path], paths[f.Path] = f.Content, true
	}
	for _, f := range after {
		is[f.Path], paths[f.Path] = f.Content, true
	}
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		diff, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{
			A: difflib.SplitLines(was[path]), B: difflib.SplitLines(is[path]), FromFile: path, ToFile: path, Context: 3,
		})
		if err != nil {
			return err
		}
		fmt.Fprint(s.Env.Out, text.PlainLines(diff))
	}
	return nil
}

func showCharter(s *kit.Session, d apiclient.CharterDetail) {
	c := d.Charter
	fmt.Fprintf(s.Env.Out, "%s, version %d, owns %s.\n", c.Name, c.Version, text.Counted(c.Grants, "grant"))
	if c.Note != "" {
		s.Below("", c.Note, kit.AsItIs)
	}
	fmt.Fprintln(s.Env.Out)
	t := kit.Table{
		Head:  []string{"VERSION", "SETTLED", "BY", "SIGNED BY", "DIGEST", "WHY"},
		Least: []string{"DIGEST", "SIGNED BY"},
	}
	for _, v := range d.Versions {
		t.Add(fmt.Sprint(v.Number), kit.Moment(v.SettledAt), v.SettledBy, kit.Given(v.SignedBy), v.Digest[:16], v.Reason)
	}
	t.Write(s)
	fmt.Fprintf(s.Env.Out, "\nWhat differs now: plumlatch charter compare -settled %s\n", c.Name)
}
