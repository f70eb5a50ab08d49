package read

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"paceduel/core/guard"
	"paceduel/core/plan"
)

// checkFooting checks what belongs to all.
func (r *reader) checkFooting(f *plan.Footing, pace plan.Pace) {
	for _, s := range f.Caches {
		if !slices.Contains(plan.StateNames, string(s)) {
			r.fault("footing.caches", plan.PointTo(string(s), plan.StateNames), "caches cannot be %q", s)
			return
		}
	}
	cold := slices.ContainsFunc(f.Caches, plan.State.IsCold)
	switch {
	case len(f.Caches) > 2 || len(f.Caches) == 2 && f.Caches[0] == f.Caches[1]:
		r.fault("footing.caches", "write cold, warm or [cold, warm]", "these states do not make figures of their own")
	case len(f.Caches) == 2 && slices.Contains(f.Caches, plan.AsFound):
		r.fault("footing.caches", "write [cold, warm]", "as found says nothing that cold and warm do not")
	case len(f.Caches) == 2 && !arePair(f.Caches):
		r.fault("footing.caches", "write [cold, warm], [asleep, awake] or [first, returning]", "%s and %s do not go together",
			f.Caches[0], f.Caches[1])
	case cold && !pace.Sequential():
		r.fault(
			"footing.caches", "set repeat: instead of clients:",
			"cold is made anew before each run, so runs have to follow one another",
		)
	case slices.ContainsFunc(f.Caches, plan.State.IsWarm) && pace.Warmup != nil && *pace.Warmup == (plan.Warmup{}):
		r.fault("pace.warmup", "warm up with at least 1 run", "without a warm-up nothing makes caches warm")
	case f.Machine && !cold:
		r.fault("footing.machine", "set caches: cold", "machine says how cold is made, and nothing is run cold")
	}
	if !pace.Sequential() {
		for key, set := range map[string]bool{
			"before.run": len(f.Before.Run) > 0, "after.run": len(f.After.Run) > 0, "idle": f.Idle > 0,
		} {
			if set {
				r.fault("footing."+key, "set repeat: instead of clients:", "%s belongs to runs that follow one another", key)
			}
		}
	}
}

// arePair reports whether two states belong together.
func arePair(states plan.States) bool {
	_, _, ok := plan.Pair([]string{string(states[0]), string(states[1])})
	return ok
}

// checkGround checks what holds for one contender; path is where its own footing stands, if it has one.
func (r *reader) checkGround(c *plan.Contender, f *plan.Footing, pace plan.Pace, path string) {
	g := &c.Ground
	at := func(key string) string {
		if _, ok := r.d.places[plan.JoinKeys(path, key)]; ok {
			return plan.JoinKeys(path, key)
		}
		return plan.JoinKeys("footing", key)
	}
	sequential := pace.Sequential()
	if g.Workspace == nil && r.doc.Same != nil && r.doc.Same.Files != "" {
		r.fault(
			"same.files", "set footing: { workspace: FOLDER }", "%s has no workspace, so what it writes cannot be seen", c.Name,
		)
	}
	if w := g.Workspace; w != nil {
		if w.Fresh == plan.EveryRun && !sequential {
			r.fault(
				at("workspace"), "set repeat: instead of clients:, or fresh: heat",
				"%s: a fresh copy for every run needs runs that follow one another", c.Name,
			)
		}
		if h, ok := c.Settings.(plan.Housed); ok && w.Fresh != plan.EveryDuel &&
			(!h.StartsAnew() || w.Fresh == plan.EveryRun) {
			r.fault(
				at("workspace"), "set fresh: heat for both, or workspace: { fresh: duel }",
				"%s: its process lasts, and would stand in a folder that is copied anew for each %s", c.Name, w.Fresh,
			)
		}
		if len(w.From) == 0 {
			r.fault(at("workspace"), "add from:", "%s: nothing says what the workspace is copied from", c.Name)
		}
		for _, from := range w.From {
			if err := readable(plan.Resolve(r.dir, from)); err != nil {
				r.fault(
					at("workspace"), "name a file or folder, from the plan's folder", "%s: the workspace cannot be copied: %s", c.Name,
					err,
				)
			}
		}
	}
	for key, list := range map[string]plan.Lines{"stores": g.Stores, "pages": g.Pages} {
		for _, path := range list {
			if g.Workspace != nil && !filepath.IsLocal(path) {
				r.fault(at(key), "name it from the workspace's root", "%s: %s does not lie in the workspace", c.Name, path)
			}
		}
	}
	if g.Workspace == nil {
		for _, store := range g.Stores {
			if dir := plan.Resolve(r.dir, store); contains(dir, r.dir) {
				r.fault(
					at("stores"), "name the folder that holds nothing but the cache", "%s: emptying %s would remove the plan itself",
					c.Name, dir,
				)
			}
		}
	}
	if !sequential && (len(g.Before.Run) > 0 || len(g.After.Run) > 0 || g.Idle > 0) && path != "" {
		r.fault(
			path, "set repeat: instead of clients:", "%s: steps and idle time for each run need runs that follow one another",
			c.Name,
		)
	}
	if slices.ContainsFunc(f.Caches, plan.State.IsCold) && !canBeCold(c, f) {
		r.fault(
			"footing.caches", "name pages: or stores:, or set machine: true", "%s: nothing says what is to be cold", c.Name,
		)
	}
}

