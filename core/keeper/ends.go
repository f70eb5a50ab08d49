package keeper

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// passOverEnds has the kernel tell us of no child that ends, unless we wait for it. The runtime handles every signal
// there is, so that each end would wake some thread of ours to do nothing, just when a run has ended and the next one
// is to begin; nobody here listens for these signals. By default they are passed over, and children can still be waited
// for, which is not so where the signals are ignored.
func passOverEnds() {
	var byDefault struct { // the kernel's sigaction
		handler, flags, restorer uintptr
		mask                     uint64
	}
	unix.RawSyscall6(unix.SYS_RT_SIGACTION, uintptr(unix.SIGCHLD), uintptr(unsafe.Pointer(&byDefault)), 0,
		unsafe.Sizeof(byDefault.mask), 0, 0) // where that fails we are woken
}
