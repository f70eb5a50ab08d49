package meter

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"paceduel/core/keeper"
)

// Limits are what a group of processes may take.
type Limits struct {
	Memory int64   // bytes; 0: any
	CPU    float64 // processors' worth of time; 0: any
}

// Hierarchy is where this machine keeps control groups, as far as we may make some: the unified hierarchy (version 2),
// or one folder for each controller (version 1).
type Hierarchy struct {
	unified string // our own group's folder; empty for version 1
	memory  string
	cpu     string
	account string
}

// Cgroups finds out where control groups can be made. The error says why they cannot.
func Cgroups() (*Hierarchy, error) {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return nil, err
	}
	h, err := findHierarchy(proc)
	if err != nil {
		return nil, fmt.Errorf("find control groups: %w", err)
	}
	if h == nil {
		return nil, errors.New("no control groups are mounted for memory and processors")
	}
	for _, dir := range h.folders(true) {
		if err := unix.Access(dir, unix.W_OK); err != nil {
			return nil, fmt.Errorf("groups cannot be made in %s: %w", dir, err)
		}
	}
	return h, nil
}

// findHierarchy reads what the kernel says of mounts and of our own groups; nil without controllers.
func findHierarchy(proc procfs.FS) (*Hierarchy, error) {
	self, err := proc.Self()
	if err != nil {
		return nil, err
	}
	groups, err := self.Cgroups()
	if err != nil {
		return nil, err
	}
	own := map[string]string{} // our path, by controller; the unified hierarchy's is ""
	for _, g := range groups {
		if len(g.Controllers) == 0 {
			own[""] = g.Path
		}
		for _, name := range g.Controllers {
			own[name] = g.Path
		}
	}
	mounts, err := proc.GetMounts()
	if err != nil {
		return nil, err
	}
	h := &Hierarchy{}
	for _, m := range mounts {
		switch m.FSType {
		case "cgroup2":
			// Groups with processes of their own have no limited ones below them, so ours stands beside or above us.
			for dir := within(m, own[""]); ; dir = filepath.Dir(dir) {
				list, err := os.ReadFile(filepath.Join(dir, "cgroup.subtree_control"))
				if err == nil && bytes.Contains(list, []byte("memory")) && bytes.Contains(list, []byte("cpu")) {
					h.unified = dir
					break
				}
				if len(dir) <= len(m.MountPoint) {
					break
				}
			}
		case "cgroup":
			for controller, dir := range map[string]*string{"memory": &h.memory, "cpu": &h.cpu, "cpuacct": &h.account} {
				if _, ok := m.SuperOptions[controller]; ok {
					*dir = within(m, own[controller])
				}
			}
		}
	}
	if h.unified == "" && (h.memory == "" || h.cpu == "" || h.account == "") {
		return nil, nil
	}
	return h, nil
}

// within is where a group's path is below a mount, which may show a part of the hierarchy only.
func within(m *procfs.MountInfo, path string) string {
	rel, err := filepath.Rel(m.Root, path)
	if err != nil || !filepath.IsLocal(rel) {
		rel = "."
	}
	return filepath.Join(m.MountPoint, rel)
}

// folders are where a group is made; of version 1, that of the processors' controller only for a group whose time is
// limited: elsewhere it would have the group's processes weighed as one.
func (h *Hierarchy) folders(cpu bool) (out []string) {
	if h.unified != "" {
		return []string{h.unified}
	}
	out = []string{h.memory}
	for _, dir := range []string{h.account, h.cpu} {
		if !slices.Contains(out, dir) && (cpu || dir != h.cpu) {
			out = append(out, dir)
		}
	}
	return out
}

// Group is a control group of ours. It holds the processes that are started in it and all that they start.
type Group struct {
	h       *Hierarchy
	name    string
	folders []string // that it has one of its own in
	dir     *os.File // its own, of the unified hierarchy
	forget  []func() // has the keeper forget its folders
}

var groups atomic.Int64

const groupPrefix = "paceduel-"