// canBeCold reports whether a plan says what is cold before a contender's cold runs.
func canBeCold(c *plan.Contender, f *plan.Footing) bool {
	g := &c.Ground
	own, keeps := c.Settings.(plan.Caching)
	return f.Machine || len(g.Pages) > 0 || len(g.Stores) > 0 || len(g.Before.Run) > 0 || keeps && own.HoldsCache()
}

// checkService checks a contender's service; path is where it stands. It is long since it lists what can be wrong, each
// with the way out.
func (r *reader) checkService(name string, s *plan.Service, pace plan.Pace, path string) {
	fault := func(key, try, what string, args ...any) {
		at := plan.JoinKeys(path, key)
		if _, ok := r.d.places[at]; !ok {
			at = path
		}
		r.fault(at, try, "%s: %s", name, fmt.Sprintf(what, args...))
	}
	if s.Watch.D() < leastWatch {
		fault("watch", "set "+leastWatch.String()+" or more", "looking every %s would be a load of its own", s.Watch.D())
	}
	if s.Running != nil {
		if (s.Running.PID > 0) == (s.Running.Port > 0) {
			fault("running", "set pid: or port:", "a running service is named by its process or by its port")
		}
		own := *s.Complete()
		own.Running, own.Watch = nil, plan.Span(plan.DefaultWatch)
		if !reflect.DeepEqual(own, *(&plan.Service{}).Complete()) {
			fault(
				"running", "leave the other keys out", "somebody else runs its service, so it is neither started nor stopped here",
			)
		}
		if pace.Rush {
			fault("running", "leave rush out", "it is not started here, so there is no start to shoot into")
		}
		return
	}
	switch {
	case len(s.Run) > 0 && s.Shell != "":
		fault("shell", "keep one of them", "both run and shell are set for its service")
	case len(s.Run) == 0 && s.Shell == "":
		fault("", "set run: [program, argument]", "nothing says what its service is")
	case len(s.Run) > 0 && s.Run[0] == "":
		fault("run", "set run: [program, argument]", "the program's name is empty")
	}
	ways := 0
	for _, set := range []bool{s.Ready.URL != "", s.Ready.Line != "", s.Ready.File != "", s.Ready.Notify} {
		if set {
			ways++
		}
	}
	if ways > 1 {
		fault("ready", "keep one of url, line, file and notify", "more than one way to be ready is set")
	}
	if s.Ready.Status != 0 && s.Ready.URL == "" {
		fault("ready.status", "set url:", "a status belongs to a url")
	}
	if s.Ready.URL != "" {
		at, err := guard.ParseURL(strings.ReplaceAll(s.Ready.URL, plan.PortMark, "1"))
		switch {
		case err != nil:
			fault("ready.url", "write it as http://127.0.0.1:${PORT}/path", "this is not an address to ask")
		case guard.New(r.doc.Allow).Check(at.Hostname()) != nil:
			fault("ready.url", guard.Try(at.Hostname()), "%s is not this machine", at.Hostname())
		}
	}
	if _, err := regexp.Compile(s.Ready.Line); err != nil {
		fault("ready.line", "see RE2 syntax", "%s", err)
	}
	told := strings.Join(words(s), " ")
	if ways == 0 && !strings.Contains(told, plan.PortMark) {
		fault(
			"", "hand it ${PORT}, or set ready: { url: …, line: …, file: … or notify: true }",
			"its service is not told its port, so it cannot be seen when that accepts",
		)
	}
	if len(s.Data) > 0 && !strings.Contains(told, plan.DataMark) && !strings.Contains(told, "$DATA") {
		fault("data", "hand it ${DATA}", "its service is not told where its data is")
	}
	if s.Limits != nil && *s.Limits == (plan.Limits{}) {
		fault("limits", "set memory: 256MiB or cpu: 1", "nothing is limited")
	}
	for _, f := range s.Marks.Check("", "line") {
		fault(plan.JoinKeys("marks", f.Key), f.Try, "%s", f.What)
	}
	if pace.Rush && s.Fresh != plan.EveryHeat {
		fault("fresh", "leave it out", "with rush, every heat begins with a start")
	}
	if pace.Wake > 0 && s.Fresh == plan.EveryRun {
		fault("fresh", "set fresh: heat", "a service that is fresh for every run never falls asleep")
	}
	if s.Fresh == plan.EveryRun && !pace.Sequential() {
		fault(
			"fresh", "set repeat: instead of clients:, or fresh: heat",
			"a fresh service for every run needs runs that follow one another",
		)
	}
}

