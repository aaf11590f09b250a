package timetable

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/jobs"
)

// Kind is the kind of jobs that runs are.
const Kind = "run"

// ByClock is who begins runs at their times.
const ByClock = "clock"

// Spec is what a run does, as the chore was set when it began.
type Spec struct {
	Chore   setting.Chore `json:"chore"`
	By      string        `json:"by"`
	Planned time.Time     `json:"planned"`
	Missed  int           `json:"missed,omitempty"`
	Skipped string        `json:"skipped,omitempty"` // why nothing is done

	decided *decided // that is recorded with it; nil for a run by hand
}

// decided is how far it is decided what makes a chore run.
type decided struct{ was, is ledger.ChoreState }

// progress is how far a run is.
type progress struct {
	Log    []form.RunLine   `json:"log"`
	Says   string           `json:"says"`
	Act    json.RawMessage  `json:"act,omitempty"` // the act's own
	Job    int64            `json:"job,omitempty"`
	Kind   string           `json:"kind,omitempty"`
	Over   bool             `json:"over,omitempty"`
	Failed string           `json:"failed,omitempty"`
	Sent   *form.NoticeText `json:"sent,omitempty"`   // that goes to those who are told, whatever became of it
	Faults int              `json:"faults,omitempty"` // in a row, of which it is not known whether they pass
}

// mostFaults is how many of them a run bears: about one a second.
const mostFaults = 20

// mostLines bounds the log of a run.
const mostLines = 200

// newKind is how jobs know runs.
func (t *Timetable) newKind() *jobs.Kind[Spec, progress] {
	return &jobs.Kind[Spec, progress]{Name: Kind, Back: true, Listed: "ferry timetable",
		Who: func(j *catalog.Job) string { return "chore " + j.Address },
		May: func(ctx context.Context, at string, _ *Spec) error { return access.Check(ctx, access.Chore, at) },
		Plan: func(_ context.Context, s *Spec) (*jobs.Plan, error) {
			return nil, fmt.Errorf("runs are planned by their chores")
		},
		Open: func(_ context.Context, r *jobs.Run[Spec, progress]) (jobs.Work, error) {
			return &work{t: t, Run: r, act: t.acts[r.Spec.Chore.Do]}, nil
		}}
}

// start records a run of a chore.
func (t *Timetable) start(ctx context.Context, who string, c *catalog.Chore, s Spec) (*catalog.Job, error) {
	s.Chore = c.Chore
	plan := &jobs.Plan{Address: c.Address(), Action: "run chore", After: map[string]any{"do": c.Do, "of": c.Of, "by": s.By}}
	if s.decided != nil {
		plan.Also = func(*catalog.Job) catalog.In { return ledger.DecidedIn(s.decided.was, s.decided.is) }
	}
	j, err := t.runs.Record(ctx, who, s, 0, plan)
	if err != nil {
		return nil, err
	}
	return j, nil
}

// Start runs a chore now, by hand.
func (t *Timetable) Start(ctx context.Context, who string, c *catalog.Chore) (*form.Run, error) {
	if err := access.Check(ctx, access.Chore, c.Address()); err != nil {
		return nil, err
	}
	if err := t.idle(ctx, c); err != nil {
		return nil, err
	}
	j, err := t.start(ctx, who, c, Spec{By: who, Planned: time.Now().UTC()})
	if errors.Is(err, catalog.ErrExists) {
		err = t.idle(ctx, c) // another one has begun a moment ago
	}
	if err == nil && j == nil {
		return t.Start(ctx, who, c) // and has ended
	}
	if err != nil {
		return nil, part.Explain(err, c.Address())
	}
	return told(j), nil
}

// idle says that a run of a chore goes on, so that no other begins.
func (t *Timetable) idle(ctx context.Context, c *catalog.Chore) error {
	last, err := t.ledger.LastRuns(ctx, Kind, []string{c.Address()})
	if err != nil {
		return part.Explain(err, c.Address())
	}
	if len(last) > 0 && !last[0].State.Ended() {
		return problem.New(problem.Conflict, "run %d of %s goes on", last[0].ID, c.Address()).Next("wait for its end, or cancel it: ferry timetable -cancel %d", last[0].ID)
	}
	return nil
}

// work is a run that runs.
type work struct {
	t *Timetable
	*jobs.Run[Spec, progress]
	act   Act
	shown shown
}

// shown is what was recorded last of how far a run is.
type shown struct {
	done, failed int64
	lines        int
}

// Step does what can be done now.
func (w *work) Step(ctx context.Context, _ int) (used int, done bool, err error) {
	p := &w.Progress
	switch {
	case p.Over:
	case w.Spec.Skipped != "":
		w.over("not done: "+w.Spec.Skipped, "")
	case w.act.Do == nil:
		w.over("", "this version of the program does not know how to "+w.Spec.Chore.Do)
	case w.Back():
		if w.act.Stop != nil {
			err = w.act.Stop(ctx, &Doing{w})
		}
		if err == nil {
			w.over("cancelled: "+p.Says, "")
		}
	default:
		if done, err = w.act.Do(ctx, &Doing{w}); err != nil {
			err = w.fault(ctx, err)
		} else if p.Faults = 0; done {
			w.over(p.Says, "")
		}
	}
	if err != nil {
		return 0, false, err
	}
	if !p.Over {
		return 0, false, w.show(ctx)
	}
	if err := w.Save(ctx); err != nil {
		return 0, false, err
	}
	if err := w.tell(ctx); err != nil {
		return 0, false, err
	}
	if p.Failed != "" {
		return 0, false, problem.New(problem.Conflict, "%s", p.Failed)
	}
	w.Job.Detail = p.Says
	if w.Spec.Skipped != "" {
		w.Job.State = job.Cancelling // what is not done is not done with
	}
	return 0, true, nil
}

