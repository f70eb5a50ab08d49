// Position reports, made anew for each entry or taken from a pool, as functions of a worker.
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
]);
