package service

import (
	"net/http"
	"strconv"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"metaplasis/internal/origin"
)

// metrics are what a monitoring system reads at /metrics.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	bytes    *prometheus.CounterVec
}

func newMetrics(o *origin.Origin) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "metaplasis_delivery_requests_total", Help: "Requests of viewers by what they asked for and the status of the answer."}, []string{"kind", "status"}),
		bytes:    prometheus.NewCounterVec(prometheus.CounterOpts{Name: "metaplasis_delivery_bytes_total", Help: "Bytes sent to viewers."}, []string{"kind"}),
	}
	m.registry.MustRegister(m.requests, m.bytes, &channelMetrics{o}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) count(kind string, status int, n int64) {
	m.requests.WithLabelValues(kind, strconv.Itoa(status)).Inc()
	m.bytes.WithLabelValues(kind).Add(float64(n))
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// channelMetrics reads the channels' state when it is asked for.
type channelMetrics struct{ o *origin.Origin }

var (
	descLive     = prometheus.NewDesc("metaplasis_channel_live", "1 while a channel's feed produces segments.", []string{"channel"}, nil)
	descBitrate  = prometheus.NewDesc("metaplasis_feed_bits_per_second", "Bitrate of a channel's feed.", []string{"channel"}, nil)
	descLoad     = prometheus.NewDesc("metaplasis_worker_load_ratio", "Share of real time that the busiest stage of a channel's worker takes; above 1 it does not keep up.", []string{"channel"}, nil)
	descDropped  = prometheus.NewDesc("metaplasis_worker_dropped_pictures", "Pictures left out to keep up, since the feed began.", []string{"channel"}, nil)
	descReplaced = prometheus.NewDesc("metaplasis_worker_replaced", "Workers replaced since the feed began.", []string{"channel"}, nil)
	descMemory   = prometheus.NewDesc("metaplasis_channel_memory_bytes", "Bytes of segments that a channel holds.", []string{"channel"}, nil)
	descUnsaid   = prometheus.NewDesc("metaplasis_records_dropped_total", "Records that were dropped since the database was too slow.", nil, nil)
)

// Describe implements prometheus.Collector.
func (c *channelMetrics) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{descLive, descBitrate, descLoad, descDropped, descReplaced, descMemory, descUnsaid} {
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
		if st.State == origin.Live || st.State == origin.Degraded {
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
	ch <- prometheus.MustNewConstMetric(descUnsaid, prometheus.CounterValue, float64(c.o.Unsaid()))
}
