package service_test

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"rectura/client"
	"rectura/service/device/simulated"
)

var soakFor = flag.Duration("soak", 6*time.Second, "for how long a plant is run with everything that happens to one")

// A level is what must not grow while a service runs.
type level struct {
	routines, files int
	bench           int // open files of the bench
	heap            uint64
	log, rest       int64 // bytes of the file's log, and of its tables but for the journal and the capture
}

func (m *mortal) level(data string, said *buffer) (l level) {
	t := m.t
	said.empty()
	memory := &runtime.MemStats{}
	runtime.GC()
	runtime.ReadMemStats(memory)
	l.heap, l.routines = memory.HeapAlloc, runtime.NumGoroutine()
	open, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	l.files = len(open)
	open, err = os.ReadDir(fmt.Sprintf("/proc/%d/fd", m.bench().Pid))
	require.NoError(t, err)
	l.bench = len(open)
	log, err := os.Stat(filepath.Join(data, "plant.db-wal"))
	require.NoError(t, err)
	l.log = log.Size()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(data, "plant.db")+"?mode=ro")
	require.NoError(t, err)
	const rest = "SELECT sum(pgsize) FROM dbstat WHERE name NOT LIKE '%journal%' AND name NOT LIKE '%stretches%' AND name NOT LIKE '%segments%'"
	err = db.QueryRow(rest).Scan(&l.rest)
	require.NoError(t, errors.Join(err, db.Close()))
	return l
}

// A plant is run while its readings move, its rack is lost and comes back, people command it and readers look at it:
// goroutines, memory and files stay level.
func TestSoak(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a while")
	}
	rack, err := simulated.Start()
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, rack.Close()) })
	rack.SetWords("holding", 0, 7)
	rack.SetBit("discrete", 0, true)
	data := t.TempDir()
	_, api, said, _ := start(t, data)
	m := &mortal{t: t, api: api}
	m.push(fmt.Sprintf(mortalJob, rack.Address()))
	m.arm()

	round := func(i int) {
		rack.SetWords("holding", 0, uint16(math.Round(14+12*math.Sin(float64(i)/7))))
		rack.SetBit("discrete", 0, i%11 > 0)
		rack.SetBit("discrete", 1, i%13 == 0)
		switch i % 10 {
		case 3:
			rack.Drop()
		case 5:
			rack.Reboot()
		case 7:
			m.command("off", "horn", "", "anna")
		case 8:
			m.command("auto", "horn", "", "anna")
		default:
			m.command("set", "low", fmt.Sprintf("%g mg/L", 5+float64(i%30)/10), "")
		}
		newest := 50
		j, err := api.GetJournalWithResponse(t.Context(), fennick, &client.GetJournalParams{Newest: &newest})
		require.NoError(t, err)
		require.NotNil(t, j.JSON200, "%s", j.Body)
		m.now()
		ctx, cancel := context.WithTimeout(t.Context(), time.Millisecond) // a reader that goes before it is answered
		_, _ = api.GetNow(ctx, fennick)
		cancel()
		time.Sleep(50 * time.Millisecond) // a poll goes by
	}
	rounds, begun := 0, time.Now()
	for ; time.Since(begun) < *soakFor/3; rounds++ {
		round(rounds)
	}
	early := m.level(data, said)
	for ; time.Since(begun) < *soakFor; rounds++ {
		round(rounds)
	}
	t.Logf("%d rounds, from %+v to %+v", rounds, early, m.level(data, said))
	assert.Eventually(t, func() bool {
		late := m.level(data, said)
		return late.routines <= early.routines+2 && late.files <= early.files+2 && late.bench <= early.bench+4 && late.heap <= early.heap+4<<20 &&
			late.log <= max(2*early.log, 8<<20) && late.rest <= early.rest+64<<10
	}, 30*time.Second, 100*time.Millisecond, "what readers began is over, and the rest is level")
	status := m.now().Status
	assert.Empty(t, status.Fault)
	assert.Nil(t, status.NotKeptSince)
	m.check(0)
}
