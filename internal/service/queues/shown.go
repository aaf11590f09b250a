package queues

import (
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
)

// Form describes a message of a queue.
func (item *Item) Form(t *part.Channel) form.QueueMessage {
	i := &item.Info
	out := form.QueueMessage{State: i.State.String(), Attempts: i.Attempts, Member: i.Member, Reason: i.Reason, From: i.From, Edited: i.Edited > 0, History: []form.MessageEvent{}, Gone: item.Message == nil}
	if item.Message != nil {
		out.Message = form.MessageOf(t.Address(), item.Message)
	} else {
		out.Message = form.Message{Offset: i.Offset, Headers: map[string]string{}}
	}
	if item.Original != nil {
		original := form.MessageOf(t.Address(), item.Original)
		out.Original = &original
	}
	switch i.State {
	case queue.Leased, queue.Delayed:
		out.Deadline = form.Micros(i.Due)
	case queue.Dead:
		out.DeadAt = form.Micros(i.Due)
	}
	if i.Cause != 0 {
		out.Cause = CauseID(i.Cause)
		out.Detail = item.Detail()
		out.Field = fieldIn(out.Detail, out.Body)
	}
	for n, e := range i.History {
		out.History = append(out.History, form.MessageEvent{Event: e.Kind.String(), At: time.UnixMicro(e.At).UTC(), Began: form.Micros(e.Began), Who: e.Who, Reason: e.Reason, Detail: item.Details[n]})
		if e.Kind == queue.Returned {
			out.Returns++
		}
	}
	return out
}

var (
	namedField  = regexp.MustCompile(`(?i)\b(?:field|property|member)\s*[:=]?\s*["'\x60]?([A-Za-z_][A-Za-z0-9_]*)`)
	pointerWord = regexp.MustCompile(`(?:^|[\s:("'])((?:/[A-Za-z0-9_.~-]+)+)`)
	plainWord   = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)
)

// smallWords are names of fields that are words of any sentence too.
var smallWords = []string{"a", "an", "as", "at", "by", "for", "from", "in", "is", "it", "no", "not", "of", "on", "or", "the", "to", "was", "with"}

// fieldIn finds the field of a JSON body that a detail names: one that it calls
// a field, whether it is there or not, a JSON Pointer to one that is, or in the
// first line the name of one that is.
func fieldIn(detail string, body json.RawMessage) string {
	var fields map[string]any
	if json.Unmarshal(body, &fields) != nil {
		return ""
	}
	if m := namedField.FindStringSubmatch(detail); m != nil {
		return "/" + m[1]
	}
	for _, m := range pointerWord.FindAllStringSubmatch(detail, -1) {
		first, _, _ := strings.Cut(strings.TrimPrefix(m[1], "/"), "/")
		if _, ok := fields[first]; ok {
			return m[1]
		}
	}
	line, _, _ := strings.Cut(detail, "\n")
	for _, word := range plainWord.FindAllString(line, -1) {
		if _, ok := fields[word]; ok && !slices.Contains(smallWords, strings.ToLower(word)) {
			return "/" + word
		}
	}
	return ""
}

// ParseStates reads states, separated by commas.
func ParseStates(text, otherwise string) ([]queue.State, error) {
	if text == "" {
		text = otherwise
	}
	var out []queue.State
	for name := range strings.SplitSeq(text, ",") {
		s, ok := queue.ParseState(name)
		if !ok {
			return nil, problem.New(problem.Invalid, "state is %q", name).Field("state").Allowed(strings.Join(queue.StateNames(), ", "))
		}
		out = append(out, s)
	}
	return out, nil
}
