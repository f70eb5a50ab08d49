package footing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"unsafe"

	"golang.org/x/sys/unix"
)

// eachFile calls do for every regular file that paths name, folders being walked. Links are not followed.
func eachFile(ctx context.Context, paths []string, do func(path string, size int64) error) error {
	count := 0
	for _, path := range paths {
		err := filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
			if err != nil || ctx.Err() != nil {
				return errors.Join(err, ctx.Err())
			}
			if !d.Type().IsRegular() {
				return nil
			}
			if count++; count > maxFiles {
				return fmt.Errorf("more than %d files", maxFiles)
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			return do(p, info.Size())
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// dropPages asks the kernel to let go of what it keeps of the files in memory. Whether it did is for residency to say.
func dropPages(ctx context.Context, paths []string) error {
	err := eachFile(ctx, paths, func(path string, _ int64) error {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := f.Sync(); err != nil { // what is not written yet cannot be let go
			return err
		}
		return unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
	})
	if err != nil {
		return fmt.Errorf("drop pages from memory: %w", err)
	}
	return nil
}

// readPages reads the files through, so that they are in memory.
func readPages(ctx context.Context, paths []string) error {
	buf := make([]byte, 1<<20)
	err := eachFile(ctx, paths, func(path string, _ int64) error {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.CopyBuffer(onlyWriter{io.Discard}, onlyReader{f}, buf)
		return err
	})
	if err != nil {
		return fmt.Errorf("read pages into memory: %w", err)
	}
	return nil
}

// onlyReader and onlyWriter keep io.CopyBuffer from shortcuts that leave the pages unread.
type onlyReader struct{ io.Reader }
type onlyWriter struct{ io.Writer }

// residency is the share of the files' pages that is in memory, 0 to 1; 0 for no pages at all. The kernel tells it only
// of files that we may write or own.
func residency(ctx context.Context, paths []string) (float64, error) {
	var in, all int64
	size := int64(os.Getpagesize())
	err := eachFile(ctx, paths, func(path string, length int64) error {
		if length == 0 {
			return nil
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		data, err := unix.Mmap(int(f.Fd()), 0, int(length), unix.PROT_READ, unix.MAP_SHARED)
		if err != nil {
			return fmt.Errorf("map %s: %w", path, err)
		}
		defer unix.Munmap(data)
		pages := make([]byte, (length+size-1)/size)
		if _, _, errno := unix.Syscall(
			unix.SYS_MINCORE, uintptr(unsafe.Pointer(&data[0])), uintptr(length), uintptr(unsafe.Pointer(&pages[0])),
		); errno != 0 {
			return fmt.Errorf("ask what of %s is in memory: %w", path, errno)
		}
		for _, p := range pages {
			in += int64(p & 1)
		}
		all += int64(len(pages))
		return nil
	})
	if err != nil || all == 0 {
		return 0, err
	}
	return float64(in) / float64(all), nil
}

const dropCaches = "/proc/sys/vm/drop_caches"

// dropMachine drops everything that this machine keeps of files in memory: pages, names and inodes.
func dropMachine() error {
	unix.Sync()
	f, err := os.OpenFile(dropCaches, os.O_WRONLY, 0)
	if err != nil {
		return fmt.Errorf("drop the machine's caches: %w", err)
	}
	defer f.Close()
	if _, err := f.WriteString("3\n"); err != nil {
		return fmt.Errorf("drop the machine's caches: %w", err)
	}
	return nil
}
