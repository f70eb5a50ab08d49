// Makes a program a worker: it runs its own functions when Pace Duel asks it to, and measures them.
// docs/worker-protocol.md is what both speak. The file depends on nothing but Node: copy it.
//
//	import { serve } from "./paceduel-worker.mjs";
//
//	serve(import.meta.url, "positions", [
//		{
//			name: "map", params: { vessels: 3000 }, threads: 8,
//			make({ vessels }) { // makes the function's state anew
//				const chart = new Map();
//				return (thread, n) => { // does n operations on a thread
//					for (let i = 0; i < n; i++) chart.set(i % vessels, i);
//					return chart.size; // kept alive, and compared at the weigh-in; undefined: nothing comes of it
//				};
//			},
//		},
//	]);
//
// A loop may be async. Threads are workers of node:worker_threads, each with a state of its own, since JavaScript shares
// none.

import { once } from "node:events";
import { connect } from "node:net";
import { performance, PerformanceObserver } from "node:perf_hooks";
import { createInterface } from "node:readline";
import { isMainThread, parentPort, Worker, workerData } from "node:worker_threads";

const most = 1000; // batches of a thread that are told of
const longest = 3e9; // nanoseconds of warming up
const stretch = 100e6; // nanoseconds of it that are held to those before: what is compiled on the side comes into use
const now = () => performance.now() * 1e6;

let kept; // what loops return, so that no work is left out

/** Connects to whoever started the program, and answers until it is told to stop. file is import.meta.url. */
export async function serve(file, name, functions) {
	if (!isMainThread) {
		await follow(functions);
		return;
	}
	const pings = await lineTo(process.env.PACEDUEL_PINGS);
	pings?.pipe(pings); // sent back by the event loop: whatever holds that up holds these up
	const line = await lineTo(process.env.PACEDUEL_WORKER);
	if (!line) {
		console.error("this is a worker: paceduel worker check -- and this command try it out");
		process.exit(2);
	}
	const server = new Server(new URL(file), functions, (what) => line.write(JSON.stringify(what) + "\n"));
	server.hello(name);
	for await (const text of createInterface({ input: line })) {
		const question = JSON.parse(text);
		if (question.say === "stop") break;
		try {
			if (question.say === "prepare") await server.prepare(question);
			if (question.say === "run") await server.run(question);
		} catch (trouble) {
			server.say({ say: "trouble", id: question.id, what: String(trouble.message ?? trouble) });
		}
	}
	process.exit(0);
}

/** Connects to unix:PATH or tcp:HOST:PORT; undefined where that says nothing. */
async function lineTo(where = "") {
	const [, kind, address] = /^(unix|tcp):(.*)$/.exec(where) ?? [];
	if (!kind) return undefined;
	const line = kind === "unix" ? connect(address)
		: connect(Number(address.slice(address.lastIndexOf(":") + 1)), address.slice(0, address.lastIndexOf(":")));
	line.on("error", () => process.exit(2));
	await once(line, "connect");
	return line;
}

class Server {
	constructor(file, functions, say) {
		Object.assign(this, { file, functions, say, threads: [], pauses: { count: 0, ns: 0 } });
		new PerformanceObserver((list) => {
			for (const entry of list.getEntries()) {
				this.pauses.count++;
				this.pauses.ns += entry.duration * 1e6;
			}
		}).observe({ entryTypes: ["gc"] });
	}

	hello(name) {
		const functions = this.functions.map((f) => ({
			name: f.name, about: f.about ?? "", params: f.params ?? {}, threads: f.threads ?? 1,
		}));
		this.say({ say: "hello", protocol: 1, name, runtime: "Node", version: process.version, functions });
		this.say({ say: "bells", struck: 8 }); // nobody knows it, and everybody has to skip it
	}

