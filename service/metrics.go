package service

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"ydrion/receive"
	"ydrion/run"
)

// metrics counts what happens, for monitoring.
type metrics struct {
	registry *prometheus.Registry
	pickups  *prometheus.CounterVec
	records  *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	alerts   *prometheus.CounterVec
}

func newMetrics(s *Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		pickups:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ydrion_pickups_total", Help: "Pickups that came to this state."}, []string{"route", "state"}),
		records:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ydrion_records_total", Help: "Records by what became of them."}, []string{"route", "outcome"}),
		seconds:  prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "ydrion_run_seconds", Help: "How long runs took, from the taken file to the published output.", Buckets: prometheus.ExponentialBuckets(0.002, 2.5, 12)}, []string{"route"}),
	}
	m.alerts = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "ydrion_alerts_total", Help: "Things that a person should know."}, []string{"kind", "route"})
	running := prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "ydrion_routes_running", Help: "Routes that run and are led by this node."}, func() float64 {
		n := 0
		for _, l := range s.leader.All() {
			if l.Listener() != nil {
				n++
			}
		}
		return float64(n)
	})
	waiting := prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "ydrion_files_waiting", Help: "Files in inboxes that are not ready to be taken."}, func() float64 {
		n := 0
		for _, l := range s.leader.All() {
			if l.Listener() != nil {
				_, count := l.Waiting(0)
				n += count
			}
		}
		return float64(n)
	})
	m.registry.MustRegister(m.alerts, m.pickups, m.records, m.seconds, running, waiting, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// count takes account of an event.
func (m *metrics) count(e run.Event) {
	if e.Kind != "pickup" {
		return
	}
	switch e.State {
	case "delivered", "rejected":
		m.seconds.WithLabelValues(e.Route).Observe(e.Duration)
		m.records.WithLabelValues(e.Route, "good").Add(float64(e.Balance.Good))
		m.records.WithLabelValues(e.Route, "rejected").Add(float64(e.Balance.Rejected))
		m.records.WithLabelValues(e.Route, "filtered").Add(float64(e.Balance.Filtered))
		m.records.WithLabelValues(e.Route, "merged").Add(float64(e.Balance.Merged))
		fallthrough
	case "held", "uncertain", "set aside", "withdrawn":
		m.pickups.WithLabelValues(e.Route, e.State).Inc()
	}
}

// Metrics is where monitoring collects from.
func (s *Service) Metrics() prometheus.Gatherer { return s.metrics.registry }

// tell counts an event and passes it on.
func (s *Service) tell(e run.Event) {
	if e.Kind == "pickup" || e.Kind == run.Answer {
		s.answers.Tell(e.Route, e.Name, receive.Outcome{Pickup: e.Pickup, State: e.State, Reason: e.Reason, Output: e.Output})
	}
	if e.Kind == run.Answer {
		return
	}
	s.metrics.count(e)
	s.hub.tell(e, 0)
}
