package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
)

// groupRoutes are the paths of groups below that of their channel.
func (s *Server) groupRoutes(ch *gin.RouterGroup, search gin.HandlerFunc) {
	ch.GET("/groups", s.listGroups)
	ch.POST("/groups", s.newGroup)
	ch.POST("/route-trials", search, s.tryRoute)
	ch.GET("/chain", s.chain)
	g := ch.Group("/groups/:group")
	g.GET("", s.showGroup)
	g.PATCH("", s.setGroup)
	g.DELETE("", s.removeGroup)
	g.GET("/history", s.lagHistory)
	g.GET("/seeks", s.listSeeks)
	g.POST("/seeks", s.seek)
	g.POST("/members", s.joinGroup)
	m := g.Group("/members/:member")
	m.POST("/beat", s.beat)
	m.POST("/next", s.next)
	m.POST("/commit", s.commit)
	m.POST("/reject", s.reject)
	m.DELETE("", s.leaveGroup)
}

// groupOf reads the address of a group from the path.
func groupOf(c *gin.Context) (address.Address, bool) {
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return a, false
	}
	if err := address.CheckReader(c.Param("group")); err != nil {
		gate.WriteProblem(c, gate.Invalid("group", fmt.Sprintf("group %q: %v", c.Param("group"), err), ""))
		return a, false
	}
	a.Group = c.Param("group")
	return a, true
}

func rounded(rate float64) float64 { return float64(int64(rate*10+0.5)) / 10 }

func secondsOrNull(d time.Duration) *float64 {
	if d < 0 {
		return nil
	}
	s := d.Round(time.Second).Seconds()
	return &s
}

func ageSeconds(d time.Duration) float64 { return d.Round(time.Millisecond).Seconds() }

// groupJSON describes a group; whole adds its partitions and members.
func (s *Server) groupJSON(l *groups.Lag, whole bool) form.Group {
	a := part.GroupAddress(l.Topic, l.Group.Name)
	out := form.Group{Address: a.String(), Channel: l.Topic.Address().String(), Group: a.Group, Description: l.Group.Description, Paused: l.Group.Paused,
		Expire: address.FormatDuration(time.Duration(l.Group.ExpireMS) * time.Millisecond), CreatedAt: l.Group.CreatedAt.UTC(), Round: l.Round, Members: len(l.Members),
		Lag: l.Verdict.Messages, LagSeconds: ageSeconds(l.OldestAge), CommitRate: rounded(l.CommitRate), ArrivalRate: rounded(l.ArrivalRate),
		State: string(l.Verdict.State), Severity: l.Verdict.State.Severity(), Verdict: l.Verdict.Text(), LosesIn: secondsOrNull(l.Verdict.LosesIn), Lost: l.Verdict.Lost, Kind: l.Group.Kind(), To: l.Group.To, Where: l.Group.Where, Edits: l.Group.Edits}
	if why := s.Node.Routes.HeldUp(l.Group); why != "" && out.Severity < group.Waits.Severity() {
		out.State, out.Severity, out.Verdict = string(group.Waits), group.Waits.Severity(), "waits: "+why
	}
	if !whole {
		return out
	}
	out.Partitions, out.Each = []form.PartitionLag{}, []form.MemberInfo{}
	for _, p := range l.Partitions {
		row := form.PartitionLag{Group: out.Address, Partition: p.Partition, First: p.Place.First, Committed: p.Place.Committed, End: p.Place.End, Lag: p.Verdict.Messages,
			LagSeconds: ageSeconds(p.Place.OldestAge), MemberID: p.Member, Member: p.Label, CommitRate: rounded(p.Place.CommitRate), ArrivalRate: rounded(p.Place.ArrivalRate),
			State: string(p.Verdict.State), Verdict: p.Verdict.Text(), LosesIn: secondsOrNull(p.Verdict.LosesIn), Lost: p.Verdict.Lost}
		if !p.CommittedAt.IsZero() {
			at := p.CommittedAt.UTC()
			row.CommittedAt = &at
		}
		out.Partitions = append(out.Partitions, row)
	}
	for _, m := range l.Members {
		out.Each = append(out.Each, form.MemberInfo{MemberID: m.ID, Member: m.Member.Label, Timeout: address.FormatDuration(m.Member.Timeout), Joined: m.Member.Joined,
			Partitions: orEmpty(m.Partitions), Leaving: orEmpty(m.Leaving)})
	}
	return out
}

