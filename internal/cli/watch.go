package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"plumlatch/internal/apiclient"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
)

// runEnded tells how a run ended; only done is a success.
func (s *session) runEnded(run apiclient.Run) error {
	if s.json {
		if err := s.writeJSON(run); err != nil {
			return err
		}
	}
	switch run.State {
	case apiclient.RunStateDone:
		return nil
	case apiclient.RunStateUndone:
		return fmt.Errorf("the %s of %s was undone: %s", run.Kind, run.Instance, given(run.Error))
	case apiclient.RunStateNeedsPerson:
		return fmt.Errorf("the %s of %s has ended with something left to do: %s", run.Kind, run.Instance, given(run.Error))
	}
	return fmt.Errorf("the %s of %s failed: %s", run.Kind, run.Instance, given(run.Error))
}

const (
	watchTries = 60
	watchPause = time.Second
)

// watch follows a run to its end, through breaks of the connection.
func (s *session) watch(ctx context.Context, client *apiclient.Client, id uuid.UUID) (apiclient.Run, error) {
	show := &steps{session: s, shown: map[string]bool{}}
	var run apiclient.Run
	for tries := 0; ; tries++ {
		last := optional(strconv.Itoa(run.Version))
		resp, err := client.WatchRun(ctx, id, &apiclient.WatchRunParams{LastEventID: last})
		if err == nil && resp.StatusCode == http.StatusOK {
			if run, err = follow(resp, run, show.tell); err == nil && run.EndedAt != nil {
				show.clear()
				return run, nil
			}
		} else if _, refused := answerBytes(resp, err); err == nil && resp.StatusCode < 500 {
			return run, refused
		}
		if ctx.Err() != nil {
			show.clear()
			return run, fmt.Errorf(
				"you stopped watching; the run goes on in the service. Watch again: plumlatch run watch %s",
				id,
			)
		}
		if tries == watchTries {
			return run, fmt.Errorf(
				"%w; the run goes on when it is back. Watch again: plumlatch run watch %s",
				errUnreachable,
				id,
			)
		}
		select {
		case <-ctx.Done():
		case <-time.After(watchPause):
		}
	}
}

// follow reads server-sent events, each of which holds the whole run.
func follow(resp *http.Response, run apiclient.Run, tell func(apiclient.Run)) (apiclient.Run, error) {
	err := eventsOf(resp, func(data string) error {
		if err := json.Unmarshal([]byte(data), &run); err != nil {
			return err
		}
		tell(run)
		return nil
	})
	return run, err
}

// eventsOf tells of the data of each server-sent event, until the stream ends.
func eventsOf(resp *http.Response, tell func(data string) error) error {
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		if err := tell(data); err != nil {
			return err
		}
	}
	return lines.Err()
}

// steps shows a run's steps as they end, and on a terminal the one at work.
type steps struct {
	*session
	shown map[string]bool
	live  bool
	width int // of the titles
}

// fit makes the column of titles as wide as those of the run need.
func (s *steps) fit(run apiclient.Run) {
	s.width = 18
	for _, step := range run.Steps {
		s.width = max(s.width, utf8.RuneCountInString(step.Title))
	}
}

func (s *steps) tell(run apiclient.Run) {
	if s.json || s.quiet {
		return
	}
	s.clear()
	s.fit(run)
	for _, step := range run.Steps {
		key := step.Name + string(step.State)
		switch {
		case s.shown[key] || step.State == apiclient.StepStateWaiting:
		case step.State == apiclient.StepStateRunning:
			if isTerminal(s.env.Err) {
				fmt.Fprintf(
					s.env.Err,
					"  …       %-*s  %s %s",
					s.width,
					step.Title,
					bar(given(step.Percent)),
					given(step.Outcome),
				)
				s.live = true
			}
		default:
			s.shown[key] = true
			fmt.Fprintln(s.env.Err, s.line(step))
		}
	}
	if w := run.Waits; w != nil && run.Kind != apiclient.RunKindRestore && !s.shown["waits "+w.Step] {
		s.shown["waits "+w.Step] = true
		fmt.Fprintf(s.env.Err, "  It waits for %s %s.\n", w.Who, w.What)
		if next := given(w.Next); next != "" {
			fmt.Fprintf(s.env.Err, "  Do it with:  %s\n", next)
		}
	}
}

func bar(percent int) string {
	const width = 20
	n := max(0, min(width, percent*width/100))
	return strings.Repeat("━", n) + strings.Repeat("┄", width-n) + fmt.Sprintf(" %3d %%", percent)
}

func (s *steps) line(step apiclient.Step) string {
	mark := map[apiclient.StepState]string{
		apiclient.StepStateDone:   s.good("done  "),
		apiclient.StepStateFailed: s.bad("failed"),
		apiclient.StepStateUndone: "undone",
		apiclient.StepStateLeft:   s.bad("left  "),
	}[step.State]
	took := ""
	if step.StartedAt != nil && step.EndedAt != nil {
		took = fmt.Sprintf("%.1f s", step.EndedAt.Sub(*step.StartedAt).Seconds())
	}
	return strings.TrimRight(fmt.Sprintf("  %s  %-*s %7s   %s", mark, s.width, step.Title, took, given(step.Outcome)), " ")
}

func (s *steps) clear() {
	if s.live {
		fmt.Fprint(s.env.Err, "\r\x1b[K")
		s.live = false
	}
}
