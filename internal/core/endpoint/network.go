package endpoint

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Networks are those in which places outside may lie.
type Networks struct {
	named    []string // of networkNames
	prefixes []netip.Prefix
}

// The names of networks.
const (
	Public    = "public"
	Loopback  = "loopback"
	Private   = "private"
	LinkLocal = "link-local"
)

var networkNames = []string{Public, Loopback, Private, LinkLocal}

// AllowedNetworks says how networks are written.
const AllowedNetworks = "public, loopback, private, link-local, or prefixes such as 10.20.0.0/16, separated by commas"

// ParseNetworks reads a list of networks.
func ParseNetworks(text string) (n Networks, err error) {
	for one := range strings.SplitSeq(text, ",") {
		one = strings.TrimSpace(one)
		switch {
		case one == "":
		case slices.Contains(networkNames, one):
			n.named = append(n.named, one)
		default:
			p, err := netip.ParsePrefix(one)
			if err != nil {
				return n, fmt.Errorf("network %q; allowed: %s", one, AllowedNetworks)
			}
			n.prefixes = append(n.prefixes, p.Masked())
		}
	}
	return n, nil
}

func (n Networks) String() string {
	all := slices.Clone(n.named)
	for _, p := range n.prefixes {
		all = append(all, p.String())
	}
	return strings.Join(all, ",")
}

// special are prefixes that no public place has, by the registries of special-purpose
// addresses (RFC 6890 and what has joined them): some carry an address of IPv4 inside.
var special = func() (all []netip.Prefix) {
	for _, text := range []string{
		"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16", "fec0::/10",
	} {
		all = append(all, netip.MustParsePrefix(text))
	}
	return all
}()

// networkOf names the network that an address is in; nothing: one to which nothing is sent
// unless a prefix names it.
func networkOf(a netip.Addr) string {
	switch {
	case a.IsLoopback():
		return Loopback
	case a.IsPrivate():
		return Private
	case a.IsLinkLocalUnicast():
		return LinkLocal
	case !a.IsGlobalUnicast(), slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(a) }):
		return ""
	}
	return Public
}

// Check says why nothing is sent to an address.
func (n Networks) Check(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	name := networkOf(a)
	if name != "" && slices.Contains(n.named, name) || slices.ContainsFunc(n.prefixes, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return nil
	}
	if name == "" {
		name = "special"
	}
	return fmt.Errorf("%s is a %s address, and this node sends to %s only: ferryd's -outside-networks names where it may", a, name, n)
}

// OnLoopback reports whether a host, a name or an IP address, is this machine for itself alone.
func OnLoopback(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}
