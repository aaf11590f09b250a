package api

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/report"
	"steadyferry/internal/service/moves"
)

func (s *Server) listNodes(c *gin.Context) { c.JSON(http.StatusOK, s.Node.Cluster.Nodes(time.Now())) }

// listServers tells whoever is signed in where else it can go on: a program that may publish to one
// channel and nothing else outlives a node too.
func (s *Server) listServers(c *gin.Context) {
	all := form.Page[form.Server]{Items: []form.Server{}}
	for _, n := range s.Node.Cluster.Nodes(time.Now()).Nodes {
		all.Items = append(all.Items, form.Server{Node: n.Node, URL: n.URL, Up: n.Up})
	}
	c.JSON(http.StatusOK, all)
}

func (s *Server) leaderChanges(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 50, 1, 500)
	if !ok {
		return
	}
	c.JSON(http.StatusOK, form.Page[form.LeaderChange]{Items: s.changesJSON(limit)})
}

func (s *Server) changesJSON(limit int) []form.LeaderChange {
	changes := s.Node.Parts.LeaderChanges()
	out := []form.LeaderChange{}
	for _, ch := range changes[:min(len(changes), limit)] {
		out = append(out, form.LeaderChange{At: ch.At, Address: s.Node.Parts.PartitionAddress(ch.Channel, ch.Partition), From: s.Node.Parts.NodeName(ch.From), To: s.Node.Parts.NodeName(ch.To), Term: ch.Term, Reason: ch.Reason})
	}
	return out
}

func splitNames(text string) []string {
	var names []string
	for name := range strings.SplitSeq(text, ",") {
		if name = strings.TrimSpace(name); name != "" {
			names = append(names, name)
		}
	}
	return names
}

