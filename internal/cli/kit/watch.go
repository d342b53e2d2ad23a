package kit

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
)

// RunEnded tells how a run ended; only done is a success.
func (s *Session) RunEnded(run apiclient.Run) error {
	if s.Json {
		if err := s.WriteJSON(run); err != nil {
			return err
		}
	}
	switch run.State {
	case apiclient.RunStateDone:
		return nil
	case apiclient.RunStateUndone:
		return Failed("run-undone", fmt.Sprintf("the %s of %s was undone: %s", run.Kind, run.Instance, Given(run.Error)), "")
	case apiclient.RunStateNeedsPerson:
		return Failed(
			"needs-person",
			fmt.Sprintf("the %s of %s has ended with something left to do: %s", run.Kind, run.Instance, Given(run.Error)), "",
		)
	}
	return Failed("run-failed", fmt.Sprintf("the %s of %s failed: %s", run.Kind, run.Instance, Given(run.Error)), "")
}

// Watch follows a run to its end, through restarts of the service.
func (s *Session) Watch(ctx context.Context, client *apiclient.Client, id uuid.UUID) (apiclient.Run, error) {
	show := &Steps{Session: s, Shown: map[string]bool{}}
	defer show.Clear()
	patience := s.Patience()
	var run apiclient.Run
	for {
		last := Optional(strconv.Itoa(run.Version))
		resp, err := client.WatchRun(ctx, id, &apiclient.WatchRunParams{LastEventID: last})
		switch {
		case err != nil:
			err = fmt.Errorf("%w: %w", ErrUnreachable, err)
		case resp.StatusCode != http.StatusOK:
			_, err = AnswerBytes(resp, nil)
		default:
			patience.Answered()
			if run, err = follow(resp, run, show.Tell); err == nil && run.EndedAt != nil {
				return run, nil
			}
			err = nil // the stream broke off, and is opened again
		}
		if ctx.Err() != nil {
			return run, Stopped("run", "plumlatch run watch "+cmp.Or(run.Instance, id.String()))
		}
		show.Clear()
		if err := patience.Wait(ctx, err); err != nil {
			return run, err
		}
	}
}

// follow reads server-sent events, each of which holds the whole run.
func follow(resp *http.Response, run apiclient.Run, tell func(apiclient.Run)) (apiclient.Run, error) {
	err := EventsOf(resp, func(data string) error {
		if err := json.Unmarshal([]byte(data), &run); err != nil {
			return err
		}
		tell(run)
		return nil
	})
	return run, err
}

// EventsOf tells of the data of each server-sent event, until the stream ends.
func EventsOf(resp *http.Response, tell func(data string) error) error {
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

// Steps shows a run's steps as they end, and on a terminal the one at work.
type Steps struct {
	*Session
	Shown map[string]bool
	live  bool
	width int // of the titles
}

// FitTitles makes the column of titles as wide as those of the run need.
func (s *Steps) FitTitles(run apiclient.Run) {
	s.width = 18
	for _, step := range run.Steps {
		s.width = max(s.width, utf8.RuneCountInString(step.Title))
	}
}

func (s *Steps) Tell(run apiclient.Run) {
	if s.Json || s.Quiet {
		return
	}
	s.Clear()
	s.FitTitles(run)
	for _, step := range run.Steps {
		key := step.Name + string(step.State)
		switch {
		case s.Shown[key] || step.State == apiclient.StepStateWaiting:
		case step.State == apiclient.StepStateRunning:
			if s.Live() {
				fmt.Fprintf(
					s.Env.Err,
					"  …       %-*s  %s %s", s.width, step.Title, Bar(Given(step.Percent)), Given(step.Outcome),
				)
				s.live = true
			}
		default:
			s.Shown[key] = true
			fmt.Fprintln(s.Env.Err, s.Line(step))
		}
	}
	if w := run.Waits; w != nil && run.Kind != apiclient.RunKindRestore && !s.Shown["waits "+w.Step] {
		s.Shown["waits "+w.Step] = true
		fmt.Fprintf(s.Env.Err, "  It waits for %s %s.\n", w.Who, w.What)
		if next := Given(w.Next); next != "" {
			fmt.Fprintf(s.Env.Err, "  Do it with:  %s\n", next)
		}
	}
}

func Bar(percent int) string {
	const width = 20
	n := max(0, min(width, percent*width/100))
	return strings.Repeat("━", n) + strings.Repeat("┄", width-n) + fmt.Sprintf(" %3d %%", percent)
}

func (s *Steps) Line(step apiclient.Step) string {
	mark := map[apiclient.StepState]string{
		apiclient.StepStateDone:   s.Good("done  "),
		apiclient.StepStateFailed: s.Bad("failed"),
		apiclient.StepStateUndone: "undone",
		apiclient.StepStateLeft:   s.Bad("left  "),
	}[step.State]
	took := ""
	if step.StartedAt != nil && step.EndedAt != nil {
		took = fmt.Sprintf("%.1f s", step.EndedAt.Sub(*step.StartedAt).Seconds())
	}
	return strings.TrimRight(fmt.Sprintf("  %s  %-*s %7s   %s", mark, s.width, step.Title, took, Given(step.Outcome)), " ")
}

func (s *Steps) Clear() {
	if s.live {
		fmt.Fprint(s.Env.Err, "\r\x1b[K")
		s.live = false
	}
}
