package kit

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/name"
)

// named are the kinds of names whose lack may be a slip, by the code that tells of it.
var named = map[string][]apiclient.NamedKind{
	"no-such-key":      {apiclient.NamedKindKey},
	"no-such-instance": {apiclient.NamedKindInstance},
	"no-such-login":    {apiclient.NamedKindLogin},
	"no-such-holder":   {apiclient.NamedKindPerson, apiclient.NamedKindTeam},
	"no-such-operator": {apiclient.NamedKindPerson},
	"no-such-team":     {apiclient.NamedKindTeam},
}

// DidYouMean adds to a failure about a name that is not there the names that may be meant, as far as the service
// tells them at once.
func (s *Session) DidYouMean(ctx context.Context, err error) error {
	var refused *ApiclientError
	if !errors.As(err, &refused) || s.client == nil || refused.Where == nil || len(*refused.Where) != 1 {
		return err
	}
	kinds, typed := named[refused.Code], (*refused.Where)[0]
	if kinds == nil || len(typed) < 2 {
		return err
	}
	if info, missing := os.Stat(typed); refused.Code == "no-such-key" && missing == nil && info.Mode().IsRegular() {
		refused.Remedy = new(
			typed + " is a file here. Import it first: plumlatch key import " +
				name.Suggest(strings.TrimSuffix(filepath.Base(typed), ".pub")) + " -from " + ShellWord(typed),
		)
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	var among []string
	for _, part := range []string{typed[:min(3, len(typed))], typed[max(0, len(typed)-3):]} {
		found, asked := Answer[[]apiclient.Named](
			s.client.ListNames(ctx, &apiclient.ListNamesParams{Q: part, Limit: new(50)}),
		)
		if asked != nil {
			return err
		}
		for _, n := range found {
			if slices.Contains(kinds, n.Kind) && !slices.Contains(among, n.Name) {
				among = append(among, n.Name)
			}
		}
	}
	meant := name.Nearest(typed, among)
	if len(meant) == 0 {
		return err
	}
	remedy := "Did you mean " + strings.Join(meant, " or ") + "?"
	if refused.Remedy != nil {
		remedy += " " + *refused.Remedy
	}
	refused.Remedy, refused.Suggestion = &remedy, &meant[0]
	return err
}
