package fleet

import (
	"fmt"
	"os"
	"runtime"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Strain is how hard the generator works.
type Strain struct {
	CPU         float64 `json:"cpu"`       // in cores
	Cores       int     `json:"cores"`     // that it may use
	Allocated   float64 `json:"allocated"` // bytes a second
	Goroutines  int     `json:"goroutines"`
	Descriptors int     `json:"descriptors"`
	Allowed     uint64  `json:"descriptors-allowed"`
	Memory      int64   `json:"memory"` // resident, in bytes
}

// Process is a broker's process, where it runs here.
type Process struct {
	Known       bool    `json:"known"`
	Name        string  `json:"name,omitempty"`
	PID         int     `json:"pid,omitempty"`
	Own         bool    `json:"own,omitempty"` // a stand-in within this program: its work is the generator's too
	CPU         float64 `json:"cpu,omitempty"`
	Memory      int64   `json:"memory,omitempty"`
	Descriptors int     `json:"descriptors,omitempty"`
	Allowed     uint64  `json:"descriptors-allowed,omitempty"`

	used time.Duration // processor time so far
}

// reading is how things stand at a moment.
type reading struct {
	at     time.Time
	used   time.Duration
	alloc  uint64
	broker Process
}

func (f *Fleet) strainNow() reading {
	r := reading{at: time.Now(), used: cpuUsed(), alloc: allocated()}
	if f.plan.Broker != nil {
		r.broker = f.plan.Broker()
	}
	return r
}

func cpuUsed() time.Duration {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

func allocated() uint64 {
	s := []metrics.Sample{{Name: "/gc/heap/allocs:bytes"}}
	metrics.Read(s)
	if s[0].Value.Kind() != metrics.KindUint64 {
		return 0
	}
	return s[0].Value.Uint64()
}

// leastSpan is over how long the use of a processor must be measured to say anything.
const leastSpan = 100 * time.Millisecond

func strainOver(a, b reading) Strain {
	s := Strain{Cores: runtime.GOMAXPROCS(0), Goroutines: runtime.NumGoroutine()}
	if took := b.at.Sub(a.at).Seconds(); took >= leastSpan.Seconds() {
		s.CPU = (b.used - a.used).Seconds() / took
		s.Allocated = float64(b.alloc-a.alloc) / took
	}
	own := ProcessOf(os.Getpid())
	s.Memory, s.Descriptors, s.Allowed = own.Memory, own.Descriptors, own.Allowed
	return s
}

func (f *Fleet) brokerOver(a, b reading) Process {
	p := b.broker
	if took := b.at.Sub(a.at).Seconds(); took >= leastSpan.Seconds() && p.Known && a.broker.Known {
		p.CPU = (b.broker.used - a.broker.used).Seconds() / took
	}
	return p
}

// ProcessOf reads what the system tells of a process of this machine; not known where it is gone, or another's.
func ProcessOf(pid int) (p Process) {
	dir := fmt.Sprintf("/proc/%d/", pid)
	stat, err := os.ReadFile(dir + "stat")
	if err != nil {
		return p
	}
	open, close := strings.IndexByte(string(stat), '('), strings.LastIndexByte(string(stat), ')')
	if open < 0 || close < open {
		return p
	}
	p.Known, p.PID, p.Name = true, pid, string(stat[open+1:close])
	fields := strings.Fields(string(stat[close+1:]))
	const utime, stime, rss, ticks = 11, 12, 21, 100
	if len(fields) > rss {
		n := func(i int) int64 { v, _ := strconv.ParseInt(fields[i], 10, 64); return v }
		p.used = time.Duration(n(utime)+n(stime)) * time.Second / ticks
		p.Memory = n(rss) * int64(os.Getpagesize())
	}
	if all, err := os.ReadDir(dir + "fd"); err == nil {
		p.Descriptors = len(all)
	}
	if limits, err := os.ReadFile(dir + "limits"); err == nil {
		for line := range strings.SplitSeq(string(limits), "\n") {
			if rest, is := strings.CutPrefix(line, "Max open files"); is {
				if f := strings.Fields(rest); len(f) > 0 {
					p.Allowed, _ = strconv.ParseUint(f[0], 10, 64)
				}
			}
		}
	}
	return p
}

// Listening finds the process of this machine that listens on a TCP port; 0 for none that can be seen.
func Listening(port int) (pid int) {
	inodes := map[string]bool{}
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		b, _ := os.ReadFile(file)
		for line := range strings.SplitSeq(string(b), "\n") {
			f := strings.Fields(line)
			const local, state, inode, listens = 1, 3, 9, "0A"
			if len(f) <= inode || f[state] != listens {
				continue
			}
			_, p, _ := strings.Cut(f[local], ":")
			if n, err := strconv.ParseInt(p, 16, 32); err == nil && int(n) == port {
				inodes["socket:["+f[inode]+"]"] = true
			}
		}
	}
	if len(inodes) == 0 {
		return 0
	}
	all, _ := os.ReadDir("/proc")
	for _, e := range all {
		n, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		fds, _ := os.ReadDir("/proc/" + e.Name() + "/fd")
		if slices.ContainsFunc(fds, func(d os.DirEntry) bool {
			to, err := os.Readlink("/proc/" + e.Name() + "/fd/" + d.Name())
			return err == nil && inodes[to]
		}) {
			return n
		}
	}
	return 0
}

// secondsEnd measures the strain since the second before.
func (f *Fleet) secondsEnd(x *Second) {
	now := f.strainNow()
	if took := now.at.Sub(f.before.at).Seconds(); took > 0 {
		x.CPU = (now.used - f.before.used).Seconds() / took
		if now.broker.Known && f.before.broker.Known {
			x.BrokerCPU = (now.broker.used - f.before.broker.used).Seconds() / took
		}
	}
	x.Memory, f.before = memoryNow(), now
}

func memoryNow() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b))
	if len(f) < 2 {
		return 0
	}
	n, _ := strconv.ParseInt(f[1], 10, 64)
	return n * int64(os.Getpagesize())
}
