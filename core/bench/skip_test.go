package bench_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rectura/core/bench"
	"rectura/core/logic"
	"rectura/core/recording"
	"rectura/core/sheet"
	"rectura/core/sheet/sheettest"
	"rectura/core/unit"
)

// toldOf is all that a replay tells: transitions with their reasons, and summaries.
func toldOf(r *bench.Result) []string {
	all := append(sentences(r), append(r.Warnings, r.Notes...)...)
	for _, t := range r.Transitions {
		all = append(all, fmt.Sprintf("%d: %+v", t.Number, plain(t.Reason)))
	}
	for _, s := range r.Summary {
		line := fmt.Sprintf("%s %d %d %d %v", s.Name, s.Starts, s.On, s.Undecided, s.Final)
		if s.Range != nil {
			line += fmt.Sprintf(" %v", *s.Range)
		}
		all = append(all, line)
	}
	return all
}

// plain is a reason of which NaN is like NaN.
func plain(r logic.Reason) string { return fmt.Sprintf("%+v", r) }

// walked is a recording of random walks, which stay on one side of most points for long, of
// some or all inputs, some with times of their own.
func walked(t *rapid.T) *recording.Recording {
	var b strings.Builder
	b.WriteString("time,point,value,unit\n")
	rows := rapid.IntRange(20, 400).Draw(t, "rows")
	step := rapid.SampledFrom([]float64{0.02, 0.2, 1}).Draw(t, "step")
	value := []float64{5, 5, 5}
	contact := []int{0, 0}
	units := make([]string, 3)
	for i := range units {
		units[i] = rapid.SampledFrom([]string{"mg/L", "ug/L"}).Draw(t, "unit")
	}
	at := int64(0)
	for range rows {
		at += rapid.SampledFrom([]int64{100, 1000, 1000, 5000}).Draw(t, "gap")
		for i := range value {
			if rapid.IntRange(0, 9).Draw(t, "none") == 0 {
				continue
			}
			value[i] = min(max(value[i]+step*(2*rapid.Float64Range(0, 1).Draw(t, "walk")-1), -1), 11)
			v := value[i]
			if rapid.IntRange(0, 3).Draw(t, "at a point") == 0 { // where limits lie, or as little beside them as a count is
				v = math.Round(v*4)/4 + rapid.SampledFrom([]float64{-0.002, -0.001, 0, 0.001, 0.002}).Draw(t, "beside")
			}
			text := fmt.Sprintf("%.3f", v)
			if units[i] == "ug/L" {
				text = fmt.Sprintf("%.0f", v*1000)
			}
			if rapid.IntRange(0, 199).Draw(t, "bad") == 0 {
				text = "bad"
			}
			fmt.Fprintf(&b, "%s,sig%d,%s,%s\n", unit.FormatDecimal(at, 1000), i, text, units[i])
		}
		for i := range contact {
			if n := rapid.IntRange(0, 19).Draw(t, "turn"); n == 0 {
				contact[i] = 1 - contact[i]
			} else if n > 12 {
				continue
			}
			fmt.Fprintf(&b, "%s,con%d,%d,\n", unit.FormatDecimal(at, 1000), i, contact[i])
		}
	}
	return record(t, b.String())
}

