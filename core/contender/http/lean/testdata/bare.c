// The bare loop that the lean path is measured against, and the cheap server that both ask.
//
//   bare serve                     prints its port, then answers every request with the same 13 bytes
//   bare ask PORT CONNS SECONDS    one epoll loop over CONNS connections, each asking again when answered;
//                                  prints shots, seconds, CPU seconds, p50 and p99 in nanoseconds
//   bare rate PORT CONNS SECONDS RATE   the same with shots due RATE times a second, latency from when each was due;
//                                  a thread with a timer slack of 1 ns waits in epoll_pwait2
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <netinet/tcp.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static const char answer[] = "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 13\r\n\r\ntide is in \r\n";
static const char request[] = "GET /tide HTTP/1.1\r\nHost: 127.0.0.1\r\nUser-Agent: paceduel\r\n\r\n";

static int64_t now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1000000000LL + t.tv_nsec;
}

static int compare(const void *a, const void *b) {
	int64_t x = *(const int64_t *)a, y = *(const int64_t *)b;
	return (x > y) - (x < y);
}

static int serve(void) {
	int one = 1, l = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
	socklen_t size = sizeof at;
	if (bind(l, (struct sockaddr *)&at, sizeof at) || listen(l, 1024) || getsockname(l, (struct sockaddr *)&at, &size)) return 1;
	printf("%d\n", ntohs(at.sin_port));
	fflush(stdout);
	int e = epoll_create1(0);
	struct epoll_event ev = {.events = EPOLLIN, .data.fd = l}, events[64];
	epoll_ctl(e, EPOLL_CTL_ADD, l, &ev);
	char buf[4096];
	for (;;) {
		int n = epoll_wait(e, events, 64, -1);
		for (int i = 0; i < n; i++) {
			int fd = events[i].data.fd;
			if (fd == l) {
				int c = accept4(l, NULL, NULL, SOCK_NONBLOCK);
				if (c < 0) continue;
				setsockopt(c, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
				ev.data.fd = c;
				epoll_ctl(e, EPOLL_CTL_ADD, c, &ev);
				continue;
			}
			ssize_t got = recv(fd, buf, sizeof buf, 0);
			if (got <= 0) { close(fd); continue; }
			send(fd, answer, sizeof answer - 1, MSG_NOSIGNAL);
		}
	}
}

static int ask(int port, int conns, double seconds) {
	int e = epoll_create1(0), one = 1;
	int64_t *began = calloc(conns, sizeof *began), *all = malloc(sizeof *all * 20000000);
	int *fds = calloc(conns, sizeof *fds);
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK), .sin_port = htons(port)};
	for (int i = 0; i < conns; i++) {
		fds[i] = socket(AF_INET, SOCK_STREAM, 0);
		if (connect(fds[i], (struct sockaddr *)&at, sizeof at)) return 1;
		setsockopt(fds[i], IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
		struct epoll_event ev = {.events = EPOLLIN, .data.u32 = i};
		epoll_ctl(e, EPOLL_CTL_ADD, fds[i], &ev);
	}
	long shots = 0;
	char buf[65536];
	struct epoll_event events[256];
	int64_t start = now(), end = start + (int64_t)(seconds * 1e9);
	for (int i = 0; i < conns; i++) {
		began[i] = now();
		send(fds[i], request, sizeof request - 1, MSG_NOSIGNAL);
	}
	int active = conns;
	while (active > 0) {
		int n = epoll_wait(e, events, 256, 100);
		for (int k = 0; k < n; k++) {
			int i = events[k].data.u32;
			ssize_t got = recv(fds[i], buf, sizeof buf, MSG_DONTWAIT);
			if (got != sizeof answer - 1) return 1;
			int64_t t = now();
			all[shots++] = t - began[i];
			if (t >= end) { active--; continue; }
			began[i] = t;
			send(fds[i], request, sizeof request - 1, MSG_NOSIGNAL);
		}
	}
	double took = (now() - start) / 1e9;
	struct rusage u;
	getrusage(RUSAGE_SELF, &u);
	double cpu = u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
	qsort(all, shots, sizeof *all, compare);
	printf("%ld %f %f %ld %ld\n", shots, took, cpu, (long)all[shots / 2], (long)all[shots * 99 / 100]);
	return 0;
}

static int rate(int port, int conns, double seconds, double per) {
	prctl(PR_SET_TIMERSLACK, 1, 0, 0, 0);
	int e = epoll_create1(0), one = 1;
	int64_t *due = calloc(conns, sizeof *due), *all = malloc(sizeof *all * 20000000);
	int *fds = calloc(conns, sizeof *fds), *spare = calloc(conns, sizeof *spare), spares = conns;
	struct sockaddr_in at = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK), .sin_port = htons(port)};
	for (int i = 0; i < conns; i++) {
		fds[i] = socket(AF_INET, SOCK_STREAM, 0);
		if (connect(fds[i], (struct sockaddr *)&at, sizeof at)) return 1;
		setsockopt(fds[i], IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
		struct epoll_event ev = {.events = EPOLLIN, .data.u32 = i};
		epoll_ctl(e, EPOLL_CTL_ADD, fds[i], &ev);
		spare[i] = i;
	}
	long shots = 0, sent = 0, total = (long)(seconds * per);
	char buf[65536];
	struct epoll_event events[256];
	int64_t start = now();
	while (shots < total) {
		int64_t t = now(), left = 100000000;
		while (sent < total && spares > 0) {
			int64_t moment = start + (int64_t)(sent * 1e9 / per);
			left = moment - t;
			if (left > 0) break;
			int i = spare[--spares];
			due[i] = moment;
			send(fds[i], request, sizeof request - 1, MSG_NOSIGNAL);
			sent++;
		}
		struct timespec wait = {left > 0 ? left / 1000000000 : 0, left > 0 ? left % 1000000000 : 0};
		int n = epoll_pwait2(e, events, 256, &wait, NULL);
		for (int k = 0; k < n; k++) {
			int i = events[k].data.u32;
			if (recv(fds[i], buf, sizeof buf, MSG_DONTWAIT) != sizeof answer - 1) return 1;
			all[shots++] = now() - due[i];
			spare[spares++] = i;
		}
	}
	double took = (now() - start) / 1e9;
	struct rusage u;
	getrusage(RUSAGE_SELF, &u);
	double cpu = u.ru_utime.tv_sec + u.ru_stime.tv_sec + (u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
	qsort(all, shots, sizeof *all, compare);
	printf("%ld %f %f %ld %ld\n", shots, took, cpu, (long)all[shots / 2], (long)all[shots * 99 / 100]);
	return 0;
}

int main(int n, char **args) {
	if (n == 2 && !strcmp(args[1], "serve")) return serve();
	if (n == 5 && !strcmp(args[1], "ask")) return ask(atoi(args[2]), atoi(args[3]), atof(args[4]));
	if (n == 6 && !strcmp(args[1], "rate")) return rate(atoi(args[2]), atoi(args[3]), atof(args[4]), atof(args[5]));
	return 2;
}
