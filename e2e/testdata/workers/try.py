"""Counts, with a lock and without, as a worker."""

import os
import sys
import threading

sys.path.insert(0, os.environ["WORKERS"] + "/python")
import paceduel_worker as worker


def plain(params):
    def loop(thread, n):
        x = 1
        for _ in range(n):
            x = x * params["by"] % 1000003
        return x

    return loop


def locked(params):
    lock, chart = threading.Lock(), {}

    def loop(thread, n):
        for i in range(n):
            with lock:
                chart[i % 100] = i
        return len(chart)

    return loop


worker.serve("try", worker.Function("plain", plain, {"by": 7}), worker.Function("locked", locked, threads=4))