// groupsJSON lists all groups, the worst first, as far as the records were
// ever read.
func (s *Server) groupsJSON(ctx context.Context) []form.Group {
	groups := []form.Group{}
	all, err := s.Node.Groups.Lag(ctx, nil, nil)
	if err != nil {
		return groups
	}
	for _, l := range all[:min(len(all), gate.MaxPage)] {
		groups = append(groups, s.groupJSON(l, false))
	}
	return groups
}

func orEmpty(list []int) []int {
	if list == nil {
		return []int{}
	}
	return list
}

func (s *Server) listGroups(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	all, err := s.Node.Groups.Lag(c, t, nil)
	if gate.Refuse(c, err) {
		return
	}
	name := func(l *groups.Lag) string { return l.Group.Name }
	slices.SortFunc(all, func(a, b *groups.Lag) int { return strings.Compare(name(a), name(b)) })
	gate.Page(c, all, name, func(l *groups.Lag) form.Group { return s.groupJSON(l, false) })
}

// lag lists groups with their partitions, the worst first.
func (s *Server) lag(c *gin.Context) {
	var topic *part.Channel
	var all []*groups.Lag
	var err error
	limit, ok := gate.IntQuery(c, "limit", gate.MaxPage, 1, gate.MaxPage)
	if !ok {
		return
	}
	space := ""
	if text := c.Query("address"); text != "" {
		a, parseErr := address.Parse(text)
		if gate.Refuse(c, parseErr) || gate.Refuse(c, access.Check(c, access.SeeCounts, a.String())) {
			return
		}
		switch a.Kind() {
		case address.KindSpace:
			_, err = s.Node.Parts.Space(a.Space)
			space = a.Space
		case address.KindGroup:
			t, g, groupErr := s.Node.Parts.Group(a)
			if gate.Refuse(c, groupErr) {
				return
			}
			one, lagErr := s.Node.Groups.LagOf(c, t, g)
			if !gate.Refuse(c, lagErr) {
				c.JSON(http.StatusOK, form.Page[form.Group]{Items: []form.Group{s.groupJSON(one, true)}})
			}
			return
		default:
			topic, err = s.Node.Parts.Channel(a)
		}
		if gate.Refuse(c, err) {
			return
		}
	}
	all, err = s.Node.Groups.Lag(c, topic, nil)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.Group]{Items: []form.Group{}}
	for _, l := range all {
		if space != "" && l.Topic.Record().Space != space {
			continue
		}
		if len(p.Items) == limit {
			break
		}
		p.Items = append(p.Items, s.groupJSON(l, true))
	}
	c.JSON(http.StatusOK, p)
}

func (s *Server) newGroup(c *gin.Context) {
	var in struct{ group, from, kind string }
	settings, ok := gate.ReadSettings(c, setting.Groups, gate.Others{"group": &in.group, "from": &in.from, "kind": &in.kind})
	if !ok {
		return
	}
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	a.Group = in.group
	in.kind = cmp.Or(in.kind, setting.Consumer)
	t, err := s.Node.Parts.Channel(a)
	if gate.Refuse(c, err) {
		return
	}
	from, err := address.ParsePosition(cmp.Or(in.from, setting.StartOf(in.kind, readBy(t, in.group))))
	if gate.Refuse(c, err) {
		return
	}
	switch in.kind {
	case setting.Consumer:
		_, err = s.Node.Groups.New(c, gate.Who(c), a, from, settings)
	case setting.Route:
		_, err = s.Node.Routes.New(c, gate.Who(c), a, from, settings)
	default:
		err = gate.Invalid("kind", fmt.Sprintf("kind is %q", in.kind), setting.Consumer+", "+setting.Route)
	}
	if !gate.Refuse(c, err) {
		s.answerOneGroup(c, a, http.StatusCreated)
	}
}

// readBy is what a reader of a name reads on a channel.
func readBy(t *part.Channel, name string) string {
	if address.ReadsDead(name) {
		return setting.DeadLetters
	}
	return t.Record().Kind
}

