package watch

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
)

// Astray is the value of watches that keep things as they shall be: how many settings of a
// thing are not, and were not set right.
const Astray = "astray"

// How often a setting of a thing is set right by itself: whoever changes it again and again
// means it, and an incident begins instead.
const (
	MostCorrections = 3
	CorrectionsIn   = time.Hour
)

// keptKinds are the kinds of things that are kept, each with what is measured of it.
var keptKinds = map[string]*sample.Kind{setting.Topic: sample.Channel, setting.Queue: sample.Channel, setting.Consumer: sample.Group, setting.Route: sample.Group, setting.AnEndpoint: sample.Endpoint}

// Keep is how things under a watch shall be set.
type Keep struct {
	by map[string]map[string]any // settings as tables show them, by the kinds that have all of them
}

// newKeep reads settings, each as its flag is written.
func newKeep(texts map[string]string) (*Keep, error) {
	k := &Keep{by: map[string]map[string]any{}}
	var why error
	for name := range keptKinds {
		values, err := declare.Named(name).Parsed(texts)
		if err == nil {
			k.by[name] = values
		} else if why == nil {
			why = err
		}
	}
	if len(k.by) == 0 {
		names := slices.Sorted(maps.Keys(texts))
		return nil, problem.New(problem.Invalid, "keep: no kind of thing can be set so (%s): %v", strings.Join(names, ", "), why).Field("keep").Allowed("settings of topics, queues, groups, routes or endpoints, such as paused=false")
	}
	return k, nil
}

// kinds are those of which something is measured of what it keeps.
func (k *Keep) kinds() (all []*sample.Kind) {
	for name := range k.by {
		if kind := keptKinds[name]; !slices.Contains(all, kind) {
			all = append(all, kind)
		}
	}
	return all
}

// Of returns how things of a kind shall be set, nil when they are not kept.
func (k *Keep) Of(kind string) map[string]any { return k.by[kind] }

// Astray returns the settings of a thing of a kind that are not as they shall be.
func (k *Keep) Astray(kind string, is map[string]any) (names []string) {
	for name, value := range k.by[kind] {
		if !reflect.DeepEqual(is[name], value) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
