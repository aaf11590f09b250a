package change

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Limits of settings.
const (
	MaxDescription = 500
	maxLabels      = 20
	MaxLabel       = 100
)

// Preview says what a change would do before it is done.
type Preview struct {
	Address  string         `json:"address"`
	Effects  []string       `json:"effects"` // in words
	Before   map[string]any `json:"before,omitempty"`
	After    map[string]any `json:"after,omitempty"`
	Messages int64          `json:"messages"` // that would be lost or out of reach
	Bytes    int64          `json:"bytes"`
	Until    *time.Time     `json:"until,omitempty"` // until when it can be taken back
	Job      int64          `json:"job,omitempty"`   // the job that brings it about
}

// CheckText says what is wrong with a description or labels.
func CheckText(description *string, labels map[string]string) error {
	if description != nil && strings.ContainsRune(*description, 0) {
		return problem.New(problem.Invalid, "the description has the character U+0000").Field("description").Allowed("text without it")
	}
	for name, value := range labels {
		if strings.ContainsRune(name+value, 0) {
			return problem.New(problem.Invalid, "label %q has the character U+0000", name).Field("labels").Allowed("text without it")
		}
	}
	if description != nil && len(*description) > MaxDescription {
		return problem.New(problem.Invalid, "the description has %d characters", len(*description)).Field("description").Allowed(fmt.Sprintf("up to %d", MaxDescription))
	}
	if len(labels) > maxLabels {
		return problem.New(problem.Invalid, "%d labels", len(labels)).Field("labels").Allowed(fmt.Sprintf("up to %d", maxLabels))
	}
	for name, value := range labels {
		if err := address.CheckName(name); err != nil || len(value) > MaxLabel {
			return problem.New(problem.Invalid, "label %q=%q", name, value).Field("labels").Allowed(fmt.Sprintf("names of a-z 0-9 . _ - and values of up to %d characters", MaxLabel))
		}
	}
	return nil
}

// Set takes a setting that is given.
func Set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// MergeLabels applies a change of labels: an empty value takes one away.
func MergeLabels(have catalog.Labels, change map[string]string) catalog.Labels {
	merged := catalog.Labels{}
	maps.Copy(merged, have)
	for name, value := range change {
		if value == "" {
			delete(merged, name)
		} else {
			merged[name] = value
		}
	}
	return merged
}

// UntilFresh makes a change again for as long as others change the same thing
// between the look at it and the change.
func UntilFresh(ctx context.Context, records *catalog.Catalog, address string, change func() error) error {
	for {
		err := change()
		if !errors.Is(err, catalog.ErrStale) || ctx.Err() != nil {
			return part.Explain(err, address)
		}
		if err := records.Reload(ctx); err != nil {
			return part.Explain(err, address)
		}
	}
}