	async prepare({ id, function: name, params: given = {}, threads = 1 }) {
		const f = this.functions.find((one) => one.name === name);
		if (!f) throw new Error(`there is no function called ${JSON.stringify(name)}`);
		for (const key of Object.keys(given)) {
			if (!(key in (f.params ?? {}))) throw new Error(`${name} has no parameter called ${JSON.stringify(key)}`);
		}
		if (threads < 1 || threads > (f.threads ?? 1)) {
			throw new Error(`${name} runs on 1 to ${f.threads ?? 1} threads, not ${threads}`);
		}
		const params = { ...f.params, ...given };
		for (const thread of this.threads) await thread.end();
		this.threads = [];
		const loop = f.make(params);
		const began = now();
		const result = await loop(0, 1);
		const first = now() - began;
		this.clock = lookCost();
		this.alone = false;
		for (let i = 0; i < threads; i++) {
			this.threads.push(threads === 1 ? new Here(f, params, this.clock) : new There(this.file, name, params, i, this.clock));
		}
		for (const thread of this.threads) await thread.ready();
		const { warmup, settled } = await this.settle();
		this.alone = this.pace > 100 * await aloneCost(); // whether each operation is timed by itself
		this.say({
			say: "prepared", id, result, batch: this.batch, clock_ns: this.clock, empty_ns: emptyCost(), first_ns: first,
			warmup_ns: warmup, settled,
		});
	}

	/** Whether a batch takes so long that less than a hundredth of it goes into looking at the clock. */
	long(took) {
		return (took > 100 * this.clock && took > 50_000) || this.batch >= 2 ** 40;
	}

	/** Finds the batch and warms up until the medians of two stretches differ by less than a fiftieth. */
	async settle() {
		const began = now();
		this.batch = 1;
		while (!this.long(await this.once()) && now() - began < longest) this.batch *= 2;
		for (let before = 0; ; ) {
			const each = [];
			for (const from = now(); (each.length < 25 || now() - from < stretch) && now() - began < longest;) {
				each.push(await this.once() / this.batch);
			}
			if (each.length === 0) return { warmup: now() - began, settled: false };
			this.pace = median(each);
			if (!this.long(this.pace * this.batch) && now() - began < longest) {
				this.batch *= 2; // one that was held up had looked longer
				before = 0;
				continue;
			}
			const settled = before > 0 && this.pace < before * 1.02 && before < this.pace * 1.02;
			if (settled || now() - began > longest) return { warmup: now() - began, settled };
			before = this.pace;
		}
	}

	async once() {
		const { turns } = await this.work(this.share(this.batch * this.threads.length), this.batch, 0);
		return Math.max(...turns.map((t) => t.busy));
	}

	share(operations) {
		const n = this.threads.length;
		return this.threads.map((_, i) => Math.floor(operations / n) + (i < operations % n ? 1 : 0));
	}

	/** Has all threads begin at one moment; tells what each did, and how long it took until the last was done. */
	async work(operations, batch, holds) {
		const gate = new Int32Array(new SharedArrayBuffer(8)); // how many stand at it, whether it is open
		const all = this.threads.map((thread, i) => thread.turn(operations[i], batch, holds, this.alone, gate));
		if (this.threads.length > 1) {
			while (Atomics.load(gate, 0) < this.threads.length) await new Promise(setImmediate);
			Atomics.store(gate, 1, 1);
			Atomics.notify(gate, 1);
		}
		const began = now();
		const turns = await Promise.all(all);
		const elapsed = now() - began;
		return { turns, elapsed: Math.max(elapsed, ...turns.map((t) => t.busy)) };
	}

	async run({ id, operations: asked = 0, for_ns: holds = 0 }) {
		if (this.threads.length === 0) throw new Error("nothing was prepared");
		const operations = this.share(asked);
		const each = holds ? holds / Math.max(this.pace, 1e-3) : Math.max(...operations);
		const before = { ...this.pauses };
		const { turns, elapsed } = await this.work(operations, Math.max(this.batch, Math.ceil(each / most)), holds);
		await new Promise(setImmediate); // collections are told of afterwards
		const times = new Map();
		for (const t of turns) for (const [took, count] of t.times) times.set(took, (times.get(took) ?? 0) + count);
		this.say({
			say: "ran", id, times: [...times], operations: turns.reduce((sum, t) => sum + t.done, 0), elapsed_ns: elapsed,
			threads: turns.map((t) => ({ operations: t.done, busy_ns: t.busy, means_ns: t.each })),
			amounts: {
				heap: { value: process.memoryUsage().heapUsed, unit: "bytes" },
				collections: { value: this.pauses.count - before.count },
				paused: { value: this.pauses.ns - before.ns, unit: "ns" },
			},
		});
	}
}

