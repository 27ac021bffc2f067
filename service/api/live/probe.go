package live

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"slices"
	"time"

	"rectura/core/logic"
	"rectura/core/sheet"
	"rectura/core/unit"
	"rectura/service/api"
	"rectura/service/api/inside"
	"rectura/service/api/pool"
	"rectura/service/api/transport"
	"rectura/service/device/modbus"
)

// longestTimeout bounds how long a probe waits for a device, whatever a sheet says.
const longestTimeout = 2 * time.Second

// ProbePoint reads once what stands in a device where a point is wired. It writes nothing.
func (s *Server) ProbePoint(ctx context.Context, request ProbePointRequestObject) (ProbePointResponseObject, error) {
	r, err := s.bench.Revision(ctx, request.Job, inside.Newest)
	if err != nil {
		return nil, err
	}
	_, p, found := logic.Check(r.Sheets)
	if p == nil {
		return nil, transport.RefuseFound(http.StatusConflict, "The newest revision has errors; mend them first.", found)
	}
	name := request.Body.Point
	for _, d := range modbus.Devices(p) {
		i := slices.IndexFunc(d.Wires, func(w modbus.Wire) bool { return w.Point == name && !w.Heartbeat })
		if i < 0 {
			continue
		}
		if err := s.jobs.MayBeAt(d.Transports(ctx)); err != nil {
			return nil, problem(err)
		}
		d.Timeout = min(d.Timeout, longestTimeout)
		probe, err := pool.Do(ctx, s.probes, func(context.Context) (*modbus.Probe, error) { return probed(d, &d.Wires[i]) })
		if errors.Is(err, modbus.ErrNoAnswer) {
			return nil, transport.Refuse(http.StatusBadGateway, silence(d, err))
		}
		if err != nil {
			return nil, transport.Refuse(http.StatusBadGateway, transport.Sentence(err))
		}
		return ProbePoint200JSONResponse(probeView(d, probe)), nil
	}
	switch p.Job.Lookup(name).(type) {
	case nil:
		return nil, transport.Refuse(http.StatusNotFound, "Nothing in this job is named "+transport.Shown(name)+".")
	case *sheet.Input, *sheet.Output:
		return nil, transport.Refuse(http.StatusUnprocessableEntity, transport.Shown(name)+" is wired to no device; give it a `source` or `drives`.")
	}
	return nil, transport.Refuse(http.StatusUnprocessableEntity, transport.Shown(name)+" is no input and no output, and stands in no device.")
}

// silence says that a device cannot be reached, or does not answer.
func silence(d *modbus.Device, err error) string {
	var dial *net.OpError
	if errors.As(err, &dial) && dial.Op == "dial" {
		return fmt.Sprintf("The device %s cannot be reached at %s: %v; is it on, and is that its address?", d.Name, d.Address, dial.Err)
	}
	return fmt.Sprintf("The device %s does not answer at %s, unit %d, within %s; is that its unit, and is nobody else on its line?",
		d.Name, d.Address, d.Unit, unit.FormatDuration(d.Timeout.Nanoseconds()))
}

// probed makes a line for one probe, and ends it.
func probed(d *modbus.Device, w *modbus.Wire) (probe *modbus.Probe, err error) {
	l, err := modbus.NewLine(d, nil)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	return l.Probe(d, w)
}

func probeView(d *modbus.Device, p *modbus.Probe) api.Probe {
	v := api.Probe{
		Point:     p.Point,
		Device:    d.Name,
		Table:     p.Table,
		Address:   p.Address,
		Reference: p.Reference(),
		Type:      p.Type,
		Order:     p.Order(),
		Words:     []int{},
		Forms:     []api.ProbedForm{},
	}
	if p.Type == "bool" {
		v.On = &p.On
	}
	if p.Bit >= 0 {
		v.Bit = &p.Bit
	}
	for _, w := range p.Words {
		v.Words = append(v.Words, int(w))
	}
	for _, f := range p.Forms {
		x := api.ProbedForm{Type: f.Type, Order: f.Order, Wired: f.Wired}
		if value := f.Value; !math.IsNaN(value) && !math.IsInf(value, 0) {
			x.Value = &value
		}
		v.Forms = append(v.Forms, x)
	}
	return v
}