// tryRoute says what a route would have done with a past.
func (s *Server) tryRoute(c *gin.Context) {
	var in struct{ since, route string }
	settings, ok := gate.ReadSettings(c, setting.Groups, gate.Others{"since": &in.since, "route": &in.route})
	if !ok {
		return
	}
	a, err := gate.ChannelAddress(c)
	if gate.Refuse(c, err) {
		return
	}
	a.Group = in.route
	since, err := address.ParsePosition(cmp.Or(in.since, "ago:1h"))
	if gate.Refuse(c, err) {
		return
	}
	out, err := s.Node.Routes.Try(c, a, since, settings)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, out)
	}
}

// chain lists the routes through which messages come to a channel and go on from it.
func (s *Server) chain(c *gin.Context) {
	t, ok := s.TopicOf(c)
	if !ok {
		return
	}
	p := form.Page[form.Group]{Items: []form.Group{}}
	for _, g := range s.Node.Routes.Chain(t.ID) {
		source := s.Node.Parts.ByID(g.ChannelID)
		if source == nil {
			continue
		}
		l, err := s.Node.Groups.LagOf(c, source, g)
		if gate.Refuse(c, err) {
			return
		}
		if p.Items = append(p.Items, s.groupJSON(l, false)); len(p.Items) == gate.MaxPage {
			break
		}
	}
	c.JSON(http.StatusOK, p)
}

func (s *Server) answerOneGroup(c *gin.Context, a address.Address, status int) {
	t, g, err := s.Node.Parts.Group(a)
	if gate.Refuse(c, err) {
		return
	}
	l, err := s.Node.Groups.LagOf(c, t, g)
	if !gate.Refuse(c, err) {
		out := s.groupJSON(l, true)
		out.Declared = s.Node.Declares.Of(c, a.String())
		if g.Route != nil {
			out.Work, out.Outage = s.routeWork(c, t, g), s.ofOutage(c, a)
		}
		c.JSON(status, out)
	}
}

// ofOutage counts the dead letters of a route that an endpoint did not take for too long:
// they have no fault, and can be returned when it is back.
func (s *Server) ofOutage(ctx context.Context, a address.Address) (count int64) {
	q, err := s.Node.Parts.Named(a, a.QueuePart().String())
	if err != nil {
		return 0
	}
	dead, err := s.Node.Queues.Dead(ctx, q, time.Hour, 1)
	if err != nil {
		return 0
	}
	for _, cause := range dead.Causes {
		if cause.Reason == endpoints.ReasonGivenUp {
			count += cause.Count
		}
	}
	return count
}

// routeWork tells how a route does on each partition of its source.
func (s *Server) routeWork(ctx context.Context, t *part.Channel, g *catalog.Group) []form.RouteWork {
	states := s.Node.Routes.States(ctx, t.ID, g.Route.ID)
	all := make([]form.RouteWork, len(t.Partitions()))
	for i := range all {
		one, known := states[i]
		all[i] = form.RouteWork{Partition: i, Decided: one.Passed, Sent: one.Sent, Dead: one.Dead}
		if known {
			all[i].Node = s.Node.Parts.NodeName(s.Node.Parts.LeaderOf(t.Partitions()[i]))
		}
		if one.Waits.Reason != "" {
			all[i].Waiting = &form.RouteWaiting{Reason: one.Waits.Reason, Why: one.Waits.Why, Since: one.Waits.Since}
		}
	}
	return all
}

func (s *Server) showGroup(c *gin.Context) {
	if a, ok := groupOf(c); ok {
		s.answerOneGroup(c, a, http.StatusOK)
	}
}

