package path

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"runtime/debug"
	"sync"

	"golang.org/x/sys/unix"

	"paceduel/core/contender"
)

// job is what one shot does. It is told to a worker as JSON.
type job struct {
	Way    string `json:"way"`
	From   string `json:"from"`         // absolute
	To     string `json:"to,omitempty"` // absolute; empty: the sockets
	Block  int    `json:"block"`
	Direct bool   `json:"direct,omitempty"`
	Sync   bool   `json:"sync,omitempty"`
	AtOnce int    `json:"at_once"`
	// Replace says that whatever stands at To may be removed: it lies in a workspace.
	Replace bool `json:"replace,omitempty"`
}

// mover performs one job. Each of its parts belongs to a thread; what they counted is added up at the end.
type mover struct {
	job
	sockets []stream    // one for each part; nil where a file is written
	most    int64       // bytes that are moved at most; 0: the whole file
	buffers [][]byte    // one for each part, kept from shot to shot
	made    fs.FileInfo // the target, as the shot before made it; nil without one
}

// stream is a socket with the line on which its other end is told how much comes, and says that it came.
type stream struct{ data, control int }

// part is a stretch of the file.
type part struct {
	m        *mover
	from, to int // descriptors
	i        int
	at, end  int64
	calls    int64
	moved    int64
}

// errShort is a file that ended before it was as long as it had been.
var errShort = errors.New("the file became shorter while it was moved")

// buffer is aligned memory of a block.
func (m *mover) buffer(i int) ([]byte, error) {
	for len(m.buffers) <= i {
		b, err := unix.Mmap(-1, 0, m.Block, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			return nil, fmt.Errorf("memory for a block: %w", err)
		}
		m.buffers = append(m.buffers, b)
	}
	return m.buffers[i], nil
}

// ready makes what costs no shot anything: memory to read into.
func (m *mover) ready() error {
	if m.Way != readWrite {
		return nil
	}
	for i := range m.AtOnce {
		if _, err := m.buffer(i); err != nil {
			return err
		}
	}
	return nil
}

// move performs the job from opening to closing. It returns how many bytes were moved and how many system calls that
// took.
func (m *mover) move() (moved, calls int64, err error) {
	flags := unix.O_RDONLY | unix.O_CLOEXEC
	if m.Direct {
		flags |= unix.O_DIRECT
	}
	from, err := unix.Open(m.From, flags, 0)
	calls++
	if err != nil {
		return 0, calls, failed("open", m.From, err)
	}
	defer unix.Close(from)
	var stat unix.Stat_t
	if err := unix.Fstat(from, &stat); err != nil {
		return 0, calls, failed("look at", m.From, err)
	}
	size := stat.Size
	if m.most > 0 {
		size = min(size, m.most)
	}
	calls += 2 // fstat, and close at the end
	parts, opened, err := m.divide(from, size)
	calls += opened
	if err == nil {
		err = m.together(parts)
	}
	for i := range parts {
		moved, calls = moved+parts[i].moved, calls+parts[i].calls
	}
	if m.To == "" {
		return moved, calls, err
	}
	for i := range parts {
		if parts[i].to < 0 || i > 0 && parts[i].to == parts[0].to {
			continue
		}
		if i == 0 && err == nil {
			n, finishErr := m.finish(parts[0].to, size)
			calls, err = calls+n, finishErr
		}
		calls++
		if closeErr := unix.Close(parts[i].to); err == nil && closeErr != nil {
			err = failed("close", m.To, closeErr)
		}
	}
	return moved, calls, err
}

