// Package chart is what a drawing of an application shows: the part around a thing, and like
// things folded into one, so that hundreds of them stay readable. What is in trouble is never
// folded.
package chart

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"steadyferry/internal/core/form"
)

// calm is the level of what is in order.
const calm = "calm"

// leastFolded is how many like things become one.
const leastFolded = 3

// Around keeps what is within so many links of a thing, whichever way they go. Without the
// thing nothing is left.
func Around(c *form.Chart, id string, steps int) {
	near := map[string]bool{}
	if slices.ContainsFunc(c.Things, func(t form.ChartThing) bool { return t.ID == id }) {
		near[id] = true
	}
	for range steps {
		next := map[string]bool{}
		for _, l := range c.Links {
			if near[l.From] {
				next[l.To] = true
			}
			if near[l.To] {
				next[l.From] = true
			}
		}
		for id := range next {
			near[id] = true
		}
	}
	c.Things = slices.DeleteFunc(c.Things, func(t form.ChartThing) bool { return !near[t.ID] })
	keepLinks(c)
}

// keepLinks drops links whose ends are not there.
func keepLinks(c *form.Chart) {
	there := map[string]bool{}
	for _, t := range c.Things {
		there[t.ID] = true
	}
	c.Links = slices.DeleteFunc(c.Links, func(l form.ChartLink) bool { return !there[l.From] || !there[l.To] })
}

// Sort puts things and links into one order, so that the same chart is drawn the same way.
func Sort(c *form.Chart) {
	slices.SortFunc(c.Things, func(a, b form.ChartThing) int { return strings.Compare(a.ID, b.ID) })
	slices.SortFunc(c.Links, func(a, b form.ChartLink) int {
		return cmp.Or(strings.Compare(a.From, b.From), strings.Compare(a.To, b.To))
	})
}

// rounds of refining who is like whom: so many links away may lie what tells two things apart.
const rounds = 4

// Fold makes one of like things, the largest number of them first, until no more than most
// things are left or nothing is alike: of one kind and space, in order, and with like things
// before and behind them. open are ids of folded things that stay apart.
//
// Who is like whom is found by colour refinement (Weisfeiler and Leman): each thing begins with
// the colour of what it is, and gets in each round one of its own and its neighbours' colours.
func Fold(c *form.Chart, most int, open map[string]bool) {
	Sort(c)
	c.Whole = len(c.Things)
	if len(c.Things) <= most {
		return
	}
	classes := map[uint64][]int{}
	colours := colour(c)
	for i, t := range c.Things {
		if t.Level == calm {
			classes[colours[t.ID]] = append(classes[colours[t.ID]], i)
		}
	}
	order := [][]int{}
	for _, all := range classes {
		if len(all) >= leastFolded && !open[foldedID(&c.Things[all[0]], colours)] {
			order = append(order, all)
		}
	}
	slices.SortFunc(order, func(a, b []int) int {
		return cmp.Or(cmp.Compare(len(b), len(a)), strings.Compare(c.Things[a[0]].ID, c.Things[b[0]].ID))
	})
	into := map[string]string{}
	left := len(c.Things)
	var folded []form.ChartThing
	for _, all := range order {
		if left <= most {
			break
		}
		one := fold(c, all, foldedID(&c.Things[all[0]], colours))
		for _, id := range one.Folded {
			into[id] = one.ID
		}
		folded = append(folded, one)
		left -= len(all) - 1
	}
	c.Things = append(slices.DeleteFunc(c.Things, func(t form.ChartThing) bool { return into[t.ID] != "" }), folded...)
	c.Links = joined(c.Links, into)
	Sort(c)
}

// foldedID is that of the things that are like one.
func foldedID(t *form.ChartThing, colours map[string]uint64) string {
	return fmt.Sprintf("like:%s:%x", t.Kind, colours[t.ID])
}

// fold is like things as one.
func fold(c *form.Chart, all []int, id string) form.ChartThing {
	first := c.Things[all[0]]
	one := form.ChartThing{ID: id, Kind: first.Kind, Space: first.Space, State: first.State, Level: calm, Facts: []form.ChartFact{}, Name: fmt.Sprintf("%d %s", len(all), plural(first.Kind))}
	names := []string{}
	for _, i := range all {
		t := &c.Things[i]
		one.Rate += t.Rate
		one.Folded = append(one.Folded, t.ID)
		names = append(names, t.Name)
	}
	slices.Sort(one.Folded)
	slices.Sort(names)
	one.Says = "like things, in order: " + strings.Join(names[:min(len(names), 12)], ", ")
	if len(names) > 12 {
		one.Says += fmt.Sprintf(" and %d more", len(names)-12)
	}
	return one
}

func plural(kind string) string {
	if strings.HasSuffix(kind, "s") {
		return kind
	}
	return kind + "s"
}

// joined are links between what things were folded into.
func joined(links []form.ChartLink, into map[string]string) []form.ChartLink {
	at := map[[2]string]int{}
	out := []form.ChartLink{}
	for _, l := range links {
		l.From, l.To = cmp.Or(into[l.From], l.From), cmp.Or(into[l.To], l.To)
		key := [2]string{l.From, l.To}
		if i, known := at[key]; known {
			out[i].Rate += l.Rate
			continue
		}
		at[key] = len(out)
		out = append(out, l)
	}
	return out
}

// colour tells who is like whom, by ids.
func colour(c *form.Chart) map[string]uint64 {
	colours := make(map[string]uint64, len(c.Things))
	for _, t := range c.Things {
		what := []string{t.Kind, t.Space, t.State, t.Level}
		if t.Level != calm {
			what = append(what, t.ID) // what is in trouble is like nothing
		}
		colours[t.ID] = sum(what...)
	}
	before, behind := map[string][]string{}, map[string][]string{}
	for _, l := range c.Links {
		behind[l.From] = append(behind[l.From], l.To)
		before[l.To] = append(before[l.To], l.From)
	}
	for range rounds {
		next := make(map[string]uint64, len(colours))
		for id, own := range colours {
			next[id] = sum(fmt.Sprint(own), around(colours, before[id]), around(colours, behind[id]))
		}
		colours = next
	}
	return colours
}

// around tells which colours neighbours have, however many have each: twelve readers are like
// eleven.
func around(colours map[string]uint64, ids []string) string {
	all := make([]uint64, len(ids))
	for i, id := range ids {
		all[i] = colours[id]
	}
	slices.Sort(all)
	return fmt.Sprint(slices.Compact(all))
}

func sum(parts ...string) uint64 {
	h := fnv.New64a()
	for _, p := range parts {
		h.Write([]byte(p))
		h.Write([]byte{0})
	}
	return h.Sum64()
}