func (s *Server) setGroup(c *gin.Context) {
	a, ok := groupOf(c)
	if !ok {
		return
	}
	settings, ok := gate.ReadSettings(c, setting.Groups, nil)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Routes.Set(c, gate.Who(c), a, settings, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) removeGroup(c *gin.Context) {
	a, ok := groupOf(c)
	if !ok {
		return
	}
	preview := gate.BoolQuery(c, "preview")
	p, err := s.Node.Groups.Remove(c, gate.Who(c), a, preview)
	gate.AnswerPreview(c, p, err, preview)
}

func (s *Server) lagHistory(c *gin.Context) {
	a, ok := groupOf(c)
	if !ok {
		return
	}
	span := time.Hour
	if text := c.Query("span"); text != "" {
		d, err := address.ParseDuration(text)
		if err != nil || d < time.Minute || d > 30*24*time.Hour {
			gate.WriteProblem(c, gate.Invalid("span", fmt.Sprintf("span is %q", text), "1m to 30d"))
			return
		}
		span = d
	}
	_, g, err := s.Node.Parts.Group(a)
	if gate.Refuse(c, err) {
		return
	}
	now := time.Now()
	rows, err := s.Node.Groups.LagHistory(c, g, now.Add(-span), now)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.LagSample]{Items: []form.LagSample{}}
	for i, r := range rows {
		sample := form.LagSample{At: r.At.UTC(), Partitions: r.Lag}
		for j := range r.Lag {
			sample.Lag += r.Lag[j]
			sample.LagSeconds = max(sample.LagSeconds, float64(r.AgeMS[j])/1000)
		}
		if i > 0 {
			step := r.At.Sub(rows[i-1].At).Seconds()
			sample.ArrivalRate = rounded(max(float64(r.Ended-rows[i-1].Ended), 0) / step)
			sample.CommitRate = rounded(max(float64(r.Committed-rows[i-1].Committed), 0) / step)
		}
		p.Items = append(p.Items, sample)
	}
	c.JSON(http.StatusOK, p)
}

func stepJSON(m groups.SoughtStep) form.SeekStep {
	return form.SeekStep{Partition: m.Partition, First: m.First, End: m.End, From: m.From, To: m.To, Messages: m.To - m.From, FromTime: m.FromTime, ToTime: m.ToTime,
		Again: m.Again, Skipped: m.Skipped, Note: m.Note}
}

func (s *Server) listSeeks(c *gin.Context) {
	a, ok := groupOf(c)
	if !ok {
		return
	}
	seeks, err := s.Node.Groups.Seeks(c, a)
	if gate.Refuse(c, err) {
		return
	}
	p := form.Page[form.PastSeek]{Items: []form.PastSeek{}}
	for _, m := range seeks {
		out := form.PastSeek{Seek: m.ID, At: m.At.UTC(), Who: m.Who, Why: m.Why, Target: m.Target, Undone: m.Undone, Steps: []form.SeekStep{}}
		if m.Undoes.Valid {
			out.Undoes = &m.Undoes.Int64
		}
		var steps []groups.SoughtStep
		if gate.Refuse(c, json.Unmarshal(m.Steps, &steps)) {
			return
		}
		for _, step := range steps {
			out.Steps = append(out.Steps, stepJSON(step))
		}
		p.Items = append(p.Items, out)
	}
	c.JSON(http.StatusOK, p)
}

func (s *Server) seek(c *gin.Context) {
	a, ok := groupOf(c)
	var body form.Seek
	if !ok || !gate.ReadJSON(c, &body) {
		return
	}
	if body.Undo == (body.To != "") {
		gate.WriteProblem(c, gate.Invalid("to", "either to, a position, or undo is expected", "first, end, offset:N, time:T, ago:D, group:NAME"))
		return
	}
	ask := groups.SeekAsk{To: body.To, Partition: part.AnyPartition, Undo: body.Undo, WhileRunning: body.WhileRunning, Apply: !gate.BoolQuery(c, "preview"), Last: -1, Who: gate.Who(c), Why: body.Why}
	if body.Partition != nil {
		ask.Partition = *body.Partition
	}
	if body.Last != nil {
		ask.Last = *body.Last
	}
	if !body.Undo {
		if _, err := address.ParsePosition(body.To); gate.Refuse(c, err) {
			return
		}
	}
	m, err := s.Node.Groups.Seek(c, a, &ask)
	if gate.Refuse(c, err) {
		return
	}
	out := form.SeekResult{Seek: m.ID, Last: m.Last, Target: m.Target, Members: m.Members, Done: ask.Apply, Steps: []form.SeekStep{}}
	for _, step := range m.Steps {
		out.Again += step.Again
		out.Skipped += step.Skipped
		out.Steps = append(out.Steps, stepJSON(step))
	}
	c.JSON(http.StatusOK, out)
}

// maxNext is how many messages one call may ask for.
const maxNext = 10_000
