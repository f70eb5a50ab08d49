/* Makes a program a worker: it runs its own functions when Pace Duel asks it to, and measures them.
 * docs/worker-protocol.md is what both speak. The file depends on nothing but POSIX: copy it. Build with -pthread.
 *
 *	#include "paceduel_worker.h"
 *
 *	struct state { uint64_t by; };
 *
 *	static void *make(const struct pd_params *p) {          // the function's state anew
 *		struct state *s = malloc(sizeof *s);
 *		s->by = (uint64_t)pd_number(p, "by");
 *		return s;
 *	}
 *	static double multiply(void *state, int thread, int64_t n) { // does n operations on a thread
 *		uint64_t x = 1, by = ((struct state *)state)->by;
 *		while (n-- > 0) x = x * by + 1;
 *		return (double)x;                                // kept alive, and compared at the weigh-in
 *	}
 *	int main(void) {
 *		static const struct pd_param params[] = {{"by", 3}, {0}};
 *		static const struct pd_function functions[] = {
 *			{.name = "multiply", .params = params, .threads = 8, .make = make, .loop = multiply, .drop = free}, {0}};
 *		return pd_serve("multiplications", functions);
 *	}
 */
#ifndef PACEDUEL_WORKER_H
#define PACEDUEL_WORKER_H

#include <ctype.h>
#include <math.h>
#include <netinet/in.h>
#include <arpa/inet.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <time.h>
#include <unistd.h>

/* A parameter: a number with its default. */
struct pd_param { const char *name; double value; };

enum { PD_MOST_PARAMS = 16, PD_MOST_THREADS = 256, PD_MOST_MEANS = 1000, PD_BARS = 42 * 128, PD_LINE = 1 << 20 };

struct pd_params { int n; struct pd_param each[PD_MOST_PARAMS]; };

/* A function that can be asked for. make and drop may be 0; loop returns NAN where nothing comes of it. */
struct pd_function {
	const char *name, *about;
	const struct pd_param *params; /* up to one without a name; 0: none */
	int threads;                   /* that may run it at once; 0: one */
	void *(*make)(const struct pd_params *);
	double (*loop)(void *state, int thread, int64_t n);
	void (*drop)(void *state);
};

static inline double pd_number(const struct pd_params *p, const char *name) {
	for (int i = 0; i < p->n; i++)
		if (strcmp(p->each[i].name, name) == 0) return p->each[i].value;
	return NAN;
}

/* ---- the clock ---- */

static inline double pd_now(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return (double)t.tv_sec * 1e9 + (double)t.tv_nsec;
}

static int pd_ascending(const void *a, const void *b) {
	double x = *(const double *)a, y = *(const double *)b;
	return (x > y) - (x < y);
}

static double pd_median(double *each, int n) {
	qsort(each, (size_t)n, sizeof *each, pd_ascending);
	return each[n / 2];
}

static volatile double pd_kept; /* what loops return, so that no work is left out */

/* The median of what a look at the clock takes. */
static double pd_look_cost(void) {
	double took[101];
	for (int i = 0; i < 101; i++) {
		double began = pd_now();
		for (int j = 0; j < 100; j++) pd_kept = pd_now();
		took[i] = (pd_now() - began) / 101;
	}
	return pd_median(took, 101);
}

/* What an operation of an empty loop takes. */
static double pd_empty_cost(void) {
	const int64_t n = 10000000;
	double began = pd_now();
	for (int64_t i = 0; i < n; i++) __asm__ volatile("" : "+r"(i));
	return (pd_now() - began) / (double)n;
}

/* ---- the line ---- */

struct pd_line { int fd; size_t used, start; char text[PD_LINE]; };

/* The next line without its end, or 0 when there is none any more. */
static char *pd_read(struct pd_line *l) {
	for (;;) {
		char *end = memchr(l->text + l->start, '\n', l->used - l->start);
		if (end) {
			char *line = l->text + l->start;
			*end = 0;
			l->start = (size_t)(end + 1 - l->text);
			return line;
		}
		memmove(l->text, l->text + l->start, l->used - l->start);
		l->used -= l->start;
		l->start = 0;
		if (l->used == sizeof l->text) return 0;
		ssize_t n = read(l->fd, l->text + l->used, sizeof l->text - l->used);
		if (n <= 0) return 0;
		l->used += (size_t)n;
	}
}

struct pd_text { char *text; size_t used, room; };

