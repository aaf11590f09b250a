// Package metrics shows what a node does in the format of Prometheus.
package metrics

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"steadyferry/internal/engine/part"
	"steadyferry/internal/service"
)

// collector shows the node to Prometheus.
type collector struct{ node *service.Services }

func describe(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("steadyferry_"+name, help, labels, nil)
}

var (
	descMessagesIn  = describe("messages_in_total", "Messages published since the node started.", "channel", "partition")
	descMessagesOut = describe("messages_out_total", "Messages handed to readers, or taken by routes, since the node started.", "channel", "partition")
	descBytesIn     = describe("bytes_in_total", "Bytes of batches published since the node started.", "channel", "partition")
	descBytesOut    = describe("bytes_out_total", "Bytes handed to readers since the node started.", "channel", "partition")
	descKept        = describe("messages_kept", "Messages kept.", "channel", "partition")
	descKeptBytes   = describe("log_bytes", "Bytes of the log on disk.", "channel", "partition")
	descEnd         = describe("end_offset", "Offset that the next message gets.", "channel", "partition")
	descReady       = describe("partition_ready", "1 when the partition takes messages.", "channel", "partition")
	descLeads       = describe("partition_led_here", "1 when this node leads the partition.", "channel", "partition")
	descInStep      = describe("replica_in_step", "1 when the replica holds all that is committed; told by the leader.", "channel", "partition", "node")
	descBehind      = describe("replica_behind_messages", "Messages that the replica lacks; told by the leader.", "channel", "partition", "node")
	descNodeUp      = describe("node_up", "1 when the node answers this one.", "node", "zone")
	descNodeLeads   = describe("node_leads", "Partitions that the node leads.", "node", "zone")
	descNodeHolds   = describe("node_holds", "Partitions that the node holds.", "node", "zone")
	descFewer       = describe("partitions_with_replicas_missing", "Partitions with a leader and replicas that are missing or not in step.")
	descLeaderless  = describe("partitions_without_leader", "Partitions that take no messages.")
	descQueue       = describe("queue_messages", "Messages of a queue by their state; told by the leader. TOPIC@GROUP has the dead letters of a group.", "queue", "partition", "state")
	descAccepted    = describe("queue_accepted_total", "Messages that were accepted; told by the leader.", "queue", "partition")
	descAttempts    = describe("queue_attempts_total", "Leases that were handed out; told by the leader.", "queue", "partition")
	descRejected    = describe("queue_dead_total", "Messages that became dead letters; told by the leader.", "queue", "partition")
	descOldest      = describe("queue_oldest_waiting_seconds", "Age of the oldest waiting message; told by the leader.", "queue", "partition")
	descLag         = describe("group_lag_messages", "Kept messages that the group has not read.", "group", "partition")
	descLagSeconds  = describe("group_lag_seconds", "Age of the oldest message that the group has not read.", "group", "partition")
	descLost        = describe("group_lost_messages", "Messages that retention took before the group read them.", "group", "partition")
	descCommitted   = describe("group_committed_offset", "Offset up to which the group has read.", "group", "partition")
	descMembers     = describe("group_members", "Live members of the group.", "group")
	descRouted      = describe("route_messages_total", "Messages that the route looked at, sent and made dead letters of since this node leads the partition.", "route", "partition", "did")
	descRouteWaits  = describe("route_waits", "1 when the route stands still on the partition, with the reason; told by the leader.", "route", "partition", "reason")
	descDelivered   = describe("endpoint_messages_total", "Messages that this node has delivered to the endpoint, that it refused, and deliveries that failed, since the node started.", "endpoint", "did")
	descFailing     = describe("endpoint_failing", "1 while the endpoint fails, as this node knows.", "endpoint")
	descDiskFree    = describe("disk_free_bytes", "Free bytes of the disk with the logs.")
	descIncidents   = describe("incidents", "Incidents that go on, by their level; the same from each node.", "level")
	descCatalog     = describe("catalog_reachable", "1 when the database with the catalog answers.")
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
	for _, t := range k.node.Parts.Channels() {
		name := t.Address().String()
		for _, p := range t.Partitions() {
			number := strconv.Itoa(p.Number)
			if !p.Here() {
				continue
			}
			totals, st := p.Totals(), k.node.Parts.PartitionStatus(p, now)
			count(descMessagesIn, totals.MessagesIn, name, number)
			count(descMessagesOut, totals.MessagesOut, name, number)
			count(descBytesIn, totals.BytesIn, name, number)
			count(descBytesOut, totals.BytesOut, name, number)
			gauge(descKept, float64(st.End-st.First), name, number)
			gauge(descKeptBytes, float64(st.Bytes), name, number)
			gauge(descEnd, float64(st.End), name, number)
			gauge(descReady, oneIf(st.State == part.StateReady || st.State == part.StateFewer), name, number)
			gauge(descLeads, oneIf(st.Leader == k.node.Parts.ID()), name, number)
			if q := st.Queue; q != nil && st.Leader == k.node.Parts.ID() {
				for state, n := range map[string]int64{"waiting": q.Waiting, "leased": q.Leased, "delayed": q.Delayed, "dead": q.Dead, "discarded": q.Discarded, "taken": q.Taken} {
					gauge(descQueue, float64(n), name, number, state)
				}
				count(descAccepted, q.Accepted, name, number)
				count(descAttempts, q.Attempts, name, number)
				count(descRejected, q.Rejected, name, number)
				oldest := 0.0
				if q.Oldest != nil {
					oldest = max(now.Sub(*q.Oldest).Seconds(), 0)
				}
				gauge(descOldest, oldest, name, number)
			}
			if st.Leader == k.node.Parts.ID() {
				for _, r := range st.Replicas {
					gauge(descInStep, oneIf(r.InStep), name, number, k.node.Parts.NodeName(r.Node))
					if r.Messages >= 0 {
						gauge(descBehind, float64(r.Messages), name, number, k.node.Parts.NodeName(r.Node))
					}
				}
			}
		}
	}
	k.groups(gauge)
	k.routes(gauge, count)
	if disk, err := k.node.Parts.Disk(); err == nil {
		gauge(descDiskFree, float64(disk.Free))
	}
	cluster := k.node.Cluster.Nodes(now)
	for _, n := range cluster.Nodes {
		gauge(descNodeUp, oneIf(n.Up), n.Node, n.Zone)
		gauge(descNodeLeads, float64(n.Leads), n.Node, n.Zone)
		gauge(descNodeHolds, float64(n.Holds), n.Node, n.Zone)
	}
	gauge(descFewer, float64(cluster.ReplicasMissing))
	gauge(descLeaderless, float64(cluster.WithoutLeader))
	k.incidents(gauge)
	gauge(descCatalog, oneIf(k.node.Catalog.AwaySince().IsZero()))
	gauge(descStreams, float64(k.node.Streams.Open()))
}