/** A function on the main thread. */
class Here {
	constructor(f, params, clock) {
		this.loop = f.make(params);
		this.clock = clock;
	}
	async ready() {}
	async end() {}
	// A turn begins when the work does, not when it is asked for.
	async turn(operations, batch, holds, alone) {
		return turn(this.loop, 0, this.clock, operations, batch, holds, alone);
	}
}

/** A function on a thread of its own. */
class There {
	constructor(file, name, params, thread, clock) {
		this.worker = new Worker(file, { workerData: { paceduel: { name, params, thread, clock } } });
		this.worker.on("error", (trouble) => this.answered?.reject(trouble));
		this.worker.on("message", (what) => this.answered?.resolve(what));
	}
	next() {
		return new Promise((resolve, reject) => { this.answered = { resolve, reject }; });
	}
	ready() {
		const made = this.next();
		this.worker.postMessage("are you ready?");
		return made;
	}
	turn(operations, batch, holds, alone, gate) {
		const done = this.next();
		this.worker.postMessage({ operations, batch, holds, alone, gate });
		return done;
	}
	end() {
		return this.worker.terminate();
	}
}

/** What a thread of its own does: its turns, one after another. */
async function follow(functions) {
	const { name, params, thread, clock } = workerData.paceduel;
	const loop = functions.find((f) => f.name === name).make(params);
	parentPort.on("message", async (what) => {
		if (typeof what === "string") {
			parentPort.postMessage("ready");
			return;
		}
		Atomics.add(what.gate, 0, 1);
		Atomics.wait(what.gate, 1, 0);
		parentPort.postMessage(await turn(loop, thread, clock, what.operations, what.batch, what.holds, what.alone));
	});
}

async function turn(loop, thread, clock, operations, batch, holds, alone) {
	let done = 0, busy = 0;
	const each = [], times = new Map();
	const began = now();
	for (let before = began; holds ? before - began < holds : done < operations;) {
		const n = holds ? batch : Math.min(batch, operations - done);
		let took, at;
		if (alone) {
			took = await oneByOne(loop, thread, n, clock, times);
			at = now();
		} else {
			const made = loop(thread, n);
			kept = made instanceof Promise ? await made : made;
			at = now();
			took = Math.max(at - before - clock, 0);
		}
		before = at;
		done += n;
		busy += took;
		if (each.length < most) each.push(took / n);
	}
	return { done, busy, each, times };
}

/** Does n operations and times each by itself: times are counted by their first eight binary digits. Tells how long all took. */
async function oneByOne(loop, thread, n, clock, times) {
	let taken = 0;
	for (let i = 0; i < n; i++) {
		const began = now();
		const made = loop(thread, 1);
		kept = made instanceof Promise ? await made : made;
		const took = Math.max(now() - began - clock, 0);
		taken += took;
		const wide = 2 ** Math.max(Math.floor(Math.log2(took || 1)) - 7, 0);
		const middle = Math.floor(took / wide) * wide + (wide - 1) / 2;
		times.set(middle, (times.get(middle) ?? 0) + 1);
	}
	return taken;
}

/** What it costs to time an operation by itself: calling it, looking at the clock twice, and counting it. */
async function aloneCost() {
	const n = 10_000;
	const began = now();
	await oneByOne(() => undefined, 0, n, 0, new Map());
	return (now() - began) / n;
}

function median(values) {
	return values.sort((a, b) => a - b)[Math.floor(values.length / 2)];
}

/** The median of what a look at the clock takes: of many in a row, since its grain is coarse. */
function lookCost() {
	const took = [];
	for (let i = 0; i < 101; i++) {
		const began = now();
		for (let j = 0; j < 100; j++) kept = now();
		took.push((now() - began) / 101);
	}
	return median(took);
}

/** What an operation of an empty loop takes. */
function emptyCost() {
	const n = 1e7;
	const began = now();
	for (let i = 0; i < n; i++) kept = i;
	return (now() - began) / n;
}
