// A bare loop that moves a file as the ways of package path do, with the same system calls, and says how fast:
//   loop WAY FROM TO BLOCK TIMES
// It prints the bytes of one time, and the seconds of the middle one.
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/sendfile.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static void die(const char *what) { perror(what); exit(1); }
static double now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}
static int compare(const void *a, const void *b) { double x = *(double *)a, y = *(double *)b; return x < y ? -1 : x > y; }

// What a library copies memory with differs between languages; this is the plain way of both.
typedef long long line __attribute__((vector_size(32), aligned(1), may_alias));
static void copy(char *to, const char *from, size_t n) {
	size_t i = 0;
	for (; i + 128 <= n; i += 128) {
		line a = *(line *)(from + i), b = *(line *)(from + i + 32), c = *(line *)(from + i + 64), d = *(line *)(from + i + 96);
		*(line *)(to + i) = a; *(line *)(to + i + 32) = b; *(line *)(to + i + 64) = c; *(line *)(to + i + 96) = d;
	}
	memcpy(to + i, from + i, n - i);
}

int main(int n, char **a) {
	if (n != 6) return 2;
	const char *way = a[1];
	size_t block = atol(a[4]);
	int times = atoi(a[5]);
	char *buf = mmap(NULL, block, PROT_READ | PROT_WRITE, MAP_ANONYMOUS | MAP_PRIVATE, -1, 0);
	double *took = calloc(times, sizeof *took);
	off_t size = 0;
	for (int i = 0; i < times; i++) {
		unlink(a[3]);
		double start = now();
		int from = open(a[2], O_RDONLY | O_CLOEXEC);
		struct stat s;
		if (from < 0 || fstat(from, &s) < 0) die(a[2]);
		int map = !strcmp(way, "map");
		int to = open(a[3], (map ? O_RDWR : O_WRONLY) | O_CREAT | O_CLOEXEC, 0644);
		if (to < 0) die(a[3]);
		size = s.st_size;
		off_t at = 0;
		if (map) {
			if (ftruncate(to, size) < 0) die("ftruncate");
			char *in = mmap(NULL, size, PROT_READ, MAP_SHARED, from, 0);
			char *out = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, to, 0);
			if (in == MAP_FAILED || out == MAP_FAILED) die("mmap");
			for (; at < size; at += block) copy(out + at, in + at, block < (size_t)(size - at) ? block : (size_t)(size - at));
			munmap(out, size);
			munmap(in, size);
		} else if (!strcmp(way, "splice")) {
			int pipes[2];
			if (pipe2(pipes, O_CLOEXEC) < 0) die("pipe2");
			fcntl(pipes[1], F_SETPIPE_SZ, block);
			while (at < size) {
				off_t in = at;
				ssize_t k = splice(from, &in, pipes[1], NULL, block, SPLICE_F_MOVE);
				if (k <= 0) die("splice");
				for (ssize_t left = k; left > 0;) {
					off_t out = at + k - left;
					ssize_t j = splice(pipes[0], NULL, to, &out, left, SPLICE_F_MOVE);
					if (j <= 0) die("splice");
					left -= j;
				}
				at += k;
			}
			close(pipes[0]);
			close(pipes[1]);
		} else {
			while (at < size) {
				off_t in = at, out = at;
				ssize_t k;
				size_t want = block < (size_t)(size - at) ? block : (size_t)(size - at);
				if (!strcmp(way, "copy-range")) k = copy_file_range(from, &in, to, &out, want, 0);
				else if (!strcmp(way, "sendfile")) k = sendfile(to, from, &in, want);
				else {
					k = pread(from, buf, want, at);
					if (k > 0 && pwrite(to, buf, k, at) != k) die("pwrite");
				}
				if (k <= 0) die(way);
				at += k;
			}
		}
		close(to);
		close(from);
		took[i] = now() - start;
	}
	qsort(took, times, sizeof *took, compare);
	printf("%lld %.9f\n", (long long)size, took[times / 2]);
	return 0;
}
