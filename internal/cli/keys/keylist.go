package keys

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
)

const (
	maxPart     = 5000      // keys sent in one call
	maxPartSize = 700 << 10 // bytes of keys sent in one call
	previewed   = 15
)

// importList records every key of a file, each under a name of its own, after
// a preview.
func importList(s *kit.Session, ctx context.Context, prefix, path string, drop, yes bool, n newKeyFlags) error {
	if err := name.Check(prefix); err != nil {
		return kit.BadName(prefix, err)
	}
	listed, err := readListFile(path)
	if err != nil {
		return err
	}
	keys, refused := nameListed(prefix, listed, drop)
	if len(keys) == 0 {
		return kit.Failed(
			"no-keys-in-list", fmt.Sprintf("%s has no key that can be imported; %d lines were refused", path, len(refused)), "",
		)
	}
	client, err := s.Connect()
	if err != nil {
		return err
	}
	previewList(s, listed, keys, refused)
	if err := s.Confirm(yes, fmt.Sprintf("This records %d keys.", len(keys)), "import"); err != nil {
		return err
	}
	results, err := sendList(s,
		ctx,
		client,
		keys,
		apiclient.ImportKeys{Holder: kit.Optional(n.holder), Purpose: kit.Optional(n.purpose), Labels: n.labelMap()},
	)
	if err != nil {
		return err
	}
	return showListResults(s, lineResults(listed, results))
}

// sendList sends the keys in parts, two at once, and returns what became of
// each, in order.
func sendList(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	keys []apiclient.ListedKey,
	common apiclient.ImportKeys,
) ([]apiclient.ListResult, error) {
	parts := slices.Collect(inParts(keys))
	answers := make([][]apiclient.ListResult, len(parts))
	var told sync.Mutex
	done := 0
	sending, ctx := errgroup.WithContext(ctx)
	sending.SetLimit(2)
	for n, part := range parts {
		sending.Go(func() error {
			request := common
			request.Keys = part
			var err error
			if answers[n], err = kit.Answer[[]apiclient.ListResult](client.ImportKeys(ctx, request)); err != nil {
				return err
			}
			told.Lock()
			defer told.Unlock()
			done += len(part)
			tellPart(s, done, len(keys))
			return nil
		})
	}
	if err := sending.Wait(); err != nil {
		return nil, fmt.Errorf(
			"%d of %d keys were sent before this; the same command again continues: %w", done, len(keys), err,
		)
	}
	return slices.Concat(answers...), nil
}

// inParts cuts the keys into what one call may hold.
func inParts(keys []apiclient.ListedKey) iter.Seq[[]apiclient.ListedKey] {
	return func(yield func([]apiclient.ListedKey) bool) {
		for len(keys) > 0 {
			end, size := 0, 0
			for end < len(keys) && end < maxPart && size < maxPartSize {
				size += len(keys[end].PublicKey) + len(keys[end].Name) + 40
				end++
			}
			if !yield(keys[:end]) {
				return
			}
			keys = keys[end:]
		}
	}
}

// readListFile reads the file in parts that end at a line.
func readListFile(path string) ([]keypair.Listed, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []keypair.Listed
	lines := bufio.NewReaderSize(f, 64<<10)
	var part strings.Builder
	first, count := 0, 0
	flush := func() error {
		listed, _, err := keypair.ReadList(part.String())
		for i := range listed {
			listed[i].Line += first
		}
		out = append(out, listed...)
		first = count
		part.Reset()
		return err
	}
	for {
		line, err := lines.ReadString('\n')
		if len(line) > keypair.MaxTextBytes {
			return nil, fmt.Errorf("%s: line %d has over %d bytes", path, count+1, keypair.MaxTextBytes)
		}
		part.WriteString(line)
		count++
		if part.Len() > keypair.MaxListBytes-keypair.MaxTextBytes || err != nil {
			if err := flush(); err != nil {
				return nil, kit.WrapFile(path, err)
			}
		}
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
	}
}

