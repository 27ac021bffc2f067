package device

import (
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
)

// Allowed lists the places to which devices may be wired: IP ranges, and patterns of serial lines.
type Allowed struct {
	all    []string
	ranges []netip.Prefix
	lines  []string
}

// DefaultAllowed returns the places that are allowed unless the operator lists others: this machine, private networks (RFC 1918, RFC 4193)
// and serial lines.
func DefaultAllowed() []string {
	return []string{"127.0.0.0/8", "::1", "10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7", "/dev/tty*", "/dev/serial/*"}
}

// ParseAllowed reads a list of IP addresses, ranges (192.0.2.0/24) and patterns of serial lines (/dev/tty*); DefaultAllowed for none. A
// `*` in a pattern stands for any letters but `/`.
func ParseAllowed(all []string) (*Allowed, error) {
	if len(all) == 0 {
		all = DefaultAllowed()
	}
	a := &Allowed{all: slices.Clone(all)}
	for _, text := range all {
		if strings.HasPrefix(text, "/") {
			if _, err := path.Match(text, ""); err != nil {
				return nil, fmt.Errorf("%q is no pattern of serial lines, such as /dev/tty*: %w", text, err)
			}
			a.lines = append(a.lines, text)
			continue
		}
		if ip, err := netip.ParseAddr(text); err == nil {
			a.ranges = append(a.ranges, netip.PrefixFrom(ip.Unmap(), ip.Unmap().BitLen()))
			continue
		}
		r, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no IP address, no range such as 10.0.0.0/8, and no serial line such as /dev/ttyUSB0", text)
		}
		a.ranges = append(a.ranges, r.Masked())
	}
	return a, nil
}

// Refuses returns the first of some transports (Driver.Transports) that is not allowed, as the operator would list it; empty if all are. A
// link-local address is never allowed. A name that cannot be resolved leads nowhere, and is allowed only if it is in the list.
func (a *Allowed) Refuses(transports []string) string {
	for _, t := range transports {
		kind, where, _ := strings.Cut(t, " ")
		if kind == "serial" {
			if !a.line(where) {
				return where
			}
			continue
		}
		to, err := netip.ParseAddrPort(where)
		if err != nil {
			continue // nothing can be reached there
		}
		if ip := to.Addr(); ip.IsLinkLocalUnicast() || ip.IsMulticast() || !slices.ContainsFunc(a.ranges, func(r netip.Prefix) bool { return r.Contains(ip) }) {
			return ip.String()
		}
	}
	return ""
}

// line reports whether a serial line is in the list. Transports name one that is not there in capitals.
func (a *Allowed) line(where string) bool {
	where = strings.ToLower(where)
	return slices.ContainsFunc(a.lines, func(pattern string) bool {
		is, err := path.Match(strings.ToLower(pattern), where)
		return err == nil && is
	})
}

// String returns the list.
func (a *Allowed) String() string { return strings.Join(a.all, ", ") }