func (s *Server) whatIf(c *gin.Context) {
	without := splitNames(strings.Join(c.QueryArray("without"), ","))
	loss, partitions, err := s.Node.Cluster.WhatIf(without)
	if gate.Refuse(c, err) {
		return
	}
	out := form.WhatIf{Without: without, Partitions: []form.PartitionFate{}, Moves: []form.SuggestedMove{}, NodeSafe: loss.NodeSafe, ZoneSafe: loss.ZoneSafe, NodesShort: loss.NodesShort, ZonesShort: loss.ZonesShort}
	if out.Without == nil {
		out.Without = []string{}
	}
	for i, p := range partitions {
		fate := form.PartitionFate{Address: s.Node.Parts.PartitionAddress(p.Channel, p.Number), Nodes: s.Node.Parts.NodeNames(p.Replicas), Outcome: string(loss.Outcomes[i])}
		switch loss.Outcomes[i] {
		case placement.Writable:
			out.Writable++
		case placement.Readable:
			out.Readable++
		default:
			out.Unreachable++
		}
		out.Partitions = append(out.Partitions, fate)
	}
	for _, m := range loss.Moves {
		out.Moves = append(out.Moves, form.SuggestedMove{Address: s.Node.Parts.PartitionAddress(m.Partition.Channel, m.Partition.Number), From: s.Node.Parts.NodeNames(m.Partition.Replicas), To: s.Node.Parts.NodeNames(m.To)})
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) movePartition(c *gin.Context) {
	var body form.Move
	if !gate.ReadJSON(c, &body) {
		return
	}
	a, err := address.Parse(body.Address)
	if gate.Refuse(c, err) {
		return
	}
	if a.Kind() != address.KindPartition {
		gate.WriteProblem(c, gate.Invalid("address", fmt.Sprintf("%s is the address of a %s", a, a.Kind()), "a partition, such as coldchain/readings#3"))
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Moves.Move(c, gate.Who(c), a, body.To, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) drainNode(c *gin.Context) {
	var body form.Drain
	if !gate.ReadJSON(c, &body) {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Moves.Drain(c, gate.Who(c), c.Param("node"), body.LeadersOnly, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) removeNode(c *gin.Context) {
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Moves.RemoveNode(c, gate.Who(c), c.Param("node"), preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) setNodes(c *gin.Context) {
	settings, ok := gate.ReadSettings(c, setting.Clusters, nil)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Cluster.Set(c, gate.Who(c), settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) jobJSON(j *moves.Job) form.Job {
	out := form.Job{Job: j.ID, Kind: j.Kind, Address: j.Address, Who: j.Who, State: string(j.State), Detail: j.Detail, CreatedAt: j.CreatedAt.UTC(), Steps: []form.JobStep{}}
	if j.EndedAt.Valid {
		at := j.EndedAt.Time.UTC()
		out.EndedAt = &at
	}
	for _, st := range j.Steps {
		step := form.JobStep{Address: s.Node.Parts.PartitionAddress(st.ChannelID, st.Partition), From: s.Node.Parts.NodeNames(st.Before), To: s.Node.Parts.NodeNames(st.After), State: st.State}
		if st.State == ledger.StepMoving {
			step.Replicas = s.replicasOf(st.ChannelID, st.Partition)
		}
		if !st.Open() {
			out.Done++
		}
		out.Steps = append(out.Steps, step)
	}
	return out
}

// replicasOf tells how the replicas of a partition are while it moves.
func (s *Server) replicasOf(channel int64, partition int) []form.Replica {
	p := s.Node.Parts.PartitionByID(channel, partition)
	if p == nil {
		return nil
	}
	return s.replicasJSON(s.Node.Parts.PartitionStatus(p, time.Now()).Replicas)
}

func (s *Server) replicasJSON(replicas []report.Standing) []form.Replica {
	out := make([]form.Replica, len(replicas))
	for i, r := range replicas {
		out[i] = form.Replica{Node: s.Node.Parts.NodeName(r.Node), InStep: r.InStep, BehindBytes: r.Bytes, BehindSeconds: r.Seconds, State: r.State}
		if r.Messages >= 0 {
			out[i].BehindMessages = &r.Messages
		}
	}
	return out
}

func (s *Server) listJobs(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 20, 0, 500)
	if !ok {
		return
	}
	jobs, err := s.Node.Moves.List(c, limit)
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.Job]{Items: []form.Job{}}
	for _, j := range jobs {
		out.Items = append(out.Items, s.jobJSON(j))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) cancelJob(c *gin.Context) {
	id, ok := gate.NumberParam(c, "job")
	if !ok {
		return
	}
	j, err := s.Node.Moves.Cancel(c, gate.Who(c), id)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, s.jobJSON(j))
	}
}

func (s *Server) forceRecover(c *gin.Context) {
	var body form.ForceRecover
	if !gate.ReadJSON(c, &body) {
		return
	}
	var a *address.Address
	if body.Address != "" {
		parsed, err := address.Parse(body.Address)
		if gate.Refuse(c, err) {
			return
		}
		a = &parsed
	}
	preview := gate.BoolQuery(c, "preview")
	recoveries, err := s.Node.Cluster.ForceRecover(c, gate.Who(c), a, body.Confirm, preview)
	if gate.Refuse(c, err) {
		return
	}
	out := form.Recoveries{Items: []form.Recovery{}, Done: !preview}
	for _, r := range recoveries {
		out.Items = append(out.Items, r.Recovery)
	}
	c.JSON(http.StatusOK, out)
}

// verify compares the logs of the replicas of a topic's partitions.
func (s *Server) verify(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	number, ok := gate.IntQuery(c, "partition", part.AnyPartition, 0, t.Record().Partitions-1)
	if !ok {
		return
	}
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	out := form.Page[form.Verified]{Items: []form.Verified{}}
	for _, p := range t.Partitions() {
		if number != part.AnyPartition && p.Number != number {
			continue
		}
		out.Items = append(out.Items, s.Node.Cluster.Verify(ctx, p))
	}
	c.JSON(http.StatusOK, out)
}
