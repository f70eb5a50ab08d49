// Enters in a map, and awaits, as a worker.
const { serve } = await import(process.env.WORKERS + "/javascript/paceduel-worker.mjs");

await serve(import.meta.url, "try", [
	{
		name: "map", params: { vessels: 3000 }, threads: 4,
		make({ vessels }) {
			const chart = new Map();
			return (thread, n) => {
				for (let i = 0; i < n; i++) chart.set(i % vessels, i);
				return chart.size;
			};
		},
	},
	{
		name: "later",
		make: () => async (thread, n) => {
			let sum = 0;
			for (let i = 0; i < n; i++) sum += await Promise.resolve(1);
			return sum;
		},
	},
]);
