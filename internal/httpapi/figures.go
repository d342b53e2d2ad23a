package httpapi

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"plumlatch/internal/service"
)

// figures tells Prometheus how the service does.
type figures struct{ *service.Service }

const figuresTimeout = 10 * time.Second

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("plumlatch_"+name, help, labels, nil)
}

var (
	loginsFigure    = described("logins", "Logins by how safe they are.", "reach")
	strangersFigure = described("strangers", "Keys in logins that are not recorded.")
	liveRunsFigure  = described("runs_live", "Runs that have not ended, by kind.", "kind")
	endedRunsFigure = described(
		"runs_ended_last_day", "Runs that ended within the last day, by kind and state.", "kind", "state",
	)
	jobsFigure          = described("queue_jobs", "Jobs of the queue that are not done, by state.", "state")
	sweepsFigure        = described("sweep_logins_waiting", "Logins that a sweep waits for.")
	openFigure          = described("open", "What restores have opened and not closed yet.")
	overdueFigure       = described("open_overdue", "What is open beyond its deadline.")
	grantsOverdueFigure = described("grants_overdue", "Grants that are in force though their end is past.")
	chartersFigure      = described(
		"charter_changes", "Changes that would make all charters so, as they were last compared.",
	)
	deliveriesFigure = described(
		"deliveries", "Deliveries to subscribers that are not done, by state: waiting or dead.", "state",
	)
	daybookFigure = described("daybook_entries", "The number of the daybook's last entry.")
	failedFigure  = described("figures_failed", "Whether the figures could not be counted.")
)

func (f figures) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		loginsFigure,
		strangersFigure,
		liveRunsFigure,
		endedRunsFigure,
		jobsFigure,
		sweepsFigure,
		openFigure,
		overdueFigure,
		grantsOverdueFigure,
		chartersFigure,
		deliveriesFigure,
		daybookFigure,
		failedFigure,
	} {
		to <- d
	}
}

func (f figures) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), figuresTimeout)
	defer cancel()
	gauge := func(d *prometheus.Desc, n float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, n, labels...)
	}
	now, err := f.Access.Figures(ctx)
	if err != nil {
		gauge(failedFigure, 1)
		return
	}
	gauge(failedFigure, 0)
	for state, n := range now.Reach {
		gauge(loginsFigure, float64(n), string(state))
	}
	for kind, n := range now.LiveRuns {
		gauge(liveRunsFigure, float64(n), kind)
	}
	for of, n := range now.EndedRuns {
		gauge(endedRunsFigure, float64(n), of[0], of[1])
	}
	for state, n := range now.Jobs {
		gauge(jobsFigure, float64(n), state)
	}
	for state, n := range now.Deliveries {
		gauge(deliveriesFigure, float64(n), state)
	}
	gauge(strangersFigure, float64(now.Strangers))
	gauge(sweepsFigure, float64(now.SweepsWaiting))
	gauge(openFigure, float64(now.OpenClosings))
	gauge(overdueFigure, float64(now.Overdue))
	gauge(grantsOverdueFigure, float64(now.GrantsOverdue))
	gauge(chartersFigure, float64(now.CharterChanges))
	gauge(daybookFigure, float64(now.LastEntry))
}
