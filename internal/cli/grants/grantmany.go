package grants

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// grantsAtOnce is how many runs grantMany waits for at once.
const grantsAtOnce = 8

// everything reads all of a list.
var everything = kit.Paging{All: true, Limit: 500}

// grantMany grants several logins to a key, after showing which, each by a run of its own. What fails at one
// costs nothing to the others.
func grantMany(ctx context.Context, s *kit.Session, w wanted, who string, named []string, label string) error {
	if label == "" && len(named) == 0 {
		return kit.Usage("name the logins, or give -label NAME=VALUE")
	}
	if w.Given() {
		return kit.Usage("-with and -agent are for one login; several are done by the service")
	}
	client, err := s.Connect()
	if err != nil {
		return err
	}
	key, err := keyOf(ctx, client, who)
	if err != nil {
		return err
	}
	logins, err := loginsFor(ctx, client, named, label)
	if err != nil {
		return err
	}
	if len(logins) == 0 {
		return kit.Missing("no-login", "no login matches", "See what there is: plumlatch reach")
	}
	if err := previewGrants(ctx, s, client, w, key, logins); err != nil {
		return err
	}
	what := fmt.Sprintf("%s are granted to %s.", text.Counted(len(logins), "login"), key)
	if err := s.Confirm(w.yes, what, key); err != nil {
		return err
	}
	failed := make([]error, len(logins))
	var group errgroup.Group
	group.SetLimit(grantsAtOnce)
	for n, login := range logins {
		group.Go(func() error {
			failed[n] = grantAndWait(ctx, s, client, w.request(key, login))
			return nil
		})
	}
	group.Wait()
	return tellGrants(s, key, logins, failed)
}

// keyOf returns the name of a key, or that of the one active key of a holder.
func keyOf(ctx context.Context, client *apiclient.Client, who string) (string, error) {
	_, missing := kit.Answer[apiclient.Key](client.GetKey(ctx, who))
	if missing == nil {
		return who, nil
	}
	keys, _, err := kit.Fetch[apiclient.Key](
		ctx, everything, func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			return client.ListKeys(ctx, &apiclient.ListKeysParams{Holder: &who, After: after, Limit: &limit})
		},
	)
	if err != nil {
		return "", err
	}
	keys = slices.DeleteFunc(keys, func(k apiclient.Key) bool { return k.State != apiclient.KeyStateActive })
	switch len(keys) {
	case 0:
		return "", missing
	case 1:
		return keys[0].Name, nil
	}
	names := make([]string, len(keys))
	for n, k := range keys {
		names[n] = k.Name
	}
	return "", kit.Conflict("several-keys", who+" has "+strings.Join(names, ", "), "Name the key that is meant")
}

// loginsFor returns the logins that were named, and those of instances with a label, each once.
func loginsFor(ctx context.Context, client *apiclient.Client, named []string, label string) (out []string, err error) {
	for _, name := range named {
		l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, name))
		if err != nil {
			return nil, err
		}
		out = append(out, l.Reach.Login)
	}
	if label != "" {
		rows, _, err := kit.Fetch[apiclient.LoginReach](
			ctx, everything, func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
				return client.GetReach(ctx, &apiclient.GetReachParams{Label: &label, After: after, Limit: &limit})
			},
		)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(out, r.Login)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// previewGrants shows which logins a key is granted, and what changes of those that it has.
func previewGrants(
	ctx context.Context, s *kit.Session, client *apiclient.Client, w wanted, key string, logins []string,
) error {
	rows, _, err := kit.Fetch[apiclient.GrantRecord](
		ctx, everything, func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			return client.ListGrants(ctx, &apiclient.ListGrantsParams{Key: &key, After: after, Limit: &limit})
		},
	)
	if err != nil || s.Quiet || s.Json {
		return err
	}
	now := map[string]string{}
	for _, g := range rows {
		now[g.Login] = "granted without an end"
		if g.Until != nil {
			now[g.Login] = "granted until " + kit.Moment(*g.Until)
		}
	}
	then := "no end"
	if w.until != nil {
		then = kit.Moment(*w.until)
	}
	t := kit.Table{Head: []string{"LOGIN", "NOW", "UNTIL"}}
	for _, l := range logins {
		state := now[l]
		if state == "" {
			state = "not granted"
		}
		t.Add(l, state, then)
	}
	t.Write(s)
	return nil
}

func grantAndWait(ctx context.Context, s *kit.Session, client *apiclient.Client, r apiclient.AddGrant) error {
	g, err := addGrant(ctx, client, r)
	if err != nil || g.Run == nil {
		return err
	}
	silent := *s
	silent.Quiet = true
	run, err := silent.Watch(ctx, client, g.Run.Id)
	if err == nil && run.State != apiclient.RunStateDone {
		err = kit.Failed("run-failed", kit.Given(run.Error), "")
	}
	return err
}

// tellGrants says what came of each login.
func tellGrants(s *kit.Session, key string, logins []string, failed []error) error {
	type result struct {
		Login   string `json:"login"`
		Granted bool   `json:"granted"`
		Code    string `json:"code,omitempty"`
		Error   string `json:"error,omitempty"`
	}
	var first error
	results, bad := make([]result, len(logins)), 0
	for n, login := range logins {
		results[n] = result{Login: login, Granted: failed[n] == nil}
		if err := failed[n]; err != nil {
			bad++
			results[n].Code, results[n].Error = kit.Code(err), err.Error()
			if first == nil {
				first = err
			}
		}
	}
	switch {
	case s.Json:
		if err := s.WriteJSON(results); err != nil {
			return err
		}
	case s.Quiet:
		for _, r := range results {
			if r.Granted {
				fmt.Fprintln(s.Env.Out, r.Login)
			}
		}
	default:
		fmt.Fprintf(s.Env.Out, "%s granted to %s; its line is in place there.\n", text.Counted(len(logins)-bad, "login"), key)
		for _, r := range results {
			if !r.Granted {
				fmt.Fprintf(s.Env.Out, "Not granted: %s: %s\n", r.Login, r.Error)
			}
		}
	}
	if first != nil {
		return kit.Quiet(kit.Status(first))
	}
	return nil
}
