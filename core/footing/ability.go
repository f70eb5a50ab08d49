package footing

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"

	"golang.org/x/sys/unix"

	"paceduel/core/launch"
	"paceduel/core/meter"
	"paceduel/core/plan"
	"paceduel/core/units"
)

// Abilities are what this machine can do for a footing. Each text is empty where it can, else says why it cannot.
type Abilities struct {
	CPUs        plan.CPUs // that we may use
	DropPages   string    // of files where workspaces are kept
	DropMachine string    // all caches of files
	Hurry       string    // niceness below 0
	ShareBlocks string    // copies that share their blocks with the original, where workspaces are kept
}

// Probe tries what this machine can do, in the folder at, where it writes a small file for a moment.
func Probe(ctx context.Context, at string) Abilities {
	a := Abilities{CPUs: launch.Allowed()}
	if f, err := os.OpenFile(dropCaches, os.O_WRONLY, 0); err != nil {
		a.DropMachine = "not allowed: " + err.Error()
	} else {
		f.Close()
	}
	a.Hurry = tryNice(-1)
	a.DropPages, a.ShareBlocks = probeFolder(ctx, at)
	return a
}

// tryNice sees whether a niceness may be had, on a thread that ends with the attempt.
func tryNice(n int) string {
	said := make(chan string)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread goes with the goroutine
		if err := unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), n); err != nil {
			said <- "not allowed: " + err.Error()
			return
		}
		said <- ""
	}()
	return <-said
}

// leftFrac is the share of pages that may stay in memory when they were dropped.
const leftFrac = 0.05

const probeBytes = 256 << 10

// probeFolder tries in a folder whether pages can be dropped and blocks shared.
func probeFolder(ctx context.Context, at string) (drop, share string) {
	if err := os.MkdirAll(at, 0o700); err != nil {
		return err.Error(), err.Error()
	}
	f, err := os.CreateTemp(at, ".probe-*")
	if err != nil {
		return err.Error(), err.Error()
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if _, err := f.Write(make([]byte, probeBytes)); err != nil {
		return err.Error(), err.Error()
	}
	if err := dropPages(ctx, []string{f.Name()}); err != nil {
		drop = err.Error()
	} else if left, err := residency(ctx, []string{f.Name()}); err != nil {
		drop = err.Error()
	} else if left > leftFrac {
		drop = fmt.Sprintf("%s of a file stays in memory in %s", units.Share(left), at)
	}
	twin, err := os.CreateTemp(at, ".probe-*")
	if err != nil {
		return drop, err.Error()
	}
	defer os.Remove(twin.Name())
	defer twin.Close()
	if err := unix.IoctlFileClone(int(twin.Fd()), int(f.Fd())); err != nil {
		share = "this file system does not: copies are made"
	}
	return drop, share
}

// weigh holds what the plan asks for to what this machine can do.
func (f *Footing) weigh(ctx context.Context) (a Abilities, cannot []string) {
	say := func(text string, args ...any) {
		if line := fmt.Sprintf(text, args...); !slices.Contains(cannot, line) {
			cannot = append(cannot, line)
		}
	}
	a = Abilities{CPUs: launch.Allowed()}
	cold := slices.ContainsFunc(f.States(), plan.State.IsCold)
	if cold && f.plan.Footing.Machine {
		if a.DropMachine = Probe(ctx, os.TempDir()).DropMachine; a.DropMachine != "" {
			say("the machine's caches cannot be dropped (%s): cold runs find what they left of other files", a.DropMachine)
		}
	}
	missing := func(whose string, cpus plan.CPUs) {
		if out := launch.Usable(cpus); len(out) < len(cpus) {
			say("%s cannot be kept to processors %s: this machine has %s for us", whose, cpus, a.CPUs)
		}
	}
	missing("Pace Duel", f.plan.Footing.OwnCPUs)
	for _, c := range f.plan.Contenders {
		if limits := c.Limits(); limits != nil && f.cgroups == nil {
			groups, err := meter.Cgroups()
			if err == nil { // whether they can be limited shows only when one is
				var try *meter.Group
				if try, err = groups.NewGroup(meter.Limits{
					Memory: int64(limits.Memory), CPU: float64(limits.CPU),
				}); err == nil {
					try.Remove()
					f.cgroups = groups
				}
			}
			if err != nil {
				say("processes cannot be held to their limits (%s): they take what they like", err.Error())
			}
		}
	}
	for _, c := range f.plan.Contenders {
		missing(c.Name, c.Ground.CPUs)
		if s := c.Ground.Service; s != nil && s.User != "" && os.Geteuid() != 0 {
			say("the service of %s runs as we do: to run it as %s we would have to be root", c.Name, s.User)
		}
		if c.Ground.Nice != 0 {
			if why := tryNice(c.Ground.Nice); why != "" {
				say("%s cannot have niceness %s (%s)", c.Name, strconv.Itoa(c.Ground.Nice), why)
			}
		}
		if cold && c.Ground.Workspace != nil && len(c.Ground.Pages) > 0 {
			place := filepath.Dir(f.grounds[c.Name].dir)
			if why, _ := probeFolder(ctx, place); why != "" {
				say("pages of a workspace cannot be dropped there (%s): set workspace: { at: } to a folder on a disk", why)
			}
		}
	}
	return a, cannot
}

// pinOurselves keeps every thread of ours to the processors and returns what undoes it. Threads that start later
// inherit it from those that start them.
func pinOurselves(cpus plan.CPUs) (restore func(), err error) {
	before, procs := launch.Allowed(), runtime.GOMAXPROCS(0)
	if err := pinThreads(cpus); err != nil {
		return func() {}, err
	}
	runtime.GOMAXPROCS(max(len(cpus), 2)) // whoever drives may hold one for milliseconds
	return func() {
		pinThreads(before)
		runtime.GOMAXPROCS(procs)
	}, nil
}

func pinThreads(cpus plan.CPUs) error {
	set := launch.SetOf(cpus)
	// Twice, since a thread may be started by one that was not yet pinned.
	for range 2 {
		tasks, err := os.ReadDir("/proc/self/task")
		if err != nil {
			return fmt.Errorf("keep Pace Duel to processors %s: %w", cpus, err)
		}
		for _, t := range tasks {
			tid, err := strconv.Atoi(t.Name())
			if err != nil {
				continue
			}
			if err := unix.SchedSetaffinity(tid, &set); err != nil && err != unix.ESRCH {
				return fmt.Errorf("keep Pace Duel to processors %s: %w", cpus, err)
			}
		}
	}
	return nil
}
