"""Functions of known cost: as a worker, or in a bare loop when started with a function's name, how many operations, and
its parameter. The bare loop says on standard error how many nanoseconds an operation took."""

import os
import sys
import time

sys.path.insert(0, os.environ["WORKERS"] + "/python")
import paceduel_worker as worker


def spin(params):
    length, now = params["length"], time.perf_counter_ns

    def loop(thread, n):
        for _ in range(n):
            until = now() + length
            while now() < until:
                pass
        return 1

    return loop


def sleep(params):
    length = params["length"] / 1e9

    def loop(thread, n):
        for _ in range(n):
            time.sleep(length)
        return 1

    return loop


def allocate(params):
    length, kept = int(params["length"]), [None] * 64

    def loop(thread, n):
        for i in range(n):
            kept[i & 63] = bytearray(length)
        return 1

    return loop


def echo(params):
    def loop(thread, n):
        for _ in range(n):
            print("the tide at Skerrow Harbour is 3.2 m", flush=True)
        return 1

    return loop


made = {"spin": spin, "sleep": sleep, "allocate": allocate, "print": echo}
if len(sys.argv) < 4:
    worker.serve("truth", *(worker.Function(name, make, {"length": 64}) for name, make in made.items()))
else:
    loop, n = made[sys.argv[1]]({"length": float(sys.argv[3])}), int(sys.argv[2])
    loop(0, n)
    began = time.perf_counter_ns()
    loop(0, n)
    print((time.perf_counter_ns() - began) / n, file=sys.stderr)