// divide opens the target and deals the file out. Ways that write where a descriptor stands get one for each part.
func (m *mover) divide(from int, size int64) (parts []part, calls int64, err error) {
	n := max(min(int64(m.AtOnce), (size+int64(m.Block)-1)/int64(m.Block)), 1)
	blocks := (size + int64(m.Block) - 1) / int64(m.Block)
	for i := range n {
		parts = append(parts, part{
			m: m, from: from, to: -1, i: int(i),
			at: min(blocks*i/n*int64(m.Block), size), end: min(blocks*(i+1)/n*int64(m.Block), size),
		})
	}
	if m.To == "" {
		for i := range parts {
			parts[i].to = m.sockets[i].data
		}
		return parts, 0, nil
	}
	for i := range parts {
		if i > 0 && m.Way != sendFile {
			parts[i].to = parts[0].to
			continue
		}
		flags := unix.O_WRONLY | unix.O_CLOEXEC
		if m.Way == mapped {
			flags = unix.O_RDWR | unix.O_CLOEXEC
		}
		if m.Direct {
			flags |= unix.O_DIRECT
		}
		if i == 0 {
			flags |= unix.O_CREAT | unix.O_EXCL // made anew, never somebody else's
		}
		calls++
		if parts[i].to, err = unix.Open(m.To, flags, 0o644); err != nil {
			parts[i].to = -1
			return parts, calls, failed("write", m.To, err)
		}
		if i > 0 {
			calls++
			if _, err := unix.Seek(parts[i].to, parts[i].at, io.SeekStart); err != nil {
				return parts, calls, failed("write", m.To, err)
			}
		}
	}
	if m.Way == mapped && size > 0 {
		calls++
		if err := unix.Ftruncate(parts[0].to, size); err != nil {
			return parts, calls, failed("make room in", m.To, err)
		}
	}
	return parts, calls, nil
}

// together moves all parts, the first on the calling thread.
func (m *mover) together(parts []part) error {
	errs := make([]error, len(parts))
	var others sync.WaitGroup
	for i := range parts[1:] {
		others.Go(func() {
			runtime.LockOSThread()
			defer runtime.UnlockOSThread()
			errs[i+1] = parts[i+1].move()
		})
	}
	errs[0] = parts[0].move()
	others.Wait()
	return errors.Join(errs...)
}

// finish brings a target to its length, where it was written in whole blocks, and onto the disk where that is asked
// for.
func (m *mover) finish(to int, size int64) (calls int64, err error) {
	if m.Direct && size%alignment != 0 {
		calls++
		if err := unix.Ftruncate(to, size); err != nil {
			return calls, failed("cut to its length", m.To, err)
		}
	}
	if m.Sync {
		calls++
		if err := unix.Fsync(to); err != nil {
			return calls, failed("bring to the disk", m.To, err)
		}
	}
	return calls, nil
}

func (p *part) move() error {
	var err error
	switch p.m.Way {
	case mapped:
		err = p.byMap()
	case copyRange:
		err = p.within(func(n int) (int, error) {
			in, out := p.at, p.at
			return unix.CopyFileRange(p.from, &in, p.to, &out, n, 0)
		})
	case sendFile:
		err = p.within(func(n int) (int, error) {
			at := p.at
			return unix.Sendfile(p.to, p.from, &at, n)
		})
	case splice:
		err = p.bySplice()
	default:
		err = p.byReadWrite()
	}
	if err == nil && p.m.To == "" {
		err = p.received()
	}
	return err
}

// next is how much is asked for next.
func (p *part) next() int { return int(min(int64(p.m.Block), p.end-p.at)) }

func (p *part) passed(n int) {
	p.at += int64(n)
	p.moved += int64(n)
}

// again calls a system call until it was not interrupted.
func (p *part) again(call func() (int, error)) (int, error) {
	for {
		p.calls++
		n, err := call()
		if err != unix.EINTR {
			return n, err
		}
	}
}

// within has the kernel move block after block.
func (p *part) within(block func(n int) (int, error)) error {
	for p.at < p.end {
		n, err := p.again(func() (int, error) { return block(p.next()) })
		if err != nil {
			return failed(p.m.Way+" from", p.m.From, err)
		}
		if n == 0 {
			return errShort
		}
		p.passed(n)
	}
	return nil
}

func (p *part) byReadWrite() error {
	buf := p.m.buffers[p.i]
	for p.at < p.end {
		want := p.next()
		if p.m.Direct {
			want = len(buf) // whole blocks alone; the end of the file cuts it short
		}
		n, err := p.again(func() (int, error) { return unix.Pread(p.from, buf[:want], p.at) })
		if err != nil {
			return failed("read", p.m.From, err)
		}
		n = min(n, p.next())
		if n == 0 {
			return errShort
		}
		if err := p.write(buf, n); err != nil {
			return err
		}
		p.passed(n)
	}
	return nil
}

