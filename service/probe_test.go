package service_test

import (
	"fmt"
	"net/http"
	"testing"

	vendor "github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service/device/simulated"
)

// A probe reads what stands where a point is wired, shows it under every type and order, and writes nothing; what it
// cannot read, it tells in a sentence.
func TestProbe(t *testing.T) {
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 6, 0x0000, 0x40e8, 0x0001) // 7.25, the low word first
	rack.SetBit("coil", 2, true)
	_, api, _, _ := start(t, t.TempDir())
	text := fmt.Sprintf(`job "Brood stock pond"
device rack modbus tcp %q unit 1
  timeout 200 ms
  word order low first
input flow
  source rack holding 6 real
  unit L/s
input door discrete
  source rack holding 8 bit 0
input loose
  unit mm
output pump
  drives rack coil 2
  fail off
rule fill
  on when flow < 3 L/s and loose < 3 mm and door
  call pump
`, rack.Address())
	pushed, err := api.PushRevisionWithResponse(t.Context(), fennick, client.NewRevision{Sheets: []client.Sheet{{Name: "a.rct", Text: text}}})
	require.NoError(t, err)
	require.Equal(t, http.StatusCreated, pushed.StatusCode(), string(pushed.Body))
	probe := func(point string) *client.ProbePointResponse {
		a, err := api.ProbePointWithResponse(t.Context(), fennick, client.ProbeRequest{Point: point})
		require.NoError(t, err)
		return a
	}
	p := probe("flow").JSON200
	require.NotNil(t, p)
	assert.Equal(t, []int{0, 0x40e8, 1, 0}, p.Words)
	found := map[string]float64{}
	for _, f := range p.Forms {
		require.Equal(t, f.Type == "real" && f.Order == "CDAB", f.Wired)
		if f.Value != nil {
			found[f.Type+" "+f.Order] = *f.Value
		}
	}
	assert.Equal(t, 7.25, found["real CDAB"])
	assert.Equal(t, float64(0x40e80000), found["udint CDAB"])
	assert.Equal(t, float64(0x40e8), found["dint ABCD"])
	assert.Len(t, p.Forms, 2*2+3*4+3*4)

	p = probe("door").JSON200
	require.NotNil(t, p)
	assert.True(t, *p.On)
	p = probe("pump").JSON200
	require.NotNil(t, p)
	assert.True(t, *p.On)
	assert.Empty(t, p.Forms)
	assert.Empty(t, rack.Writes())

	for point, want := range map[string]struct {
		status int
		text   string
	}{
		"loose": {http.StatusUnprocessableEntity, "loose is wired to no device; give it a `source` or `drives`."},
		"rack":  {http.StatusUnprocessableEntity, "rack is no input and no output, and stands in no device."},
		"flaw":  {http.StatusNotFound, "Nothing in this job is named flaw."},
	} {
		a := probe(point)
		assert.Equal(t, want.status, a.StatusCode())
		assert.Contains(t, string(a.Body), want.text)
	}
	rack.Refuse("holding", 9, vendor.ErrIllegalDataAddress) // behind the point: it is read alone
	assert.Equal(t, []int{0, 0x40e8}, probe("flow").JSON200.Words)
	rack.Refuse("holding", 6, vendor.ErrIllegalDataAddress)
	a := probe("flow")
	assert.Equal(t, http.StatusBadGateway, a.StatusCode())
	assert.Contains(t, string(a.Body), "The device rack refuses to read holding 6: illegal data address")
	rack.Misbehave(simulated.Silent, 0)
	a = probe("flow")
	assert.Equal(t, http.StatusBadGateway, a.StatusCode())
	assert.Contains(
		t,
		string(a.Body),
		"The device rack does not answer at "+rack.Address()+", unit 1, within 200 ms; is that its unit, and is nobody else on its line?",
	)
	require.NoError(t, rack.Close())
	a = probe("flow")
	assert.Equal(t, http.StatusBadGateway, a.StatusCode())
	assert.Contains(
		t,
		string(a.Body),
		"The device rack cannot be reached at "+rack.Address()+": connect: connection refused; is it on, and is that its address?",
	)
}