// nameListed gives every key a name that begins with the prefix.
func nameListed(
	prefix string, listed []keypair.Listed, drop bool,
) (keys []apiclient.ListedKey, refused []keypair.Listed) {
	keypair.RefuseTwice(listed)
	var comments []string
	for _, l := range listed {
		if l.Refused != nil {
			refused = append(refused, l)
			continue
		}
		comments = append(comments, l.Comment)
		if drop {
			l.Comment = ""
		}
		keys = append(keys, apiclient.ListedKey{PublicKey: l.Public.Line()})
	}
	for n, given := range name.ForList(prefix, comments) {
		keys[n].Name = given
	}
	return keys, refused
}

func previewList(s *kit.Session, listed []keypair.Listed, keys []apiclient.ListedKey, refused []keypair.Listed) {
	if s.Json || s.Quiet {
		return
	}
	n := 0
	for _, l := range listed {
		if l.Refused == nil && n < previewed {
			fmt.Fprintf(s.Env.Err, "  line %-6d %-30s %s\n", l.Line, keys[n].Name, kit.TypeText(l.Type, l.Bits))
			n++
		}
	}
	if len(keys) > n {
		fmt.Fprintf(s.Env.Err, "  and %d more\n", len(keys)-n)
	}
	for i, l := range refused {
		if i == previewed {
			fmt.Fprintf(s.Env.Err, "  and %d more lines that are refused\n", len(refused)-i)
			break
		}
		fmt.Fprintf(s.Env.Err, "  line %-6d refused: %s\n", l.Line, l.Refused.Problem)
	}
}

func tellPart(s *kit.Session, done, all int) {
	switch {
	case s.Json || s.Quiet:
	case s.Live():
		fmt.Fprintf(s.Env.Err, "\r\x1b[K  %s %d of %d", kit.Bar(done*100/all), done, all)
		if done == all {
			fmt.Fprintln(s.Env.Err)
		}
	default:
		fmt.Fprintf(s.Env.Err, "  %d of %d sent\n", done, all)
	}
}

// lineResult is what came of one line of a list. A line that is refused here has no name.
type lineResult struct {
	Line int `json:"line"`
	apiclient.ListResult
}

// lineResults puts the answers of the service and what was refused here in the order of the lines.
func lineResults(listed []keypair.Listed, results []apiclient.ListResult) []lineResult {
	out := make([]lineResult, 0, len(listed))
	for _, l := range listed {
		if l.Refused != nil {
			out = append(out, lineResult{l.Line, apiclient.ListResult{
				State: apiclient.ListResultStateRefused, Detail: &l.Refused.Problem,
			}})
			continue
		}
		out = append(out, lineResult{l.Line, results[0]})
		results = results[1:]
	}
	return out
}

// showListResults tells what became of the keys; what was not recorded is named. It ends with status 3
// unless every key of the list is recorded now.
func showListResults(s *kit.Session, results []lineResult) error {
	var end error
	for _, r := range results {
		if r.State != apiclient.ListResultStateRecorded && r.State != apiclient.ListResultStateKnown {
			end = kit.Quiet(kit.ExitNotAsItShould)
		}
	}
	if s.Json {
		return errors.Join(s.WriteJSON(results), end)
	}
	counts := map[apiclient.ListResultState]int{}
	told := 0
	for _, r := range results {
		counts[r.State]++
		if s.Quiet && r.State == apiclient.ListResultStateRecorded {
			fmt.Fprintln(s.Env.Out, r.Name)
		}
		if s.Quiet || r.State == apiclient.ListResultStateRecorded || told == previewed {
			continue
		}
		told++
		fmt.Fprintf(
			s.Env.Out, "line %d: %s %s %s\n", r.Line, r.Name,
			strings.TrimSpace(string(r.State)+" "+kit.Given(r.KnownAs)), kit.Given(r.Detail),
		)
	}
	if !s.Quiet {
		fmt.Fprintf(
			s.Env.Out,
			"%d recorded, %d known already, %d names taken, %d refused.\n", counts[apiclient.ListResultStateRecorded],
			counts[apiclient.ListResultStateKnown], counts[apiclient.ListResultStateNameTaken],
			counts[apiclient.ListResultStateRefused],
		)
	}
	return end
}
