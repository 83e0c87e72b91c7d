package cli

import (
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"hodstone/internal/fleet"
	"hodstone/internal/workbench"
)

// serveMetrics serves how a load stands, as OpenMetrics.
func serveMetrics(addr string, l *workbench.Loader) (stop func(), err error) {
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, usage("--metrics cannot listen on %s: %w", addr, err)
	}
	registry := prometheus.NewRegistry()
	gauge := func(name, help string, value func(s *fleet.State) float64) {
		registry.MustRegister(
			prometheus.NewGaugeFunc(
				prometheus.GaugeOpts{Namespace: "hodstone", Subsystem: "load", Name: name, Help: help},
				func() float64 { s := l.State(); return value(&s) },
			),
		)
	}
	second := func(s *fleet.State) fleet.Second {
		if n := len(s.Result.Seconds); n > 0 {
			return s.Result.Seconds[n-1]
		}
		return fleet.Second{}
	}
	sum := func(s *fleet.State, of func(*fleet.StepResult) int64) (n float64) {
		for i := range s.Result.Steps {
			n += float64(of(&s.Result.Steps[i]))
		}
		return n + float64(of(&s.Under))
	}
	gauge("clients", "Clients that are connected.", func(s *fleet.State) float64 { return float64(s.Under.In) })
	gauge(
		"asked_messages_per_second",
		"Messages a second asked for.",
		func(s *fleet.State) float64 { return second(s).Asked },
	)
	gauge(
		"round_trip_p50_seconds",
		"Median round trip in the last second.",
		func(s *fleet.State) float64 { return second(s).P50.Seconds() },
	)
	gauge(
		"round_trip_p99_seconds",
		"99th percentile of round trips in the last second.",
		func(s *fleet.State) float64 { return second(s).P99.Seconds() },
	)
	gauge(
		"missing_messages",
		"Messages under way, or lost.",
		func(s *fleet.State) float64 { return float64(second(s).Missing) },
	)
	gauge("generator_cores", "Cores that the generator uses.", func(s *fleet.State) float64 { return second(s).CPU })
	for name, of := range map[string]func(*fleet.StepResult) int64{
		"sent_messages":       func(s *fleet.StepResult) int64 { return s.Sent },
		"received_messages":   func(s *fleet.StepResult) int64 { return s.Received },
		"duplicated_messages": func(s *fleet.StepResult) int64 { return s.Duplicated },
		"acknowledgements":    func(s *fleet.StepResult) int64 { return s.Acked },
	} {
		registry.MustRegister(
			prometheus.NewCounterFunc(
				prometheus.CounterOpts{Namespace: "hodstone", Subsystem: "load", Name: name + "_total",
					Help: strings.ReplaceAll(name, "_", " ")},
				func() float64 { s := l.State(); return sum(&s, of) },
			),
		)
	}
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	const within = 5 * time.Second
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: within}
	go srv.Serve(ln)
	return func() { srv.Close() }, nil
}
