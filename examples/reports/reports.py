"""Position reports, made anew for each entry or taken from a pool, as functions of a worker."""

import pathlib
import sys

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


worker.serve("reports", worker.Function("fresh", fresh), worker.Function("pooled", pooled))