static void pd_say(struct pd_text *t, const char *format, ...) {
	va_list args;
	for (;;) {
		va_start(args, format);
		int n = vsnprintf(t->text + t->used, t->room - t->used, format, args);
		va_end(args);
		if (t->used + (size_t)n < t->room) {
			t->used += (size_t)n;
			return;
		}
		t->room = 2 * (t->used + (size_t)n + 1);
		t->text = realloc(t->text, t->room);
		if (!t->text) abort();
	}
}

static void pd_quote(struct pd_text *t, const char *text) {
	pd_say(t, "\"");
	for (; text && *text; text++) {
		if (*text == '"' || *text == '\\') pd_say(t, "\\%c", *text);
		else if ((unsigned char)*text < 32) pd_say(t, "\\u%04x", *text);
		else pd_say(t, "%c", *text);
	}
	pd_say(t, "\"");
}

static void pd_send(int fd, struct pd_text *t) {
	pd_say(t, "\n");
	for (size_t at = 0; at < t->used;) {
		ssize_t n = write(fd, t->text + at, t->used - at);
		if (n <= 0) exit(2);
		at += (size_t)n;
	}
	free(t->text);
	*t = (struct pd_text){0};
}

/* ---- reading JSON: the members of an object at the top, one by one ---- */

static const char *pd_space(const char *p) {
	while (isspace((unsigned char)*p)) p++;
	return p;
}

/* Skips a value; 0 where it is none. */
static const char *pd_skip(const char *p) {
	int depth = 0;
	for (p = pd_space(p); *p; p++) {
		if (*p == '"') {
			for (p++; *p && *p != '"'; p++)
				if (*p == '\\' && p[1]) p++;
			if (!*p) return 0;
		} else if (*p == '{' || *p == '[') depth++;
		else if (*p == '}' || *p == ']') {
			if (depth-- == 0) return p;
		} else if (depth == 0 && *p == ',') return p;
		if (depth == 0 && (*p == '"' || *p == '}' || *p == ']')) return p + 1;
	}
	return depth == 0 ? p : 0;
}

/* The value of a member of an object, or 0. */
static const char *pd_member(const char *object, const char *name) {
	const char *p = pd_space(object);
	if (*p++ != '{') return 0;
	for (;;) {
		p = pd_space(p);
		if (*p != '"') return 0;
		const char *key = p + 1;
		p = pd_skip(p);
		if (!p) return 0;
		size_t n = (size_t)(p - 1 - key);
		p = pd_space(p);
		if (*p++ != ':') return 0;
		if (n == strlen(name) && strncmp(key, name, n) == 0) return pd_space(p);
		p = pd_skip(p);
		if (!p) return 0;
		p = pd_space(p);
		if (*p++ != ',') return 0;
	}
}

/* Whether a value is that text; texts with escapes are none of ours. */
static int pd_is(const char *value, const char *text) {
	size_t n = strlen(text);
	return value && *value == '"' && strncmp(value + 1, text, n) == 0 && value[1 + n] == '"';
}

static double pd_value(const char *value, double otherwise) {
	if (!value) return otherwise;
	char *end;
	double x = strtod(value, &end);
	return end == value ? otherwise : x;
}

/* ---- running ---- */

struct pd_turn {
	struct pd_server *server;
	int thread, means;
	int64_t operations, batch, done;
	double holds, busy, *each;
	uint32_t *times; /* of operations, by their first eight binary digits; 0 where none is timed by itself */
	pthread_t id;
};

struct pd_server {
	int fd;
	const struct pd_function *f; /* that was prepared; 0: none */
	void *state;
	int threads;
	int64_t batch;
	double clock, pace; /* nanoseconds: a look at the clock; an operation on one of the threads */
	int alone;          /* whether each operation is timed by itself */
	pthread_barrier_t gate;
	struct pd_turn turns[PD_MOST_THREADS];
};

/* Does n operations and times each by itself; returns how long all of them took. */
static double pd_one_by_one(uint32_t *times, const struct pd_function *f, void *state, int thread, int64_t n, double clock) {
	double taken = 0;
	while (n-- > 0) {
		double began = pd_now();
		pd_kept = f->loop(state, thread, 1);
		double took = pd_now() - began - clock;
		if (took < 0) took = 0;
		taken += took;
		int64_t whole = (int64_t)took;
		int shift = 0;
		while (whole >> shift >= 256) shift++;
		int64_t bar = shift * 128 + (whole >> shift);
		times[bar < PD_BARS ? bar : PD_BARS - 1]++;
	}
	return taken;
}