// NewGroup makes an empty group with limits. Groups that a killed program of ours left behind are removed on the way.
func (h *Hierarchy) NewGroup(l Limits) (g *Group, err error) {
	g = &Group{h: h, name: fmt.Sprintf("%s%d-%d", groupPrefix, os.Getpid(), groups.Add(1)), folders: h.folders(l.CPU > 0)}
	for _, dir := range g.folders {
		removeStale(dir)
		if err := os.Mkdir(filepath.Join(dir, g.name), 0o755); err != nil {
			g.Remove()
			return nil, fmt.Errorf("make a control group: %w", err)
		}
		if k, err := keeper.Shared(); err == nil {
			g.forget = append(g.forget, k.RemoveEmptyAfter(filepath.Join(dir, g.name)))
		}
	}
	set := func(dir, file, value string) {
		if path := filepath.Join(dir, g.name, file); err == nil {
			err = os.WriteFile(path, []byte(value), 0o644)
		}
	}
	const period = 100_000 // µs
	share := strconv.FormatInt(int64(l.CPU*period), 10)
	if h.unified != "" {
		if l.Memory > 0 {
			set(h.unified, "memory.max", strconv.FormatInt(l.Memory, 10))
			os.WriteFile(filepath.Join(h.unified, g.name, "memory.swap.max"), []byte("0"), 0o644) // where there is swap
		}
		if l.CPU > 0 {
			set(h.unified, "cpu.max", share+" "+strconv.Itoa(period))
		}
		if err == nil {
			g.dir, err = os.Open(filepath.Join(h.unified, g.name))
		}
	} else {
		if l.Memory > 0 {
			set(h.memory, "memory.limit_in_bytes", strconv.FormatInt(l.Memory, 10))
			os.WriteFile(
				filepath.Join(h.memory, g.name, "memory.memsw.limit_in_bytes"), []byte(strconv.FormatInt(l.Memory, 10)), 0o644,
			)
		}
		if l.CPU > 0 {
			set(h.cpu, "cpu.cfs_period_us", strconv.Itoa(period))
			set(h.cpu, "cpu.cfs_quota_us", share)
		}
	}
	if err != nil {
		g.Remove()
		return nil, fmt.Errorf("limit a control group: %w", err)
	}
	return g, nil
}

// removeStale removes groups of programs of ours that are no more.
func removeStale(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		text, ok := strings.CutPrefix(e.Name(), groupPrefix)
		text, _, _ = strings.Cut(text, "-")
		pid, err := strconv.Atoi(text)
		if ok && err == nil && syscall.Kill(pid, 0) == syscall.ESRCH {
			os.Remove(filepath.Join(dir, e.Name())) // one that still has processes stays
		}
	}
}

// Start has begin start a process in the group. attr is what that process is to be started with.
func (g *Group) Start(attr *syscall.SysProcAttr, begin func() error) error {
	if g.h.unified != "" {
		attr.UseCgroupFD, attr.CgroupFD = true, int(g.dir.Fd())
		return begin()
	}
	// Of version 1 a thread alone can be a member, and what it starts begins where it is.
	runtime.LockOSThread()
	tid := []byte(strconv.Itoa(unix.Gettid()))
	move := func(name string) (err error) {
		for _, dir := range g.folders {
			err = cmp.Or(err, os.WriteFile(filepath.Join(dir, name, "tasks"), tid, 0o644))
		}
		return err
	}
	err := move(g.name)
	if err == nil {
		err = begin()
	}
	if back := move(""); back != nil {
		return cmp.Or(err, back) // the thread stays locked, and ends with whoever called
	}
	runtime.UnlockOSThread()
	return err
}

// read is a number of a file of the group; 0 where it cannot be read. With name, the number behind that word.
func (g *Group) read(dir, file, name string) int64 {
	data, err := os.ReadFile(filepath.Join(dir, g.name, file))
	if err != nil {
		return 0
	}
	text := strings.TrimSpace(string(data))
	if name != "" {
		_, rest, ok := strings.Cut("\n"+text, "\n"+name+" ")
		if !ok {
			return 0
		}
		text, _, _ = strings.Cut(rest, "\n")
	}
	n, _ := strconv.ParseInt(text, 10, 64)
	return n
}

// CPU is the CPU time, user and system, that the group has used since it was made.
func (g *Group) CPU() time.Duration {
	if g.h.unified != "" {
		return time.Duration(g.read(g.h.unified, "cpu.stat", "usage_usec")) * time.Microsecond
	}
	return time.Duration(g.read(g.h.account, "cpuacct.usage", ""))
}

// Killed is how many of the group's processes the kernel has killed since they wanted more memory than they may have.
func (g *Group) Killed() int64 {
	if g.h.unified != "" {
		return g.read(g.h.unified, "memory.events", "oom_kill")
	}
	return g.read(g.h.memory, "memory.oom_control", "oom_kill")
}

// Remove removes the group, once its processes have ended.
func (g *Group) Remove() {
	if g.dir != nil {
		g.dir.Close()
		g.dir = nil
	}
	for _, dir := range g.folders {
		path := filepath.Join(dir, g.name)
		for range 50 { // processes that have ended may take a moment to leave it
			if err := os.Remove(path); err == nil || errors.Is(err, os.ErrNotExist) {
				break
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	for _, forget := range g.forget {
		forget()
	}
	g.forget = nil
}
