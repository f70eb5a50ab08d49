/* Functions of known cost: as a worker, or in a bare loop when started with a function's name, how many operations, and
 * its parameter. The bare loop says on standard error how many nanoseconds an operation took. */
#define _GNU_SOURCE
#include "paceduel_worker.h"

struct state {
	int64_t length;
	pthread_mutex_t lock;
	void *kept[64];
};

static void *make(const struct pd_params *p) {
	struct state *s = calloc(1, sizeof *s);
	s->length = (int64_t)pd_number(p, "length");
	pthread_mutex_init(&s->lock, 0);
	return s;
}

/* Multiplications of which each needs the one before; length of them are one operation. */
static double multiply(void *state, int thread, int64_t n) {
	uint64_t x = 3;
	(void)thread;
	for (n *= ((struct state *)state)->length; n > 0; n--) x = x * 6364136223846793005u + 1;
	return (double)x;
}

static void spin_for(int64_t length) {
	double until = pd_now() + (double)length;
	while (pd_now() < until) {
	}
}

static double spin(void *state, int thread, int64_t n) {
	(void)thread;
	while (n-- > 0) spin_for(((struct state *)state)->length);
	return 1;
}

static double sleeps(void *state, int thread, int64_t n) {
	struct timespec t = {0, ((struct state *)state)->length};
	(void)thread;
	while (n-- > 0) nanosleep(&t, 0);
	return 1;
}

static double allocate(void *state, int thread, int64_t n) {
	struct state *s = state;
	(void)thread;
	for (; n > 0; n--) {
		void **slot = &s->kept[n & 63];
		free(*slot);
		*slot = malloc((size_t)s->length);
		memset(*slot, (int)n, (size_t)s->length);
	}
	return 1;
}

static double print(void *state, int thread, int64_t n) {
	(void)state, (void)thread;
	while (n-- > 0) {
		fputs("the tide at Skerrow Harbour is 3.2 m\n", stdout);
		fflush(stdout);
	}
	return 1;
}

static double locked(void *state, int thread, int64_t n) {
	struct state *s = state;
	(void)thread;
	while (n-- > 0) {
		pthread_mutex_lock(&s->lock);
		spin_for(s->length);
		pthread_mutex_unlock(&s->lock);
	}
	return 1;
}

struct bare {
	const struct pd_function *f;
	void *state;
	int64_t n;
};

/* On a thread of its own, since a process with one thread allocates and prints in other ways. */
static void *bare(void *of) {
	struct bare *b = of;
	b->f->loop(b->state, 0, b->n);
	double began = pd_now();
	pd_kept = b->f->loop(b->state, 0, b->n);
	fprintf(stderr, "%.4f\n", (pd_now() - began) / (double)b->n);
	return 0;
}

int main(int argc, char **argv) {
	static const struct pd_param params[] = {{"length", 64}, {0, 0}};
	static const struct pd_function functions[] = {
		{.name = "multiply", .params = params, .make = make, .loop = multiply},
		{.name = "spin", .params = params, .make = make, .loop = spin},
		{.name = "sleep", .params = params, .make = make, .loop = sleeps},
		{.name = "allocate", .params = params, .make = make, .loop = allocate},
		{.name = "print", .params = params, .make = make, .loop = print},
		{.name = "locked", .params = params, .make = make, .loop = locked, .threads = 8}, {0}};
	if (argc < 4) return pd_serve("truth", functions);
	const struct pd_function *f = functions;
	while (strcmp(f->name, argv[1]) != 0) f++;
	struct pd_params p = {1, {{"length", atof(argv[3])}}};
	struct bare b = {f, make(&p), atoll(argv[2])};
	pthread_t id;
	if (pthread_create(&id, 0, bare, &b) != 0) abort();
	pthread_join(id, 0);
	return 0;
}
