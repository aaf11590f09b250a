package main

import (
	"flag"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/address"
)

// Flags whose values are written as everywhere in the product. Each keeps
// whether it was given, so that what was not stays as it is.

type durationValue struct{ d *time.Duration }

func (v durationValue) String() string {
	if v.d == nil || *v.d == 0 {
		return ""
	}
	return address.FormatDuration(*v.d)
}

func (v durationValue) Set(s string) (err error) {
	*v.d, err = address.ParseDuration(s)
	return err
}

// pairsValue gathers name=value.
type pairsValue map[string]string

func (v pairsValue) String() string { return "" }

func (v pairsValue) Set(s string) error {
	name, value, ok := strings.Cut(s, "=")
	if !ok || name == "" {
		return fmt.Errorf("%q is not NAME=VALUE", s)
	}
	v[name] = value
	return nil
}

func (v pairsValue) names() []string { return slices.Sorted(maps.Keys(v)) }

// listValue gathers whole numbers, given one by one or with commas.
type listValue struct{ numbers *[]int }

func (v listValue) String() string { return "" }

func (v listValue) Set(s string) error {
	for part := range strings.SplitSeq(s, ",") {
		n, err := strconv.Atoi(part)
		if err != nil || n < 0 {
			return fmt.Errorf("%q is not a partition's number", part)
		}
		*v.numbers = append(*v.numbers, n)
	}
	return nil
}

// rateValue is a number per second, written 200/s or 200.
type rateValue struct{ perSecond *float64 }

func (v rateValue) String() string { return "" }

func (v rateValue) Set(s string) error {
	f, err := strconv.ParseFloat(strings.TrimSuffix(s, "/s"), 64)
	if err != nil || !(f > 0) {
		return fmt.Errorf("%q is not a rate such as 200/s", s)
	}
	*v.perSecond = f
	return nil
}

// oneAddress reads the one address that a verb takes.
func (c *call) oneAddress() (address.Address, error) {
	if len(c.args) != 1 {
		return address.Address{}, wrongUsage("one address is expected, and there are %d", len(c.args))
	}
	a, err := address.Parse(c.args[0])
	if err != nil {
		return a, &usageError{err}
	}
	return a, nil
}

func (c *call) oneChannel() (address.Address, error) {
	a, err := c.oneAddress()
	if err == nil && a.Kind() != address.KindChannel {
		err = wrongUsage("%s is the address of a %s; a channel is expected, such as coldchain/readings", a, a.Kind())
	}
	return a, err
}

// everyFlag adds -every.
func everyFlag(fs *flag.FlagSet) *time.Duration {
	d := new(time.Duration)
	fs.Var(durationValue{d}, "every", "show it again and again, with this `pause`, such as 1s")
	return d
}
