package alarm_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rectura/core/alarm"
)

// The transitions of the standard's diagram, one after the other.
func TestLife(t *testing.T) {
	for script, want := range map[string]string{
		"on":                       "active, unacknowledged, announced",
		"on ack":                   "active, acknowledged",
		"on ack off":               "normal",
		"on off":                   "returned, unacknowledged, announced",
		"on off ack":               "normal",
		"on off on":                "active, unacknowledged, announced",
		"on ack off on":            "active, unacknowledged, announced",
		"ack":                      "normal",
		"on ack on":                "active, acknowledged",
		"on shelve":                "active, unacknowledged",
		"shelve on":                "active, unacknowledged",
		"on ack shelve unshelve":   "active, unacknowledged, announced",
		"on ack unshelve":          "active, acknowledged",
		"on ack shelve pass9":      "active, acknowledged",
		"on ack shelve pass10":     "active, unacknowledged, announced",
		"on ack shelve off pass10": "normal",
		"on suppress":              "active, unacknowledged",
		"on suppress free":         "active, unacknowledged, announced",
		"on out":                   "active, unacknowledged",
		"on out in":                "active, unacknowledged, announced",
		"suppress on off free":     "normal",
		"suppress on free":         "active, unacknowledged, announced",
		"suppress on free off":     "returned, unacknowledged, announced",
		"suppress on ack free":     "active, acknowledged",
		"on suppress off free":     "returned, unacknowledged",
		"on off suppress free":     "returned, unacknowledged",
		"on off suppress free on":  "active, unacknowledged, announced",
		"on off shelve ack":        "normal",
		"on off suppress on off":   "returned, unacknowledged",
		"shelve on off unshelve":   "normal",
		"shelve out on unshelve":   "active, unacknowledged",
		"out on off in":            "normal",
	} {
		var a alarm.Alarm
		for _, word := range strings.Fields(script) {
			do(&a, word)
		}
		got := a.State().String()
		if a.Announced() {
			got += ", announced"
		}
		assert.Equal(t, want, got, script)
	}
}

func do(a *alarm.Alarm, word string) {
	switch word {
	case "on", "off":
		a.Condition(word == "on")
	case "ack":
		a.Acknowledge()
	case "shelve":
		a.Shelve(10)
	case "unshelve":
		a.Unshelve()
	case "pass9":
		a.Pass(9)
	case "pass10":
		a.Pass(10)
	case "suppress", "free":
		a.Suppress(word == "suppress")
	case "out", "in":
		a.TakeOut(word == "out")
	}
}

// Whatever happens, an alarm is active exactly while its condition holds, and
// silence never makes it another.
func TestSilenceChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var loud, silent alarm.Alarm
		silent.Suppress(true)
		holds := false
		for _, word := range rapid.SliceOf(rapid.SampledFrom([]string{"on", "off", "ack"})).Draw(t, "words") {
			do(&loud, word)
			do(&silent, word)
			holds = word == "on" || word == "ack" && holds
			assert.Equal(t, holds, loud.Active())
			if loud.State() == alarm.ReturnedUnacknowledged { // nobody has heard of it
				assert.Equal(t, alarm.Normal, silent.State())
			} else {
				assert.Equal(t, loud.State(), silent.State())
			}
			assert.Equal(t, loud.Unacknowledged(), loud.Announced())
			assert.False(t, silent.Announced())
		}
	})
}
