//go:build e2e

package e2e

import (
	"bytes"
	"fmt"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/cli"
	"rectura/client"
	"rectura/examples/hatchery"
	"rectura/service/device/simulated"
)

// raceway is a rack as the hatchery has it on a quiet evening.
func raceway(t *testing.T) *simulated.Rack {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	loop := func(address int, v, top float64) { rack.SetWords("holding", address, uint16(4095*(4+16*v/top)/20)) }
	fraction := func(address int, v float32) {
		bits := math.Float32bits(v)
		rack.SetWords("holding", address, uint16(bits), uint16(bits>>16))
	}
	loop(0, 7.6, 20) // oxygen
	rack.SetWords("holding", 1, 10428)
	loop(2, 48, 80)
	rack.SetWords("holding", 3, 9831)
	fraction(4, 7.2)
	fraction(6, 300)
	rack.SetBit("discrete", 0, true)
	rack.SetBit("discrete", 1, true)
	return rack
}

// wire gives the demo's job a revision that is wired to a rack.
func wire(t *testing.T, address string, rack *simulated.Rack) *client.ClientWithResponses {
	api, err := client.NewClientWithResponses(address + "/api")
	require.NoError(t, err)
	var body client.NewRevision
	for _, name := range []string{"points.rct", "rules.rct", "trials.rct"} {
		text, err := hatchery.Files.ReadFile(name)
		require.NoError(t, err)
		changed := strings.NewReplacer("127.0.0.1:1502", rack.Address(), "settle 10 s", "settle 2 s").Replace(string(text))
		body.Sheets = append(body.Sheets, client.Sheet{Name: name, Text: changed})
	}
	a, err := api.PushRevisionWithResponse(t.Context(), "hatchery", body)
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, a.StatusCode(), "%s", a.Body)
	return api
}

// shows waits until the page says something.
func shows(text string) chromedp.Action[chromedp.Void] {
	return poll(fmt.Sprintf("document.querySelector('main').innerText.includes(%q)", text))
}

// command runs one of the command line, and gives what it prints.
func command(t *testing.T, address, line string) string {
	var out bytes.Buffer
	cli.Run(t.Context(), append(strings.Fields(line), "--server", address), &out, &out)
	return out.String()
}

func TestNow(t *testing.T) {
	ctx := browser(t)
	u := startDemo(t)
	address := u.Scheme + "://" + u.Host
	rack := raceway(t)
	run(t, ctx, chromedp.Navigate(address+"/hatchery/now"), shows("This job is idle"))
	wire(t, address, rack)
	assert.Contains(t, command(t, address, "listen --job hatchery"), "hatchery listens with revision 2. Nothing is written.")
	run(t, ctx, shows("Listening: no output is written"))
	assert.Contains(t, command(t, address, "arm --job hatchery --yes --now --despite testing"), "hatchery is armed with revision 2.")
	run(t, ctx, shows("● Armed"), shows("✓ No alarm."))
	command(t, address, "off feeder --job hatchery --lock anna --why pellets")
	rack.SetWords("holding", 0, 594) // 2.9 mA: the loop has broken
	run(t, ctx, shows("Raceway 1 dissolved oxygen is bad"), shows("broken loop or no supply"), shows("pellets"))
	picture(t, ctx, "now.png")
	var page strings.Builder
	for _, line := range []string{"status", "points", "alarms", "journal --newest 12"} {
		page.WriteString("$ rectura " + line + "\n" + command(t, address, line+" --job hatchery") + "\n")
	}
	terminal(t, page.String(), "cli-live.png")
	rack.Misbehave(simulated.Silent, time.Second)
	run(t, ctx, shows("rack lost"))
}