// words are all that a service is started with.
func words(s *plan.Service) (out []string) {
	out = append(out, s.Shell)
	for _, w := range s.Run {
		out = append(out, string(w))
	}
	for _, v := range s.Env {
		out = append(out, string(v))
	}
	return out
}

// checkStakes reports figures that say nothing by themselves.
func (r *reader) checkStakes(s *plan.Stakes) {
	switch {
	case s == nil:
	case s.RunsPerDay == 0 && s.PeakRate == 0 && s.Items == 0:
		r.fault("stakes", "set runs-per-day:, peak-rate: or items:", "nothing says how much is done")
	case s.MinutePrice > 0 && s.RunsPerDay == 0:
		r.fault("stakes.minute-price", "set runs-per-day: too", "the price of a minute goes with runs-per-day")
	case len(s.Prices) > 0 && s.RunsPerDay == 0:
		r.fault("stakes.prices", "set runs-per-day: too", "prices of figures go with runs-per-day")
	case (s.ServerPrice > 0 || s.Spare > 0) && s.PeakRate == 0:
		r.fault("stakes", "set peak-rate: too", "server-price and spare go with peak-rate")
	case s.Spare >= 1:
		r.fault("stakes.spare", "write 30%", "no server does anything while all of it stays free")
	}
}

// contains reports whether path is dir or lies in it.
func contains(dir, path string) bool {
	absDir, err1 := filepath.Abs(dir)
	absPath, err2 := filepath.Abs(path)
	if err1 != nil || err2 != nil {
		return true
	}
	rel, err := filepath.Rel(absDir, absPath)
	return err == nil && filepath.IsLocal(rel)
}

// readable says why a path cannot be read, or nil.
func readable(path string) error {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe that nobody writes to is no reason to wait
	if err != nil {
		return err
	}
	return f.Close()
}

// leastWatch keeps looking from becoming a load.
const leastWatch = 5 * time.Millisecond
