package sheet_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/core/sheet"
)

// Every stage and clause of an input is written as it is read.
func TestClausesAreCanonical(t *testing.T) {
	for written, want := range map[string]string{
		"scale 0..4095counts to 0..20mA":                                   "scale 0..4095 counts to 0..20 mA",
		"scale 4..20 mA to 100..0 %":                                       "",
		"scale -32768..32767 counts to -10..10 V":                          "",
		"root 0..250 mbar to 0..80 m3/h":                                   "",
		"curve pt100 to degC":                                              "",
		"curve pt1000 to °F":                                               "curve pt1000 to degF",
		"curve ni1000 to K":                                                "",
		"curve nickel 1000 ohm at 21.1 degC to degC":                       "",
		"curve nickel 1kohm at 70degF to degF":                             "curve nickel 1 kohm at 70 degF to degF",
		"curve thermocouple k to degC cold junction 25 degC":               "",
		"curve thermocouple b to degC with cold junction 25degC":           "curve thermocouple b to degC cold junction 25 degC",
		"curve thermocouple t to °C cold junction cold":                    "curve thermocouple t to degC cold junction cold",
		"curve ntc 10kohm at 25degC beta 3950 to degC":                     "curve ntc 10 kohm at 25 degC beta 3950 to degC",
		"curve ntc 10 kohm at 25 degC beta 3950 K to degC":                 "",
		"curve ntc steinhart 0.001129148 0.000234125 0.0000000876741 to K": "",
		"curve table ohm to lx: 500=1000,2000 = 180":                       "curve table ohm to lx: 500 = 1000, 2000 = 180",
		"curve table mA to \"fish/m3\": 4 = -5, 20 = 40":                   "",
		"curve table % to mg/L: 0 = 0, 100 = 14.6":                         "",
		"divider 10kohm to supply 5V":                                      "divider 10 kohm to supply 5 V",
		"divider 4700 ohm to ground 3300 mV":                               "",
		"unit mS/cm":                                                       "",
		"unit °C":                                                          "unit degC",
		"unit %":                                                           "",
		"unit \"fish/m3\"":                                                 "",
	} {
		if want == "" {
			want = written
		}
		f, found := sheet.ParseFile("a.rct", []byte("input x\n  "+written+"\n"))
		require.Empty(t, found, written)
		assert.Equal(t, "input x\n  "+want+"\n", f.String())
		again, found := sheet.ParseFile("a.rct", []byte(f.String()))
		require.Empty(t, found, f.String())
		assert.Equal(t, f.String(), again.String())
	}
}

// What values are made of decides their unit, and whether they are differences.
func TestTypes(t *testing.T) {
	const job = `job "Types"

input x
  unit mg/L

input flow
  unit L/s

input air
  unit degC

input water
  unit degF

constant step 2 degF difference

constant gain 1.5

derived d = `
	for value, want := range map[string]string{
		"x":                             "mg/L",
		"x + 500 ug/L":                  "mg/L",
		"500 ug/L + x":                  "ug/L",
		"x * 2":                         "mg/L",
		"gain * x":                      "mg/L",
		"x / gain":                      "mg/L",
		"x / 2 mg/L":                    "",
		"(x + 1 mg/L) / (x - 500 ug/L)": "",
		"x * (flow / 10 L/s)":           "mg/L",
		"-x":                            "mg/L",
		"abs(x - 3 mg/L)":               "mg/L",
		"min(x, 3 mg/L, 200 ug/L)":      "mg/L",
		"average(air, water)":           "degC",
		"median(water, air, 20 degC)":   "degF",
		"air - water":                   "degC, a difference",
		"(air - water) * 2":             "degC, a difference",
		"abs(air - water)":              "degC, a difference",
		"air + step":                    "degC",
		"air + 2 degF":                  "degC",
		"air + (air - water) / 2":       "degC",
		"max(air - water, 1 degC)":      "degC, a difference",
	} {
		j, found := parse(job + value + "\n")
		require.False(t, sheet.HasErrors(found), "%s: %v", value, found)
		typ, err := j.TypeOf(&sheet.Name{Name: "d"})
		require.NoError(t, err, value)
		got := typ.Unit.Name()
		if typ.Difference {
			got += ", a difference"
		}
		assert.Equal(t, want, got, value)
	}
	for value, want := range map[string]string{
		"x * flow":              "x is in mg/L (concentration) and flow is in L/s (flow); one of two values that are multiplied is a bare number",
		"x + 2":                 "x is in mg/L (concentration) and 2 is a bare number; they cannot be added",
		"gain / x":              "gain is a bare number and x is in mg/L (concentration); a value is divided by a bare number or by one of its own dimension",
		"air + water":           "air and water are both temperatures; only a difference can be added to a temperature",
		"air / water":           "air is a temperature, and only a temperature difference can be multiplied or divided",
		"max(air, air - water)": "air is a temperature and air - water is a temperature difference; max needs values of one kind",
		"-air":                  "air is a temperature, and the negative of a temperature means nothing; write the number with its sign",
	} {
		_, found := parse(job + value + "\n")
		require.NotEmpty(t, found, value)
		assert.Equal(t, want, found[0].Text, value)
		assert.Equal(t, "unit-mismatch", found[0].Code)
	}
}

// Derived values stand behind those that they are made of, whatever the order
// of the text, and rules name what they depend on.
func TestDerivedOrder(t *testing.T) {
	j, found := parse(`job "Order"

derived c = b + a

derived b = a - x

derived a = x * 2

input x
  unit mg/L

output o
  fail off

rule r
  on when c > 5 mg/L for 1 s
  call o
`)
	require.Empty(t, found)
	var names []string
	for _, d := range j.Derived {
		names = append(names, d.Name)
	}
	assert.Equal(t, []string{"a", "b", "c"}, names)
	assert.Equal(t, []string{"x"}, j.SignalsOf(j.Rules[0].Name))
	assert.Equal(t, "Call o when c is above 5 mg/L for 1 s. Stop when that lets go.", j.Say(j.Rules[0]))
}

// Sentences use the words of contacts, and say functions aloud.
func TestSentencesOfSignals(t *testing.T) {
	j, found := parse(`job "Words"

input door "Feeder hatch" discrete
  words "open", "shut"

input x "Oxygen 1"
  unit mg/L

input y "Oxygen 2"
  unit mg/L

output o "Feeder"
  fail off

rule a
  on when average(x, y, 3 mg/L) > 5 mg/L hysteresis 1 mg/L and not door
  off when door for 5 s
  call o

rule b
  on when abs(x - y) * 2 > 1 mg/L for 5 s
  call o
`)
	require.Len(t, found, 1, "%v", found) // no `called by`
	assert.Equal(
		t,
		"Call Feeder when the average of Oxygen 1, Oxygen 2 and 3 mg/L is above 5 mg/L with hysteresis 1 mg/L and Feeder hatch is shut. Stop when Feeder hatch is open for 5 s.",
		j.Say(j.Rules[0]),
	)
	assert.Equal(
		t,
		"Call Feeder when the size of (Oxygen 1 - Oxygen 2) * 2 is above 1 mg/L for 5 s. Stop when that lets go.",
		j.Say(j.Rules[1]),
	)
	assert.Equal(t, "open", j.Input("door").StateWord(true))
	assert.Equal(t, "off", j.Input("x").StateWord(false))
}
