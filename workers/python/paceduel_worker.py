"""Makes a program a worker: it runs its own functions when Pace Duel asks it to, and measures them.

docs/worker-protocol.md is what both speak. The file depends on nothing but the standard library: copy it.

    import paceduel_worker as worker

    def locked(params):                    # makes the function's state anew
        chart, lock = {}, threading.Lock()
        def loop(thread, n):               # does n operations on a thread
            for i in range(n):
                with lock:
                    chart[i % params["vessels"]] = i
            return len(chart)              # kept alive, and compared at the weigh-in; None: nothing comes of it
        return loop

    worker.serve("positions", worker.Function("locked", locked, params={"vessels": 3000}, threads=64))
"""

import gc
import json
import os
import platform
import socket
import sys
import threading
import time

MOST = 1000  # batches of a thread that are told of
LONGEST = 3_000_000_000  # nanoseconds of warming up
now = time.perf_counter_ns


class Function:
    """One that can be asked for. make(params) makes its state anew, and the loop(thread, n) that works on it."""

    def __init__(self, name, make, params=None, threads=1, about=""):
        self.name, self.make, self.params, self.threads, self.about = name, make, params or {}, threads, about


class Trouble(Exception):
    """What the worker cannot do, in words for people."""


def serve(name, *functions):
    """Connects to whoever started the program, and answers until it is told to stop."""
    pings = _connect("PACEDUEL_PINGS")
    if pings:
        threading.Thread(target=_send_back, args=(pings,), daemon=True).start()
    line = _connect("PACEDUEL_WORKER")
    if line is None:
        sys.exit("this is a worker: paceduel worker check -- and this command try it out")
    with line, line.makefile("rw", encoding="utf-8", newline="\n") as stream:
        _Server(name, functions, stream).go_on()


def _connect(variable):
    """Connects to where a variable of the environment says; None where it says nothing."""
    kind, _, address = os.environ.get(variable, "").partition(":")
    if kind == "unix":
        line = socket.socket(socket.AF_UNIX)
        line.connect(address)
        return line
    if kind == "tcp":
        host, _, port = address.rpartition(":")
        return socket.create_connection((host, int(port)))
    return None


def _send_back(pings):
    """Answers pings on a thread of its own, beside the functions: whoever holds the interpreter holds it up."""
    while text := pings.recv(256):
        pings.sendall(text)


