package live

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"rectura/service/api"
	"rectura/service/live"
)

// scrapePatience bounds the time that one scrape waits for engines.
const scrapePatience = 5 * time.Second

// metrics returns the handler of /metrics, in the format of Prometheus. docs/metrics.md lists what it has.
func (s *Server) metrics() http.Handler {
	r := prometheus.NewRegistry()
	r.MustRegister(collector{s}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{MaxRequestsInFlight: 4})
}

// A collector asks the engines at each scrape.
type collector struct{ s *Server }

type metric struct {
	*prometheus.Desc
	kind prometheus.ValueType
}

func gauge(name, help string, labels ...string) metric {
	return metric{prometheus.NewDesc("rectura_"+name, help, labels, nil), prometheus.GaugeValue}
}

func counter(name, help string, labels ...string) metric {
	return metric{prometheus.NewDesc("rectura_"+name, help, labels, nil), prometheus.CounterValue}
}

var (
	jobMode      = gauge("job_mode", "1 for the mode that the job is in.", "job", "mode")
	jobFault     = gauge("job_fault", "1 while the job is in fault, and its outputs at their fail states.", "job")
	jobDamaged   = gauge("job_damaged", "1 while records of the job are damaged and nobody has acknowledged it.", "job")
	jobSilent    = gauge("job_silent", "1 while the engine of the job does not answer.", "job")
	jobNotKept   = gauge("job_not_kept_seconds", "For how long what the job does could not be kept.", "job")
	jobUnkept    = gauge("job_unkept_entries", "Entries of the journal that wait to be kept.", "job")
	jobBypasses  = gauge("job_bypasses", "Pins, hands, locks and shelvings in force.", "job")
	jobAlarms    = gauge("job_alarms", "Alarms that are active or unacknowledged.", "job", "priority")
	jobReadings  = counter("job_readings_total", "Readings of inputs.", "job")
	jobInstants  = counter("job_instants_total", "Instants that were stepped.", "job")
	jobCommits   = counter("job_commits_total", "Commits of what the job did.", "job")
	jobLate      = counter("job_late_instants_total", "Instants that were handled more than 100 ms late.", "job")
	jobPassed    = counter("job_passed_over_total", "Readings that were passed over for newer ones.", "job")
	jobBusy      = counter("job_late_readings_total", "Readings that came late, since their line was busy.", "job")
	jobHiccups   = counter("job_hiccups_total", "Stops of the process that postponed delays.", "job")
	jobLateness  = gauge("job_lateness_seconds", "How late the last 1024 instants were handled.", "job", "quantile")
	deviceUp     = gauge("device_up", "1 while the device answers.", "job", "device")
	deviceAsked  = counter("device_requests_total", "Requests of the device.", "job", "device")
	deviceSilent = counter("device_time_outs_total", "Requests that the device did not answer.", "job", "device")
	deviceRefuse = counter("device_exceptions_total", "Requests that the device refused.", "job", "device")
	deviceP99    = gauge("device_p99_seconds", "Within which 99 of 100 of the last requests were answered.", "job", "device")
	processUp    = gauge("process_up", "1 while the process is there.", "process")
	processSize  = gauge("process_memory_bytes", "Memory in use.", "process")
	processEnds  = counter("process_ends_total", "How often the process has ended since the service was started.", "process")
)

// Describe sends nothing: which jobs there are changes.
func (c collector) Describe(chan<- *prometheus.Desc) {}

// Collect sends the metrics of all jobs and processes.
func (c collector) Collect(to chan<- prometheus.Metric) {
	send := func(m metric, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(m.Desc, m.kind, v, labels...)
	}
	ctx, cancel := context.WithTimeout(context.Background(), scrapePatience)
	defer cancel()
	for _, r := range c.s.jobs.Running() {
		failed := c.s.jobs.Failed(r.Number) != ""
		if r.Engine == nil {
			send(jobMode, 1, r.Name, live.Idle)
			send(jobFault, number(failed), r.Name)
			continue
		}
		v, err := r.Engine.Status(ctx)
		send(jobSilent, number(err != nil), r.Name)
		if err == nil {
			collectJob(send, r.Name, &v)
		}
	}
	for _, p := range c.s.processes() {
		send(processUp, number(p.State == api.Runs), string(p.Name))
		send(processSize, float64(p.MemoryBytes), string(p.Name))
		send(processEnds, float64(p.Ends), string(p.Name))
	}
}

func collectJob(send func(metric, float64, ...string), job string, v *live.Status) {
	send(jobMode, 1, job, v.Mode)
	send(jobFault, number(v.Fault != ""), job)
	send(jobDamaged, number(v.Damage != ""), job)
	notKept := 0.0
	if v.NotKept != 0 {
		notKept = float64(v.Clock-v.NotKept) / 1e9
	}
	send(jobNotKept, notKept, job)
	send(jobUnkept, float64(v.Unkept), job)
	send(jobBypasses, float64(v.Bypasses), job)
	for priority, n := range v.Alarms {
		send(jobAlarms, float64(n), job, priority)
	}
	send(jobReadings, float64(v.Readings), job)
	send(jobInstants, float64(v.Instants), job)
	send(jobCommits, float64(v.Commits), job)
	send(jobLate, float64(v.Late), job)
	send(jobPassed, float64(v.Passed), job)
	send(jobBusy, float64(v.LateReadings), job)
	send(jobHiccups, float64(v.Hiccups), job)
	send(jobLateness, v.P50/1000, job, "0.5")
	send(jobLateness, v.P99/1000, job, "0.99")
	for _, d := range v.Devices {
		send(deviceUp, number(d.State == "connected"), job, d.Name)
		send(deviceAsked, float64(d.Traffic.Requests), job, d.Name)
		send(deviceSilent, float64(d.Traffic.TimeOuts), job, d.Name)
		send(deviceRefuse, float64(d.Traffic.Exceptions), job, d.Name)
		send(deviceP99, d.Traffic.P99, job, d.Name)
	}
}

func number(is bool) float64 {
	if is {
		return 1
	}
	return 0
}