// Whatever is passed over, a replay tells what it tells when every reading is handed over.
func TestSkippingIsStepping(t *testing.T) {
	tried := 0
	defer func() { assert.Positive(t, tried); t.Logf("%d jobs", tried) }()
	rapid.Check(t, func(t *rapid.T) {
		text := ""
		if rapid.IntRange(0, 3).Draw(t, "of the whole language") == 0 {
			text = sheettest.Job(t)
		} else {
			text = quietJob(t)
		}
		_, p, found := logic.Check([]sheet.Source{{Name: "a.rct", Text: []byte(text)}})
		if p == nil { // quietJob puts together what cannot stand together
			return
		}
		require.False(t, sheet.HasErrors(found))
		tried++
		r := walked(t)
		o := bench.Options{EveryChange: rapid.Bool().Draw(t, "every change")}
		for range rapid.IntRange(0, 3).Draw(t, "commands") {
			var c logic.Command
			var err error
			switch rapid.IntRange(0, 3).Draw(t, "command") {
			case 0:
				c, err = p.Command("pin", "sig0", fmt.Sprintf("%d mg/L", rapid.IntRange(1, 9).Draw(t, "pin")))
			case 1:
				c, err = p.Command("unpin", "sig0", "")
			case 2:
				c, err = p.Command("hand", "out0", rapid.SampledFrom([]string{"on", "off"}).Draw(t, "hand"))
			default:
				c, err = p.Command("auto", "out0", "")
			}
			if err != nil { // a pin outside of what the chain can give
				require.ErrorContains(t, err, "cannot be pinned")
				continue
			}
			at := r.Start + rapid.Int64Range(0, r.End-r.Start).Draw(t, "at")
			o.Commands = append(o.Commands, bench.Command{At: at, Command: c})
		}
		bench.InOrder(o.Commands)
		stepped, refused := bench.Replay(p, r, bench.Stepping(o))
		skipped, err := bench.Replay(p, r, o)
		if refused != nil { // a hand over a true interlock
			require.EqualError(t, err, refused.Error())
			return
		}
		require.NoError(t, err)
		require.Equal(t, toldOf(stepped), toldOf(skipped), "%s", text)
		if o.EveryChange {
			return
		}
		o.Overlook = true
		overlooked, err := bench.Replay(p, r, o)
		require.NoError(t, err)
		stepped.Summary = slices.DeleteFunc(stepped.Summary, func(s bench.Summary) bool { return s.Range != nil })
		require.Equal(t, toldOf(stepped), toldOf(overlooked), "%s", text)
	})
}

// quietJob is a job of which much can be passed over: chains and filters of every kind that
// allows it, and conditions that compare one signal with what does not change.
func quietJob(t *rapid.T) string {
	var b strings.Builder
	b.WriteString("job \"quiet\"\nrecipient duty \"D\" email \"d@fennick.example\"\n")
	pick := func(all ...string) string { return rapid.SampledFrom(all).Draw(t, "pick") }
	for i := range 3 {
		fmt.Fprintf(
			&b,
			"input sig%d\n%s%s%s%s%s%s%s",
			i,
			pick(
				"  unit mg/L\n",
				"  scale 4..20 mA to 0..10 mg/L\n",
				"  scale 0..4095 counts to 0..20 mA\n  scale 4..20 mA to 10..0 mg/L\n",
				"  curve table mA to mg/L: 4 = 12, 9 = 7, 20 = -2\n",
				"  scale 4..20 mA to 0..10 mg/L\n  correct 1 mg/L to 1.2 mg/L, 9 mg/L to 8.9 mg/L\n",
			),
			pick("", "  healthy 0..10 mg/L\n", "  healthy -2..12 mg/L\n"),
			pick("", "", "  skip first 2 samples\n"),
			pick("", "", "  smooth average 3 samples\n", "  smooth median 4 samples\n"),
			pick(
				"",
				"",
				"  clamp 2..8 mg/L\n",
			),
			pick("", "", "  round nearest 0.25 mg/L\n", "  round down 0.5 mg/L\n"),
			pick("", "", "  ignore changes under 0.3 mg/L\n"),
		)
	}
	for i := range 2 {
		fmt.Fprintf(&b, "input con%d discrete\n%s%s", i, pick("", "  inverted\n"), pick("", "", "  debounce 2 s\n"))
	}
	b.WriteString("setpoint low 4 mg/L\n  allow 1..9 mg/L\n")
	for i := range 3 {
		fmt.Fprintf(&b, "output out%d\n  called by any\n  fail %s\n", i, pick("off", "on", "hold"))
	}
	condition := func() string {
		sig := pick("sig0", "sig1", "sig2")
		at := float64(rapid.IntRange(8, 24).Draw(t, "at")) / 4
		switch pick("compare", "compare", "between", "near", "crosses", "contact") {
		case "between":
			return fmt.Sprintf("%s %s %g mg/L and %g mg/L%s", sig, pick("between", "outside"), at, at+1.5, pick("", " hysteresis 0.5 mg/L"))
		case "near":
			return fmt.Sprintf("%s = %g mg/L within 0.5 mg/L", sig, at)
		case "crosses":
			return fmt.Sprintf("(%s crosses %g mg/L for 3 s)", sig, at)
		case "contact":
			return pick("con0", "not con1", "con0 turns on")
		}
		return fmt.Sprintf(
			"%s %s %s%s%s",
			sig,
			pick("<", "<=", ">", ">="),
			pick("low", fmt.Sprintf("%g mg/L", at)),
			pick("", " deadband 0.4 mg/L"),
			pick("", " hysteresis 0.6 mg/L"),
		)
	}
	for i := range rapid.IntRange(1, 4).Draw(t, "rules") {
		on := condition()
		for range rapid.IntRange(0, 2).Draw(t, "more") {
			on += pick(" and ", " or ") + condition()
			on = "(" + on + ")"
		}
		fmt.Fprintf(
			&b,
			"rule rule%d\n  on when %s%s\n%s  call out%d\n",
			i,
			on,
			pick("", " for 4 s"),
			pick(
				"  off after 3 s\n",
				"  minimum on 5 s\n  off after 1 s\n",
				"  pulse 3 s\n",
				"  latch\n  reset when con1\n",
				"  off when "+condition()+" for 2 s\n",
			),
			rapid.IntRange(0, 2).Draw(t, "out"),
		)
	}
	fmt.Fprintf(
		&b,
		"bands lamps of %s\n  bottom: below 3 mg/L call out0\n  middle: below 6 mg/L\n  top: else call out1\n  hysteresis 0.5 mg/L\n%s",
		pick("sig0", "sig1"),
		pick("", "  for 3 s\n", "  cumulative\n"),
	)
	fmt.Fprintf(
		&b,
		"alarm far\n  on when sig2 > 6 mg/L hysteresis 1 mg/L for 5 s\n  priority low\n%s",
		pick("", "  call out2 until acknowledged\n"),
	)
	fmt.Fprintf(&b, "message often\n  %s\n  send sig0, sig1, con0, out1 to duty\n", pick("every 20 s", "when con1"))
	return b.String()
}