func (k collector) incidents(gauge func(d *prometheus.Desc, v float64, labels ...string)) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	tally := k.node.Watches.Tally(ctx)
	gauge(descIncidents, float64(tally.Warns), "warn")
	gauge(descIncidents, float64(tally.Alarms), "alarm")
}

// groups tells where the groups are that this node coordinates, so that of all
// nodes one tells of each.
func (k collector) groups(gauge func(d *prometheus.Desc, v float64, labels ...string)) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	all, err := k.node.Groups.Lag(ctx, nil, nil)
	if err != nil {
		return
	}
	for _, l := range all {
		if !k.node.Groups.Coordinates(l.Group.ID) {
			continue
		}
		name := part.GroupAddress(l.Topic, l.Group.Name).String()
		gauge(descMembers, float64(len(l.Members)), name)
		for _, p := range l.Partitions {
			number := strconv.Itoa(p.Partition)
			gauge(descLag, float64(p.Verdict.Messages), name, number)
			gauge(descLagSeconds, p.Place.OldestAge.Seconds(), name, number)
			gauge(descLost, float64(p.Verdict.Lost), name, number)
			gauge(descCommitted, float64(p.Place.Committed), name, number)
		}
	}
}

// routes tells how routes are on the partitions that this node leads.
func (k collector) routes(gauge func(*prometheus.Desc, float64, ...string), count func(*prometheus.Desc, int64, ...string)) {
	for g, states := range k.node.Routes.Here() {
		source := k.node.Parts.ByID(g.ChannelID)
		if source == nil {
			continue
		}
		name := part.GroupAddress(source, g.Name).String()
		for _, s := range states {
			number := strconv.Itoa(s.Partition)
			count(descRouted, s.Passed, name, number, "looked-at")
			count(descRouted, s.Sent, name, number, "sent")
			count(descRouted, s.Dead, name, number, "dead")
			if s.Waits.Reason != "" {
				gauge(descRouteWaits, 1, name, number, s.Waits.Reason)
			}
		}
	}
	for name, h := range k.node.Endpoints.Here() {
		count(descDelivered, h.Delivered, name, "delivered")
		count(descDelivered, h.Refused, name, "refused")
		count(descDelivered, h.Failed, name, "failed")
		gauge(descFailing, oneIf(h.Health.Failing()), name)
	}
}

func oneIf(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// Handler answers in the format of Prometheus, without asking who.
func Handler(node *service.Services) http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{node})
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
}