// write writes n bytes of buf where the part stands.
func (p *part) write(buf []byte, n int) error {
	whole := n
	if p.m.Direct {
		whole = (n + alignment - 1) / alignment * alignment
	}
	for done := 0; done < whole; {
		k, err := p.again(func() (int, error) {
			if p.m.To == "" {
				return unix.Write(p.to, buf[done:whole])
			}
			return unix.Pwrite(p.to, buf[done:whole], p.at+int64(done))
		})
		if err != nil {
			return failed("write", p.m.To, err)
		}
		done += k
	}
	return nil
}

func (p *part) byMap() (err error) {
	if p.at == p.end {
		return nil
	}
	// A file that becomes shorter takes its pages away from under whoever reads them.
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if recover() != nil {
			err = errShort
		}
	}()
	first := p.at / alignment * alignment // parts begin at whole blocks, which need not be whole pages
	length := int(p.end - first)
	p.calls += 2
	in, err := unix.Mmap(p.from, first, length, unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return failed("map", p.m.From, err)
	}
	defer unix.Munmap(in)
	if p.m.To == "" {
		for p.at < p.end {
			n := p.next()
			if err := p.write(in[p.at-first:], n); err != nil {
				return err
			}
			p.passed(n)
		}
		return nil
	}
	p.calls += 2
	out, err := unix.Mmap(p.to, first, length, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return failed("map", p.m.To, err)
	}
	defer unix.Munmap(out)
	for p.at < p.end {
		n, at := p.next(), p.at-first
		copy(out[at:at+int64(n)], in[at:at+int64(n)])
		p.passed(n)
	}
	return nil
}

func (p *part) bySplice() error {
	var pipe [2]int
	p.calls += 3 // and both ends closed
	if err := unix.Pipe2(pipe[:], unix.O_CLOEXEC); err != nil {
		return failed("open a pipe for", p.m.From, err)
	}
	defer unix.Close(pipe[0])
	defer unix.Close(pipe[1])
	p.calls++
	unix.FcntlInt(uintptr(pipe[1]), unix.F_SETPIPE_SZ, p.m.Block) // what is not allowed goes in smaller pieces
	for p.at < p.end {
		in := p.at
		n, err := p.again(func() (int, error) {
			k, err := unix.Splice(p.from, &in, pipe[1], nil, p.next(), unix.SPLICE_F_MOVE)
			return int(k), err
		})
		if err != nil {
			return failed("splice from", p.m.From, err)
		}
		if n == 0 {
			return errShort
		}
		for left := n; left > 0; {
			k, err := p.again(func() (int, error) {
				var out *int64
				if at := p.at + int64(n-left); p.m.To != "" {
					out = &at
				}
				k, err := unix.Splice(pipe[0], nil, p.to, out, left, unix.SPLICE_F_MOVE)
				return int(k), err
			})
			if err != nil {
				return failed("splice to", p.m.To, err)
			}
			left -= k
		}
		p.passed(n)
	}
	return nil
}

// received waits until the socket's other end has it all.
func (p *part) received() error {
	var said [1]byte
	n, err := p.again(func() (int, error) { return unix.Read(p.m.sockets[p.i].control, said[:]) })
	if err != nil || n == 0 {
		return fmt.Errorf("wait for the socket's other end: %w", cmpErr(err))
	}
	return nil
}

func cmpErr(err error) error {
	if err == nil {
		return io.ErrUnexpectedEOF
	}
	return err
}

// moveError is a system call that failed, with what was attempted.
type moveError struct {
	doing, path string
	errno       error
}

func failed(doing, path string, err error) error { return &moveError{doing, path, err} }

func (e *moveError) Unwrap() error { return e.errno }

func (e *moveError) Error() string { return fmt.Sprintf("%s %s: %v", e.doing, e.path, e.errno) }

// advised is an error of moving, with what can be done about it.
func advised(err, errno error) error {
	try := "see whether both files may be read and written by this user"
	switch {
	case errors.Is(errno, unix.EXDEV):
		try = "use sendfile or splice: these two file systems do not copy to one another within the kernel"
	case errors.Is(errno, unix.EINVAL), errors.Is(errno, unix.EOPNOTSUPP), errors.Is(errno, unix.ENOSYS),
		errors.Is(errno, unix.ENODEV):
		try = "use another way, or files elsewhere: this file system, or its kernel, cannot do that"
	case errors.Is(errno, unix.ENOSPC):
		try = "make room on the disk"
	}
	return &contender.Hint{Err: err, Try: try}
}
