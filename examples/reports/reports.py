"""Three questions inside a program, as functions of a worker: a new object for each position report or one from a pool;
futures awaited in turn or together; lines printed one by one, buffered, or by a thread of its own."""

import hashlib
import os
import pathlib
import queue
import sys
import threading
from concurrent.futures import ThreadPoolExecutor

sys.path.insert(0, str(pathlib.Path(__file__).parents[2] / "workers" / "python"))
import paceduel_worker as worker


class Report:
    def __init__(self, berth):
        self.berth, self.east, self.north = berth, berth * 2, berth * 3


def total(count):
    """What the reports of so many entries add up to, so that both are held to the same work."""
    rest = count % 8
    return 5 * (28 * (count // 8) + rest * (rest - 1) // 2)


def fresh(params):
    def loop(thread, n):
        seen = 0
        for i in range(n):
            report = Report(i & 7)
            seen += report.east + report.north
        return "as expected" if seen == total(n) else seen

    return loop


def pooled(params):
    pool = [Report(berth) for berth in range(8)]

    def loop(thread, n):
        seen = 0
        for i in range(n):
            report = pool[i & 7]
            seen += report.east + report.north
        return "as expected" if seen == total(n) else seen

    return loop


PAGES = [bytes([i]) * 65536 for i in range(8)]


def digest(page):
    return hashlib.sha256(page).hexdigest()[:8]


def in_turn(params):
    pool = ThreadPoolExecutor(2)

    def loop(thread, n):
        for _ in range(n):
            digests = [pool.submit(digest, page).result() for page in PAGES]
        return " ".join(digests)

    return loop


def together(params):
    pool = ThreadPoolExecutor(2)

    def loop(thread, n):
        for _ in range(n):
            digests = [future.result() for future in [pool.submit(digest, page) for page in PAGES]]
        return " ".join(digests)

    return loop


LINE = b"the tide is in at berth 3\n"


def one_by_one(params):
    def loop(thread, n):
        for _ in range(n):
            os.write(1, LINE)
        return "printed"

    return loop


def buffered(params):
    out = open(1, "wb", buffering=8192, closefd=False)

    def loop(thread, n):
        for _ in range(n):
            out.write(LINE)
        out.flush()
        return "printed"

    return loop


def own_thread(params):
    lines = queue.SimpleQueue()

    def write():
        while (line := lines.get()) is not None:
            if isinstance(line, threading.Event):
                line.set()
            else:
                os.write(1, line)

    threading.Thread(target=write, daemon=True).start()

    def loop(thread, n):
        for _ in range(n):
            lines.put(LINE)
        written = threading.Event()
        lines.put(written)
        written.wait()
        return "printed"

    return loop


worker.serve("reports", *(worker.Function(name, make) for name, make in {
    "fresh": fresh, "pooled": pooled, "in turn": in_turn, "together": together, "one by one": one_by_one,
    "buffered": buffered, "own thread": own_thread}.items()))