static double pd_nothing(void *state, int thread, int64_t n) {
	(void)state, (void)thread, (void)n;
	return 0;
}

/* What it costs to time an operation by itself: calling it, looking at the clock twice, and entering it. */
static double pd_alone_cost(void) {
	const int n = 10000;
	static uint32_t times[PD_BARS];
	struct pd_function empty = {.loop = pd_nothing};
	double began = pd_now();
	pd_one_by_one(times, &empty, 0, 0, n, 0);
	return (pd_now() - began) / n;
}

static void *pd_turn(void *of) {
	struct pd_turn *t = of;
	struct pd_server *s = t->server;
	pthread_barrier_wait(&s->gate);
	double began = pd_now(), before = began;
	while (t->holds > 0 ? before - began < t->holds : t->done < t->operations) {
		int64_t n = t->batch;
		if (t->holds <= 0 && t->operations - t->done < n) n = t->operations - t->done;
		double at, took;
		if (t->times) {
			took = pd_one_by_one(t->times, s->f, s->state, t->thread, n, s->clock);
			at = pd_now();
		} else {
			pd_kept = s->f->loop(s->state, t->thread, n);
			at = pd_now();
			took = at - before - s->clock;
		}
		before = at;
		t->done += n;
		t->busy += took > 0 ? took : 0;
		if (t->means < PD_MOST_MEANS) t->each[t->means++] = (took > 0 ? took : 0) / (double)n;
	}
	return 0;
}

/* Has all threads begin at one moment; returns how long it took until the last was done. */
static double pd_work(struct pd_server *s, int64_t operations, int64_t batch, double holds) {
	pthread_barrier_init(&s->gate, 0, (unsigned)s->threads + 1);
	for (int i = 0; i < s->threads; i++) {
		struct pd_turn *t = &s->turns[i];
		double *each = t->each ? t->each : malloc(PD_MOST_MEANS * sizeof *each);
		free(t->times);
		*t = (struct pd_turn){.server = s, .thread = i, .batch = batch, .holds = holds, .each = each};
		if (s->alone && !(t->times = calloc(PD_BARS, sizeof *t->times))) abort();
		t->operations = operations / s->threads + (i < operations % s->threads);
		if (pthread_create(&t->id, 0, pd_turn, t) != 0) abort();
	}
	pthread_barrier_wait(&s->gate);
	double began = pd_now();
	for (int i = 0; i < s->threads; i++) pthread_join(s->turns[i].id, 0);
	double elapsed = pd_now() - began;
	for (int i = 0; i < s->threads; i++)
		if (s->turns[i].busy > elapsed) elapsed = s->turns[i].busy; /* they may have begun a hair before us */
	pthread_barrier_destroy(&s->gate);
	return elapsed;
}

static double pd_once(struct pd_server *s) {
	double longest = 0;
	pd_work(s, s->batch * s->threads, s->batch, 0);
	for (int i = 0; i < s->threads; i++)
		if (s->turns[i].busy > longest) longest = s->turns[i].busy;
	return longest;
}

/* Whether a batch takes so long that less than a hundredth of it goes into looking at the clock. */
static int pd_long(const struct pd_server *s, double took) {
	return (took > 100 * s->clock && took > 50000) || s->batch >= (int64_t)1 << 40;
}

/* Finds the batch and warms the function up until the medians of two stretches differ by less than a fiftieth. */
static int pd_settle(struct pd_server *s, double *warmup) {
	const double longest = 3e9;
	double began = pd_now(), before = 0;
	for (s->batch = 1; !pd_long(s, pd_once(s)) && pd_now() - began < longest; s->batch *= 2) {
	}
	for (;;) {
		double each[25];
		for (int i = 0; i < 25; i++) each[i] = pd_once(s) / (double)s->batch;
		s->pace = pd_median(each, 25);
		*warmup = pd_now() - began;
		if (!pd_long(s, s->pace * (double)s->batch) && *warmup < longest) { /* one that was held up had looked longer */
			s->batch *= 2;
			before = 0;
			continue;
		}
		if (before > 0 && s->pace < before * 1.02 && before < s->pace * 1.02) return 1;
		if (*warmup > longest) return 0;
		before = s->pace;
	}
}

static void pd_trouble(struct pd_server *s, int64_t id, const char *what) {
	struct pd_text t = {0};
	pd_say(&t, "{\"say\": \"trouble\", \"id\": %lld, \"what\": ", (long long)id);
	pd_quote(&t, what);
	pd_say(&t, "}");
	pd_send(s->fd, &t);
}