// show records how far the run is, when that has changed.
func (w *work) show(ctx context.Context) error {
	is := shown{w.Job.Done, w.Job.Failed, len(w.Progress.Log)}
	if is == w.shown {
		return nil
	}
	w.shown = is
	return w.Save(ctx)
}

// fault bears an error that passes, and those of which that is not known for a while; else it
// is the end of the run.
func (w *work) fault(ctx context.Context, err error) error {
	switch passing, known := jobs.Passing(err); {
	case known && passing:
		return err
	case !known && w.Progress.Faults < mostFaults:
		w.Progress.Faults++
		return errors.Join(err, w.Save(ctx))
	}
	w.over(w.Progress.Says, err.Error())
	return nil
}

// over is the end of what the run does.
func (w *work) over(says, failed string) {
	w.Progress.Over, w.Progress.Says, w.Progress.Failed = true, says, failed
	if failed != "" {
		says = "failed: " + failed
	}
	w.note(says)
}

func (w *work) note(text string) {
	if n := len(w.Progress.Log); n < mostLines && text != "" && (n == 0 || w.Progress.Log[n-1].Text != text) {
		w.Progress.Log = append(w.Progress.Log, form.RunLine{At: time.Now().UTC(), Text: text})
	}
}

// Judge has nothing to stop a run for: acts fail by themselves.
func (w *work) Judge(context.Context) (string, error) { return "", nil }

// tell makes the notices about the end of the run, each once.
func (w *work) tell(ctx context.Context) error {
	c := &w.Spec.Chore
	if len(c.Tell) == 0 || w.Progress.Failed == "" && c.TellOf != setting.TellAlways && w.Progress.Sent == nil || w.Spec.Skipped != "" {
		return nil
	}
	run := told(w.Job)
	run.State, run.Says, run.Log = string(job.Done), w.Progress.Says, w.Progress.Log
	if w.Progress.Failed != "" {
		run.State, run.Says = string(job.Failed), w.Progress.Failed
	}
	now := time.Now().UTC()
	for _, at := range c.Tell {
		id := uuid.NewSHA1(w.Job.UID, []byte(at))
		body, err := json.Marshal(form.Notice{Notice: id.String(), At: now, Says: fmt.Sprintf("%s: run %d %s: %s", run.Chore, run.Run, run.State, run.Says), Incidents: []form.NoticeIncident{}, Run: run, Text: w.Progress.Sent})
		if err != nil {
			return err
		}
		if err := w.t.ledger.NewNotice(ctx, &ledger.Notice{ID: id, Endpoint: at, Body: body, MadeAt: now}); err != nil {
			return err
		}
	}
	return nil
}

// Doing is a run, as an act sees it.
type Doing struct{ *work }

// Chore is how the chore was set when the run began.
func (d *Doing) Chore() *setting.Chore { return &d.Spec.Chore }

// Address is that of the chore.
func (d *Doing) Address() string { return d.Job.Address }

// Number is that of the run.
func (d *Doing) Number() int64 { return d.Job.ID }

// Planned is the time for which the run is.
func (d *Doing) Planned() time.Time { return d.Spec.Planned }

// Who is in the logbook for what the act does.
func (d *Doing) Who() string { return "chore " + d.Job.Address }

// Says notes what has come of it so far; the last of it is the outcome.
func (d *Doing) Says(format string, args ...any) {
	d.Progress.Says = fmt.Sprintf(format, args...)
	d.note(d.Progress.Says)
}

// Attach has those whom the chore tells get a text, in Markdown, with the path where it is shown.
func (d *Doing) Attach(markdown, path string) {
	d.Progress.Sent = &form.NoticeText{Markdown: markdown, Link: change.Base(d.t.catalog.View(), d.t.parts) + path}
}

// Load reads what the act has kept.
func (d *Doing) Load(into any) {
	if len(d.Progress.Act) > 0 {
		if err := json.Unmarshal(d.Progress.Act, into); err != nil {
			slog.Warn("what a run has kept cannot be read", "run", d.Job.ID, "error", err)
		}
	}
}

// Keep records what the act keeps, for whoever goes on with it.
func (d *Doing) Keep(ctx context.Context, what any) error {
	var err error
	if d.Progress.Act, err = json.Marshal(what); err != nil {
		return err
	}
	return d.Save(ctx)
}

// Counts is of how many messages it has done something, and how many failed again.
func (d *Doing) Counts(messages, failed int64) { d.Job.Done, d.Job.Failed = messages, failed }

// Child is the job that the act has made, made when it has none.
func (d *Doing) Child(ctx context.Context, make func(ctx context.Context) (*catalog.Job, error)) (*catalog.Job, error) {
	child, err := d.t.jobs.MadeBy(ctx, d.Job.ID)
	if err == nil && child == nil && make != nil {
		child, err = make(jobs.Under(ctx, d.Job.ID))
	}
	if child != nil {
		d.Progress.Job, d.Progress.Kind = child.ID, child.Kind
	}
	return child, err
}
