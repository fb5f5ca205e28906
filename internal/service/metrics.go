package service

import (
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"metaplasis/internal/origin"
	"metaplasis/internal/origin/status"
)

// metrics are what a monitoring system reads at /metrics.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	bytes    *prometheus.CounterVec
	first    *prometheus.HistogramVec
	waiting  prometheus.Gauge
}

func newMetrics(o *origin.Origin) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "metaplasis_delivery_requests_total",
			Help: "Requests of viewers by what they asked for and the status of the answer."}, []string{"kind", "status"}),
		bytes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "metaplasis_delivery_bytes_total",
			Help: "Bytes sent to viewers."}, []string{"kind"}),
		first: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "metaplasis_delivery_first_byte_seconds", Help: "Time from a viewer's request to the first byte of the answer; waiting for media that is still to come is part of it.",
			Buckets: []float64{0.0001, 0.0005, 0.001, 0.005, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10},
		}, []string{"kind"}),
		waiting: prometheus.NewGauge(prometheus.GaugeOpts{Name: "metaplasis_delivery_waiting",
			Help: "Requests that wait for media that is still to come."}),
	}
	m.registry.MustRegister(m.requests, m.bytes, m.first, m.waiting, &channelMetrics{o}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Answered implements delivery.Meter.
func (m *metrics) Answered(kind string, status int, n int64, first time.Duration) {
	m.requests.WithLabelValues(kind, strconv.Itoa(status)).Inc()
	m.bytes.WithLabelValues(kind).Add(float64(n))
	m.first.WithLabelValues(kind).Observe(first.Seconds())
}

// Waiting implements delivery.Meter.
func (m *metrics) Waiting(by int) { m.waiting.Add(float64(by)) }

// watch adds the viewers to what is collected.
func (m *metrics) watch(viewers func() map[string]map[string]int) {
	m.registry.MustRegister(&viewerMetrics{viewers})
}

// serviceMetrics are the service's own: its records, and the connections of its ports.
type serviceMetrics struct{ s *Service }

var (
	descWaiting = prometheus.NewDesc("metaplasis_records_waiting", "Records that wait for the database.", nil, nil)
	descLost    = prometheus.NewDesc("metaplasis_records_lost_total",
		"Records that were lost since too many waited for the database.", nil, nil)
	descConns = prometheus.NewDesc("metaplasis_port_connections",
		"Open connections of a port; waiting: those that do nothing of use.", []string{"address", "state"}, nil)
	descRefused = prometheus.NewDesc("metaplasis_port_refused_total",
		"Connections that a port refused, or closed to make room for others.", []string{"address", "why"}, nil)
)

// Describe implements prometheus.Collector.
func (m *serviceMetrics) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descWaiting, descLost, descConns, descRefused} {
		ch <- d
	}
}

// Collect implements prometheus.Collector.
func (m *serviceMetrics) Collect(ch chan<- prometheus.Metric) {
	waiting, lost := m.s.desk.Records()
	ch <- prometheus.MustNewConstMetric(descWaiting, prometheus.GaugeValue, float64(waiting))
	ch <- prometheus.MustNewConstMetric(descLost, prometheus.CounterValue, float64(lost))
	for _, l := range m.s.limited {
		n, at := l.Counts(), l.Addr().String()
		ch <- prometheus.MustNewConstMetric(descConns, prometheus.GaugeValue, float64(n.Conns-n.Idle), at, "used")
		ch <- prometheus.MustNewConstMetric(descConns, prometheus.GaugeValue, float64(n.Idle), at, "waiting")
		ch <- prometheus.MustNewConstMetric(descRefused, prometheus.CounterValue, float64(n.Refused), at, "full")
		ch <- prometheus.MustNewConstMetric(descRefused, prometheus.CounterValue, float64(n.Evicted), at, "made room")
	}
}

type viewerMetrics struct {
	viewers func() map[string]map[string]int
}

var descViewers = prometheus.NewDesc("metaplasis_viewers", "Viewers of a channel by protocol, counted by their sessions.",
	[]string{"channel", "protocol"}, nil)

// Describe implements prometheus.Collector.
func (v *viewerMetrics) Describe(ch chan<- *prometheus.Desc) { ch <- descViewers }

// Collect implements prometheus.Collector.
func (v *viewerMetrics) Collect(ch chan<- prometheus.Metric) {
	for channel, by := range v.viewers() {
		for protocol, n := range by {
			ch <- prometheus.MustNewConstMetric(descViewers, prometheus.GaugeValue, float64(n), channel, protocol)
		}
	}
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// channelMetrics reads the channels' state when it is asked for.
type channelMetrics struct{ o *origin.Origin }

var (
	descLive = prometheus.NewDesc("metaplasis_channel_live", "1 while a channel's feed produces segments.",
		[]string{"channel"}, nil)
	descBitrate = prometheus.NewDesc("metaplasis_feed_bits_per_second", "Bitrate of a channel's feed.",
		[]string{"channel"}, nil)
	descLoad = prometheus.NewDesc("metaplasis_worker_load_ratio",
		"Share of real time used by the busiest stage of a channel's worker; above 1 it cannot keep up.", []string{"channel"}, nil)
	descDropped = prometheus.NewDesc("metaplasis_worker_dropped_pictures",
		"Pictures dropped to keep up, since the feed began.", []string{"channel"}, nil)
	descReplaced = prometheus.NewDesc("metaplasis_worker_replaced", "Workers replaced since the feed began.",
		[]string{"channel"}, nil)
	descMemory = prometheus.NewDesc("metaplasis_channel_memory_bytes", "Bytes of segments that a channel holds.",
		[]string{"channel"}, nil)
)

// Describe implements prometheus.Collector.
func (c *channelMetrics) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descLive, descBitrate, descLoad, descDropped, descReplaced, descMemory} {
		ch <- d
	}
}

// Collect implements prometheus.Collector.
func (c *channelMetrics) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	for _, channel := range c.o.Channels() {
		st := channel.Status()
		live := 0.0
		if st.State == status.Live || st.State == status.Degraded {
			live = 1
		}
		gauge(descLive, live, st.Slug)
		gauge(descMemory, float64(st.Memory), st.Slug)
		if st.Feed != nil {
			gauge(descBitrate, float64(st.Feed.Bitrate), st.Slug)
		}
		if w := st.Worker; w != nil {
			gauge(descLoad, float64(w.Load)/1000, st.Slug)
			gauge(descDropped, float64(w.Dropped), st.Slug)
			gauge(descReplaced, float64(w.Replaced), st.Slug)
		}
	}
}
