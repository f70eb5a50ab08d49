// Three questions inside a program, as functions of a worker: a new object for each position report or one from a pool;
// futures awaited in turn or together; lines printed one by one, buffered, or by a thread of its own.
import { webcrypto } from "node:crypto";
import { writeSync } from "node:fs";
import { Worker } from "node:worker_threads";

import { serve } from "../../workers/javascript/paceduel-worker.mjs";

class Report {
	constructor(berth) {
		this.berth = berth;
		this.east = berth * 2;
		this.north = berth * 3;
	}
}

/** What the reports of so many entries add up to, so that both are held to the same work. */
function total(count) {
	const rest = count % 8;
	return 5 * (28 * Math.floor(count / 8) + rest * (rest - 1) / 2);
}

const pages = Array.from({ length: 8 }, (_, i) => Buffer.alloc(65536, i));

async function digest(page) {
	return Buffer.from(await webcrypto.subtle.digest("SHA-256", page)).toString("hex").slice(0, 8);
}

const line = "the tide is in at berth 3\n";

/** A thread that writes what it is sent, and answers when it is asked whether all is written. */
const writer = `
	const { parentPort } = require("node:worker_threads");
	const { writeSync } = require("node:fs");
	parentPort.on("message", (line) => line ? writeSync(1, line) : parentPort.postMessage("written"));
`;

await serve(import.meta.url, "reports", [
	{
		name: "fresh",
		make: () => (thread, n) => {
			let seen = 0;
			for (let i = 0; i < n; i++) {
				const report = new Report(i & 7);
				seen += report.east + report.north;
			}
			return seen === total(n) ? "as expected" : seen;
		},
	},
	{
		name: "pooled",
		make: () => {
			const pool = Array.from({ length: 8 }, (_, berth) => new Report(berth));
			return (thread, n) => {
				let seen = 0;
				for (let i = 0; i < n; i++) {
					const report = pool[i & 7];
					seen += report.east + report.north;
				}
				return seen === total(n) ? "as expected" : seen;
			};
		},
	},
	{
		name: "in turn",
		make: () => async (thread, n) => {
			let digests;
			for (let i = 0; i < n; i++) {
				digests = [];
				for (const page of pages) digests.push(await digest(page));
			}
			return digests.join(" ");
		},
	},
	{
		name: "together",
		make: () => async (thread, n) => {
			let digests;
			for (let i = 0; i < n; i++) digests = await Promise.all(pages.map(digest));
			return digests.join(" ");
		},
	},
	{
		name: "one by one",
		make: () => (thread, n) => {
			for (let i = 0; i < n; i++) writeSync(1, line);
			return "printed";
		},
	},
	{
		name: "buffered",
		make: () => {
			let waiting = "";
			return (thread, n) => {
				for (let i = 0; i < n; i++) {
					waiting += line;
					if (waiting.length >= 8192 || i === n - 1) {
						writeSync(1, waiting);
						waiting = "";
					}
				}
				return "printed";
			};
		},
	},
	{
		name: "own thread",
		make: () => {
			const other = new Worker(writer, { eval: true });
			other.unref();
			return async (thread, n) => {
				for (let i = 0; i < n; i++) other.postMessage(line);
				other.postMessage("");
				await new Promise((resolve) => other.once("message", resolve));
				return "printed";
			};
		},
	},
]);