class _Server:
    def __init__(self, name, functions, stream):
        self.functions, self.stream, self.loop = {f.name: f for f in functions}, stream, None
        self.paused = self.began = 0
        gc.callbacks.append(self.collected)
        self.say("hello", protocol=1, name=name, runtime=platform.python_implementation(), version=platform.python_version(),
                 functions=[{"name": f.name, "about": f.about, "params": f.params, "threads": f.threads} for f in functions])
        self.say("bells", struck=8)  # nobody knows it, and everybody has to skip it

    def say(self, what, /, **more):
        self.stream.write(json.dumps({"say": what, **more}) + "\n")
        self.stream.flush()

    def go_on(self):
        for text in self.stream:
            question = json.loads(text)
            answer = {"prepare": self.prepare, "run": self.run}.get(question.get("say"))
            if question.get("say") == "stop":
                return
            if answer is None:
                continue
            try:
                answer(question)
            except Trouble as trouble:
                self.say("trouble", id=question["id"], what=str(trouble))
            except Exception as fault:  # of the function under test
                self.say("trouble", id=question["id"], what=f"{type(fault).__name__}: {fault}")

    def prepare(self, question):
        function = self.functions.get(question["function"])
        if function is None:
            raise Trouble(f"there is no function called {question['function']!r}")
        given = question.get("params") or {}
        for name in given:
            if name not in function.params:
                raise Trouble(f"{function.name} has no parameter called {name!r}")
        threads = question.get("threads", 1)
        if not 1 <= threads <= function.threads:
            raise Trouble(f"{function.name} runs on 1 to {function.threads} threads, not {threads}")
        params = {**function.params, **given}
        loop, began = function.make(params), now()
        result = loop(0, 1)
        first = now() - began
        self.loop, self.threads, self.clock, self.alone = function.make(params), threads, look_cost(), False
        warm, settled = self.settle()
        self.alone = self.pace > 100 * alone_cost()  # whether each operation is timed by itself
        out = {"id": question["id"], "batch": self.batch, "clock_ns": self.clock, "empty_ns": empty_cost(),
               "first_ns": first, "warmup_ns": warm, "settled": settled}
        if result is not None:
            out["result"] = result
        self.say("prepared", **out)

    def long(self, took):
        """Whether a batch takes so long that less than a hundredth of it goes into looking at the clock."""
        return took > 100 * self.clock and took > 50_000 or self.batch >= 1 << 40

    def settle(self):
        """Finds the batch and warms the function up until the medians of two stretches differ by less than a fiftieth."""
        began, self.batch = now(), 1
        while not self.long(self.once()) and now() - began < LONGEST:
            self.batch *= 2
        before = 0.0
        while True:
            each = sorted(self.once() / self.batch for _ in range(25))
            self.pace = each[len(each) // 2]
            if not self.long(self.pace * self.batch) and now() - began < LONGEST:
                self.batch, before = self.batch * 2, 0.0  # one that was held up had looked longer
                continue
            if before and self.pace < before * 1.02 and before < self.pace * 1.02:
                return now() - began, True
            if now() - began > LONGEST:
                return now() - began, False
            before = self.pace

    def once(self):
        turns, _ = self.work(self.share(self.batch * self.threads), self.batch, 0)
        return max(busy for _, busy, _, _ in turns)

    def share(self, operations):
        return [operations // self.threads + (i < operations % self.threads) for i in range(self.threads)]

    def work(self, operations, batch, holds):
        """Has all threads begin at one moment; returns what each did, and how long it took until the last was done."""
        if self.threads == 1:
            began = now()
            return [self.turn(0, operations[0], batch, holds)], now() - began
        turns, gate = [None] * self.threads, threading.Barrier(self.threads + 1)

        def one(i):
            gate.wait()
            turns[i] = self.turn(i, operations[i], batch, holds)

        threads = [threading.Thread(target=one, args=(i,)) for i in range(self.threads)]
        for thread in threads:
            thread.start()
        gate.wait()
        began = now()
        for thread in threads:
            thread.join()
        if None in turns:
            raise Trouble("a thread of the function failed; what it said is on standard error")
        return turns, now() - began

    def turn(self, thread, operations, batch, holds):
        loop, clock, done, busy, each, times = self.loop, self.clock, 0, 0, [], {}
        began = before = now()
        while before - began < holds if holds else done < operations:
            n = batch if holds else min(batch, operations - done)
            if self.alone:
                self.kept, took = one_by_one(loop, thread, n, clock, times)
                at = now()
            else:
                self.kept = loop(thread, n)
                at = now()
                took = max(at - before - clock, 0)
            before, done, busy = at, done + n, busy + took
            if len(each) < MOST:
                each.append(took / n)
        return done, busy, each, times

    def run(self, question):
        if self.loop is None:
            raise Trouble("nothing was prepared")
        operations, holds = self.share(question.get("operations", 0)), question.get("for_ns", 0)
        each = holds / max(self.pace, 1e-3) if holds else max(operations)
        collections, self.paused = sum(s["collections"] for s in gc.get_stats()), 0
        turns, elapsed = self.work(operations, max(self.batch, int(each) // MOST), holds)
        times = {}
        for _, _, _, own in turns:
            for took, count in own.items():
                times[took] = times.get(took, 0) + count
        self.say("ran", id=question["id"], operations=sum(t[0] for t in turns), elapsed_ns=elapsed,
                 threads=[{"operations": t[0], "busy_ns": t[1], "means_ns": t[2]} for t in turns], times=list(times.items()),
                 amounts={"collections": {"value": sum(s["collections"] for s in gc.get_stats()) - collections},
                          "paused": {"value": self.paused, "unit": "ns"}})

    def collected(self, phase, _):
        """Hears of each collection when it starts and when it stops."""
        if phase == "start":
            self.began = now()
        else:
            self.paused += now() - self.began


def look_cost():
    """The median of what a look at the clock takes."""
    took = []
    for _ in range(1001):
        began = now()
        took.append(now() - began)
    return sorted(took)[500]


def one_by_one(loop, thread, n, clock, times):
    """Does n operations and times each by itself: times are counted by their first eight binary digits."""
    kept, taken = None, 0
    for _ in range(n):
        began = now()
        kept = loop(thread, 1)
        took = max(now() - began - clock, 0)
        taken += took
        shift = max(took.bit_length() - 8, 0)
        middle = (took >> shift << shift) + ((1 << shift) - 1) / 2
        times[middle] = times.get(middle, 0) + 1
    return kept, taken


def alone_cost():
    """What it costs to time an operation by itself: calling it, looking at the clock twice, and counting it."""
    n = 10_000
    began = now()
    one_by_one(lambda thread, n: None, 0, n, 0, {})
    return (now() - began) / n


def empty_cost():
    """What an operation of an empty loop takes."""
    n = 1_000_000
    began = now()
    for _ in range(n):
        pass
    return (now() - began) / n