// The two agree on the demo, which has what is made for a plant.
func TestSkippingTheHatchery(t *testing.T) {
	p := compileSources(t, hatcherySources(t))
	for _, name := range []string{"night", "pump-trip", "broken-loop", "hopper"} {
		r := hatcheryRecording(t, name)
		for _, o := range []bench.Options{{}, {EveryChange: true}, {Set: set("oxygen_low=7 mg/L")}} {
			stepped, err := bench.Replay(p, r, bench.Stepping(o))
			require.NoError(t, err)
			skipped, err := bench.Replay(p, r, o)
			require.NoError(t, err)
			require.Equal(t, toldOf(stepped), toldOf(skipped), name)
		}
	}
}

// Readings of one side of a point are passed over, with filters too, in columns of values and of bits.
func TestWhatIsPassedOver(t *testing.T) {
	job := func(clauses string) string {
		return "job \"x\"\ninput x\n  scale 4..20 mA to 0..20 mg/L\n  healthy 3.6..21 mA\n" + clauses + "input k discrete\noutput o\n  fail off\nrule r\n  on when x < 6 mg/L hysteresis 0.4 mg/L and k\n  call o\n"
	}
	var rows strings.Builder
	rows.WriteString("time,x [mg/L],k\n")
	for i := range 20_000 {
		fmt.Fprintf(&rows, "%d,%.3f,%d\n", i, 8+1.8*math.Sin(float64(i)/50), i/7000%2)
	}
	r := record(t, rows.String())
	for clauses, most := range map[string]int{
		"": 10, "  smooth average 5 samples\n": 40, "  smooth median 3 samples\n": 40, "  clamp 0..15 mg/L\n  round nearest 0.1 mg/L\n": 10,
		"  ignore changes under 0.02 mg/L\n": 10, "  smooth lag 2 s\n": math.MaxInt, "  stale after 5 s\n": math.MaxInt,
	} {
		n := bench.CountInstants(compileJob(t, job(clauses)), r)
		assert.LessOrEqual(t, n, most, clauses)
		if most == math.MaxInt {
			assert.Equal(t, 20_000, n, clauses)
		}
	}
}
