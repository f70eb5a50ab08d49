/* Multiplies, and does nothing, as a worker. */
#include "paceduel_worker.h"

struct state { uint64_t by; };

static void *make(const struct pd_params *p) {
	struct state *s = malloc(sizeof *s);
	s->by = (uint64_t)pd_number(p, "by");
	return s;
}

static double multiply(void *state, int thread, int64_t n) {
	uint64_t x = 1, by = ((struct state *)state)->by;
	(void)thread;
	while (n-- > 0) x = x * by + 1;
	return (double)x;
}

static double nothing(void *state, int thread, int64_t n) {
	(void)state, (void)thread, (void)n;
	return NAN;
}

int main(void) {
	static const struct pd_param params[] = {{"by", 3}, {0, 0}};
	static const struct pd_function functions[] = {
		{.name = "multiply", .params = params, .threads = 8, .make = make, .loop = multiply, .drop = free},
		{.name = "nothing", .loop = nothing}, {0}};
	return pd_serve("try", functions);
}
