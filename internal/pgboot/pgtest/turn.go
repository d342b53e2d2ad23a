package pgtest

import (
	"os"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// turns are the tests of this binary that have had their turn and not ended.
var turns = struct {
	next sync.Mutex // of the one whose turn is next
	mu   sync.Mutex
	had  map[string]bool
}{had: map[string]bool{}}

const (
	// alwaysAtOnce is how many tests run at once however busy the machine is.
	alwaysAtOnce = 2
	// busyFrom is from how many runnable threads for each processor a machine has too much to do.
	busyFrom = 3
	// longestWait is after what a test begins in any case.
	longestWait = 10 * time.Minute
)

// Turn holds a test back while the machine has more to do than it can and others of the same binary
// are running, since what they wait for would come too late for all of them. What starts a database
// or a service for a test calls it first; of a test's calls only the first has an effect.
func Turn(t testing.TB) {
	t.Helper()
	name, _, _ := strings.Cut(t.Name(), "/")
	if had, _ := turnsNow(name); had {
		return
	}
	turns.next.Lock()
	defer turns.next.Unlock()
	for until := time.Now().Add(longestWait); time.Now().Before(until); {
		had, atOnce := turnsNow(name)
		if had || atOnce < alwaysAtOnce || runnable() <= float64(busyFrom*runtime.NumCPU()) {
			break
		}
	}
	turns.mu.Lock()
	defer turns.mu.Unlock()
	turns.had[name] = true
	t.Cleanup(func() {
		turns.mu.Lock()
		defer turns.mu.Unlock()
		delete(turns.had, name)
	})
}

// turnsNow tells whether the test has had its turn, and how many have that have not ended.
func turnsNow(name string) (had bool, atOnce int) {
	turns.mu.Lock()
	defer turns.mu.Unlock()
	return turns.had[name], len(turns.had)
}

var runnableNow = regexp.MustCompile(`(?m)^procs_running (\d+)$`)

// runnable returns how many threads wanted a processor on average within the next second, 0 where the
// system does not tell (proc_stat(5)).
func runnable() float64 {
	const looks = 10
	sum := 0
	for range looks {
		time.Sleep(time.Second / looks)
		data, err := os.ReadFile("/proc/stat")
		found := runnableNow.FindSubmatch(data)
		if err != nil || found == nil {
			return 0
		}
		n, _ := strconv.Atoi(string(found[1]))
		sum += n
	}
	return float64(sum) / looks
}
