// Functions of known cost: as a worker, or in a bare loop when started with a function's name, how many operations, and
// its parameter. The bare loop says on standard error how many nanoseconds an operation took.
import { writeSync } from "node:fs";
import { performance } from "node:perf_hooks";

const { serve } = await import(process.env.WORKERS + "/javascript/paceduel-worker.mjs");

const cell = new Int32Array(new SharedArrayBuffer(4));
const made = {
	spin: ({ length }) => (thread, n) => {
		for (let i = 0; i < n; i++) {
			const until = performance.now() + length / 1e6;
			while (performance.now() < until);
		}
		return 1;
	},
	sleep: ({ length }) => (thread, n) => {
		for (let i = 0; i < n; i++) Atomics.wait(cell, 0, 0, length / 1e6);
		return 1;
	},
	allocate: ({ length }) => {
		const kept = new Array(64);
		return (thread, n) => {
			for (let i = 0; i < n; i++) kept[i & 63] = new Array(length).fill(i);
			return 1;
		};
	},
	print: () => (thread, n) => {
		for (let i = 0; i < n; i++) writeSync(1, "the tide at Skerrow Harbour is 3.2 m\n");
		return 1;
	},
};

const [name, count, length] = process.argv.slice(2);
if (length === undefined) {
	await serve(import.meta.url, "truth", Object.entries(made).map(([name, make]) => ({ name, make, params: { length: 64 } })));
} else {
	const loop = made[name]({ length: Number(length) }), n = Number(count);
	for (let i = 0; i < 4; i++) loop(0, n / 4);
	const began = performance.now();
	loop(0, n);
	console.error((performance.now() - began) * 1e6 / n);
}
