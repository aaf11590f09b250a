package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"steadyferry/client"
	"steadyferry/internal/node"
)

// snapshot is the state of the node and all topics now.
func (s *Server) snapshot(now time.Time) client.Live {
	live := client.Live{Topics: []client.Topic{}}
	st := client.Status{Node: s.node.Name(), Version: Version, StartedAt: s.node.Started().UTC().Truncate(time.Millisecond), At: now.UTC().Truncate(time.Millisecond), Records: "here",
		MemoryBytes: memoryUsed(), Spaces: len(s.node.Catalog().View().Spaces), Streams: s.streams.Load()}
	if since := s.node.Catalog().AwaySince(); !since.IsZero() {
		st.Records = "away since " + since.UTC().Format(time.RFC3339)
	}
	if disk, err := s.node.Disk(); err == nil {
		st.Disk = client.Disk(disk)
	}
	for _, t := range s.node.Topics() {
		tj := s.topicJSON(t, now, false)
		live.Topics = append(live.Topics, tj)
		st.Channels++
		st.Partitions += tj.Partitions
		st.Messages += tj.Messages
		st.Bytes += tj.Bytes
		st.Rates = st.Rates.Add(tj.Rates)
	}
	live.Status = st
	return live
}

func (s *Server) status(c *gin.Context) { c.JSON(http.StatusOK, s.snapshot(time.Now())) }

// live streams the snapshot every second, and at once when records change.
func (s *Server) live(c *gin.Context) {
	ctx, cancel := s.streamContext(c)
	defer cancel()
	w := newLineWriter(c, "text/event-stream", 30*time.Second)
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		changed := s.node.Changed()
		w.text("data: ")
		if w.write(s.snapshot(time.Now())) != nil || w.text("\n") != nil || w.flush() != nil {
			return
		}
		select {
		case <-ticker.C:
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// collector shows the node to Prometheus.
type collector struct{ server *Server }

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("steadyferry_"+name, help, labels, nil)
}

var (
	descMessagesIn  = describe("messages_in_total", "Messages published since the node started.", "channel", "partition")
	descMessagesOut = describe("messages_out_total", "Messages handed to readers since the node started.", "channel", "partition")
	descBytesIn     = describe("bytes_in_total", "Bytes of batches published since the node started.", "channel", "partition")
	descBytesOut    = describe("bytes_out_total", "Bytes handed to readers since the node started.", "channel", "partition")
	descKept        = describe("messages_kept", "Messages kept.", "channel", "partition")
	descKeptBytes   = describe("log_bytes", "Bytes of the log on disk.", "channel", "partition")
	descEnd         = describe("end_offset", "Offset that the next message gets.", "channel", "partition")
	descReady       = describe("partition_ready", "1 when the partition takes messages.", "channel", "partition")
	descDiskFree    = describe("disk_free_bytes", "Free bytes of the disk with the logs.")
	descRecords     = describe("records_reachable", "1 when the database with the records answers.")
	descStreams     = describe("streams_open", "Open tails and browses.")
)

// Describe implements prometheus.Collector.
func (k collector) Describe(ch chan<- *prometheus.Desc) { prometheus.DescribeByCollect(k, ch) }

// Collect implements prometheus.Collector.
func (k collector) Collect(ch chan<- prometheus.Metric) {
	now := time.Now()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, v int64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	for _, t := range k.server.node.Topics() {
		name := t.Address().String()
		for _, p := range t.Partitions() {
			number := strconv.Itoa(p.Number)
			totals, st := p.Totals(), p.Status(now)
			count(descMessagesIn, totals.MessagesIn, name, number)
			count(descMessagesOut, totals.MessagesOut, name, number)
			count(descBytesIn, totals.BytesIn, name, number)
			count(descBytesOut, totals.BytesOut, name, number)
			gauge(descKept, float64(st.End-st.First), name, number)
			gauge(descKeptBytes, float64(st.Bytes), name, number)
			gauge(descEnd, float64(st.End), name, number)
			gauge(descReady, oneIf(st.State == node.StateReady), name, number)
		}
	}
	if disk, err := k.server.node.Disk(); err == nil {
		gauge(descDiskFree, float64(disk.Free))
	}
	gauge(descRecords, oneIf(k.server.node.Catalog().AwaySince().IsZero()))
	gauge(descStreams, float64(k.server.streams.Load()))
}

func oneIf(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// MetricsHandler answers in the format of Prometheus, without asking who.
func (s *Server) MetricsHandler() http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{s})
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
}

func (s *Server) metrics(c *gin.Context) { s.MetricsHandler().ServeHTTP(c.Writer, c.Request) }
