package modbus

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"strings"

	"rectura/service/device"
)

// claims returns what a job writes in the device. A bit claims its whole register, which is read, changed and written back.
// On TCP, the units 0 and 255 stand for the device at the address itself (Messaging on TCP/IP 1.0b, 4.4.1.2), which may be any
// of the others; 0 is everybody on a serial line.
func (d *Device) claims() (all []device.Claim) {
	unit := d.Unit
	if unit == 0 || unit == 255 {
		unit = -1
	}
	for i := range d.Wires {
		w := &d.Wires[i]
		if !w.Driven {
			continue
		}
		c := device.Claim{Unit: unit, Table: w.Table, First: w.Address, Last: w.Address + w.Size - 1, Where: d.Name + " " + w.place()}
		if !w.Heartbeat {
			c.Point = w.Point
		}
		all = append(all, c)
	}
	return all
}

// Transports returns where the line leads.
func (x *Driver) Transports(ctx context.Context) []string { return x.made[0].Transports(ctx) }

// Transports returns where the device's line leads: every IP address of a host's name, with the port as a number, or the serial line
// behind all links. A name that cannot be resolved stands for itself.
func (d *Device) Transports(ctx context.Context) []string {
	if d.Serial {
		if real, err := filepath.EvalSymlinks(d.Address); err == nil {
			return []string{"serial " + real}
		}
		return []string{"serial " + strings.ToUpper(d.Address)}
	}
	host, service, err := net.SplitHostPort(d.Address)
	if err != nil {
		return []string{"tcp " + d.Address}
	}
	port, err := net.DefaultResolver.LookupPort(ctx, "tcp", service)
	if err != nil {
		return []string{"tcp " + strings.ToLower(d.Address)}
	}
	var addresses []netip.Addr
	if a, err := netip.ParseAddr(host); err == nil {
		addresses = []netip.Addr{a}
	} else if addresses, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host); err != nil {
		return []string{fmt.Sprintf("tcp %s:%d", strings.ToLower(strings.TrimSuffix(host, ".")), port)}
	}
	var all []string
	for _, a := range addresses {
		if a = a.Unmap().WithZone(""); a.IsUnspecified() { // dialled, it is this machine
			a = netip.AddrFrom4([4]byte{127, 0, 0, 1})
		}
		all = append(all, fmt.Sprintf("tcp %s", netip.AddrPortFrom(a, uint16(port))))
	}
	return all
}
