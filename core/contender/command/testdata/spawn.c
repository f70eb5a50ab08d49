// The bare spawn loop that runs of commands are measured against.
//
//   spawn RUNS PROGRAM [told]   runs PROGRAM one after another, its input and output being /dev/null, and prints
//                               runs, own CPU seconds (not the children's), p50 and p99 of the wall time in nanoseconds
//
// With told it does what Go's standard library does for each process and what we have to do: a pipe tells whether the
// program could be started, the end is seen before the process is reaped, and then its group is asked after.
#define _GNU_SOURCE
#include <fcntl.h>
#include <spawn.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

extern char **environ;

static int64_t now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static int compare(const void *a, const void *b) {
	int64_t x = *(const int64_t *)a, y = *(const int64_t *)b;
	return (x > y) - (x < y);
}

int main(int n, char **args) {
	if (n < 3) return 2;
	int told = n > 3 && !strcmp(args[3], "told");
	long runs = atol(args[1]);
	int64_t *all = malloc(sizeof *all * runs);
	char *argv[] = {args[2], NULL};
	posix_spawn_file_actions_t files;
	posix_spawn_file_actions_init(&files);
	posix_spawn_file_actions_addopen(&files, 0, "/dev/null", O_RDONLY, 0);
	posix_spawn_file_actions_addopen(&files, 1, "/dev/null", O_WRONLY, 0);
	posix_spawn_file_actions_addopen(&files, 2, "/dev/null", O_WRONLY, 0);
	for (long i = 0; i < runs; i++) {
		pid_t pid;
		int status;
		int64_t began = now();
		int ends[2];
		if (told && pipe2(ends, O_CLOEXEC)) return 1;
		if (posix_spawn(&pid, args[2], &files, NULL, argv, environ)) return 1;
		if (told) {
			char fault[8];
			close(ends[1]);
			if (read(ends[0], fault, sizeof fault)) return 1;
			close(ends[0]);
			siginfo_t end;
			waitid(P_PID, pid, &end, WEXITED | WNOWAIT);
		}
		if (waitpid(pid, &status, 0) != pid || status) return 1;
		if (told) waitpid(-pid, &status, 0);
		all[i] = now() - began;
	}
	struct rusage u;
	getrusage(RUSAGE_SELF, &u);
	double cpu = u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
	qsort(all, runs, sizeof *all, compare);
	printf("%ld %f %ld %ld\n", runs, cpu, (long)all[runs / 2], (long)all[runs * 99 / 100]);
	return 0;
}