/* The parameters with what is given in place of their defaults; 0 where one is given that there is not. */
static int pd_take(const struct pd_function *f, const char *given, struct pd_params *out) {
	out->n = 0;
	for (const struct pd_param *p = f->params; p && p->name && out->n < PD_MOST_PARAMS; p++) out->each[out->n++] = *p;
	if (!given || *given != '{') return 1;
	for (const char *p = pd_space(given + 1); *p == '"';) {
		const char *key = p + 1;
		if (!(p = pd_skip(p))) return 0;
		size_t n = (size_t)(p - 1 - key);
		int found = 0;
		p = pd_space(p);
		if (*p++ != ':') return 0;
		for (int i = 0; i < out->n; i++)
			if (strlen(out->each[i].name) == n && strncmp(out->each[i].name, key, n) == 0) {
				out->each[i].value = pd_value(pd_space(p), out->each[i].value);
				found = 1;
			}
		if (!found || !(p = pd_skip(p))) return 0;
		p = pd_space(p);
		if (*p != ',') break;
		p = pd_space(p + 1);
	}
	return 1;
}

static void pd_prepare(struct pd_server *s, const struct pd_function *all, const char *q, int64_t id) {
	const struct pd_function *f = all;
	const char *name = pd_member(q, "function");
	while (f->name && !pd_is(name, f->name)) f++;
	if (!f->name) {
		pd_trouble(s, id, "there is no function of that name");
		return;
	}
	struct pd_params params;
	if (!pd_take(f, pd_member(q, "params"), &params)) {
		pd_trouble(s, id, "the function has no parameter of that name");
		return;
	}
	int threads = (int)pd_value(pd_member(q, "threads"), 1), most = f->threads > 0 ? f->threads : 1;
	if (threads < 1 || threads > most || threads > PD_MOST_THREADS) {
		pd_trouble(s, id, "the function does not run on so many threads");
		return;
	}
	if (s->f && s->f->drop) s->f->drop(s->state);
	s->f = f;
	void *first = f->make ? f->make(&params) : 0;
	double called = pd_now(), result = f->loop(first, 0, 1), took = pd_now() - called, warmup;
	if (f->drop) f->drop(first);
	s->state = f->make ? f->make(&params) : 0;
	s->threads = threads;
	s->clock = pd_look_cost();
	s->alone = 0;
	int settled = pd_settle(s, &warmup);
	s->alone = s->pace > 100 * pd_alone_cost();
	struct pd_text t = {0};
	pd_say(&t, "{\"say\": \"prepared\", \"id\": %lld, \"batch\": %lld, \"clock_ns\": %.3f, \"empty_ns\": %.4f, ", (long long)id,
	       (long long)s->batch, s->clock, pd_empty_cost());
	if (!isnan(result)) pd_say(&t, "\"result\": %.17g, ", result);
	pd_say(&t, "\"first_ns\": %.0f, \"warmup_ns\": %.0f, \"settled\": %s}", took, warmup, settled ? "true" : "false");
	pd_send(s->fd, &t);
}

static void pd_run(struct pd_server *s, const char *q, int64_t id) {
	if (!s->f) {
		pd_trouble(s, id, "nothing was prepared");
		return;
	}
	int64_t operations = (int64_t)pd_value(pd_member(q, "operations"), 0), all = 0;
	double holds = pd_value(pd_member(q, "for_ns"), 0);
	double each = holds > 0 ? holds / (s->pace > 1e-3 ? s->pace : 1e-3) : (double)operations / s->threads;
	int64_t batch = s->batch > (int64_t)(each / PD_MOST_MEANS) ? s->batch : (int64_t)(each / PD_MOST_MEANS) + 1;
	double elapsed = pd_work(s, operations, batch, holds);
	struct pd_text t = {0};
	pd_say(&t, "{\"say\": \"ran\", \"id\": %lld, \"elapsed_ns\": %.1f, \"threads\": [", (long long)id, elapsed);
	for (int i = 0; i < s->threads; i++) {
		struct pd_turn *one = &s->turns[i];
		all += one->done;
		pd_say(&t, "%s{\"operations\": %lld, \"busy_ns\": %.1f, \"means_ns\": [", i ? ", " : "", (long long)one->done, one->busy);
		for (int j = 0; j < one->means; j++) pd_say(&t, "%s%.4f", j ? "," : "", one->each[j]);
		pd_say(&t, "]}");
	}
	pd_say(&t, "], \"times\": [");
	const char *comma = "";
	for (int bar = 0; s->alone && bar < PD_BARS; bar++) {
		int64_t count = 0, shift = bar < 256 ? 0 : bar / 128 - 1;
		for (int i = 0; i < s->threads; i++) count += s->turns[i].times[bar];
		double wide = (double)((int64_t)1 << shift);
		if (count) pd_say(&t, "%s[%.1f,%lld]", comma, (double)(bar - shift * 128) * wide + (wide - 1) / 2, (long long)count);
		if (count) comma = ",";
	}
	pd_say(&t, "], \"operations\": %lld}", (long long)all);
	pd_send(s->fd, &t);
}

static void pd_hello(struct pd_server *s, const char *name, const struct pd_function *all) {
	struct pd_text t = {0};
	pd_say(&t, "{\"say\": \"hello\", \"protocol\": 1, \"runtime\": \"C\", \"version\": ");
#ifdef __VERSION__
	pd_quote(&t, __VERSION__);
#else
	pd_quote(&t, "unknown");
#endif
	pd_say(&t, ", \"name\": ");
	pd_quote(&t, name);
	pd_say(&t, ", \"functions\": [");
	for (const struct pd_function *f = all; f->name; f++) {
		pd_say(&t, "%s{\"name\": ", f == all ? "" : ", ");
		pd_quote(&t, f->name);
		pd_say(&t, ", \"about\": ");
		pd_quote(&t, f->about ? f->about : "");
		pd_say(&t, ", \"threads\": %d, \"params\": {", f->threads > 0 ? f->threads : 1);
		for (const struct pd_param *p = f->params; p && p->name; p++) {
			if (p != f->params) pd_say(&t, ", ");
			pd_quote(&t, p->name);
			pd_say(&t, ": %.17g", p->value);
		}
		pd_say(&t, "}}");
	}
	pd_say(&t, "]}\n{\"say\": \"bells\", \"struck\": 8}"); /* nobody knows it, and everybody has to skip it */
	pd_send(s->fd, &t);
}

static int pd_connect(const char *where) {
	int fd = -1;
	if (where && strncmp(where, "unix:", 5) == 0) {
		struct sockaddr_un to = {.sun_family = AF_UNIX};
		fd = socket(AF_UNIX, SOCK_STREAM, 0);
		strncpy(to.sun_path, where + 5, sizeof to.sun_path - 1);
		if (fd >= 0 && connect(fd, (struct sockaddr *)&to, sizeof to) == 0) return fd;
	} else if (where && strncmp(where, "tcp:127.0.0.1:", 14) == 0) {
		struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons((uint16_t)atoi(where + 14))};
		fd = socket(AF_INET, SOCK_STREAM, 0);
		to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
		if (fd >= 0 && connect(fd, (struct sockaddr *)&to, sizeof to) == 0) return fd;
	}
	if (fd >= 0) close(fd);
	return -1;
}

/* Answers pings on a thread of its own, beside the functions. */
static void *pd_send_back(void *fd) {
	char text[256];
	for (ssize_t n; (n = read((int)(intptr_t)fd, text, sizeof text)) > 0;) {
		for (ssize_t at = 0, sent; at < n; at += sent) {
			if ((sent = write((int)(intptr_t)fd, text + at, (size_t)(n - at))) < 0) return 0;
		}
	}
	return 0;
}

static void pd_answer_pings(void) {
	int fd = pd_connect(getenv("PACEDUEL_PINGS"));
	pthread_t thread;
	if (fd >= 0 && pthread_create(&thread, 0, pd_send_back, (void *)(intptr_t)fd) == 0) pthread_detach(thread);
}

/* Connects to whoever started the program, and answers until it is told to stop. It returns what main returns. */
static int pd_serve(const char *name, const struct pd_function *functions) {
	static struct pd_line line;
	static struct pd_server s;
	pd_answer_pings();
	line.fd = s.fd = pd_connect(getenv("PACEDUEL_WORKER"));
	if (s.fd < 0) {
		fprintf(stderr, "this is a worker: paceduel worker check -- and this command try it out\n");
		return 2;
	}
	pd_hello(&s, name, functions);
	for (char *q; (q = pd_read(&line));) {
		const char *say = pd_member(q, "say");
		int64_t id = (int64_t)pd_value(pd_member(q, "id"), 0);
		if (pd_is(say, "stop")) break;
		if (pd_is(say, "prepare")) pd_prepare(&s, functions, q, id);
		if (pd_is(say, "run")) pd_run(&s, q, id);
	}
	close(s.fd);
	return 0;
}

#endif
