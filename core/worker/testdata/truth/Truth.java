import java.io.FileDescriptor;
import java.io.FileOutputStream;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.concurrent.locks.LockSupport;

/**
 * Functions of known cost: as a worker, or in a bare loop when started with a function's name, how many operations, and
 * its parameter. The bare loop says on standard error how many nanoseconds an operation took.
 */
public class Truth {
    public static void main(String[] args) throws Exception {
        var out = new FileOutputStream(FileDescriptor.out);
        var made = new LinkedHashMap<String, PaceDuelWorker.Make>();
        made.put("spin", params -> {
            long length = length(params);
            return (thread, n) -> {
                for (long i = 0; i < n; i++) {
                    long until = System.nanoTime() + length;
                    while (System.nanoTime() < until) Thread.onSpinWait();
                }
                return 1;
            };
        });
        made.put("sleep", params -> {
            long length = length(params);
            return (thread, n) -> {
                for (long i = 0; i < n; i++) LockSupport.parkNanos(length);
                return 1;
            };
        });
        made.put("allocate", params -> {
            int length = (int) length(params);
            var kept = new byte[64][];
            return (thread, n) -> {
                for (long i = 0; i < n; i++) kept[(int) i & 63] = new byte[length];
                return 1;
            };
        });
        byte[] line = "the tide at Skerrow Harbour is 3.2 m\n".getBytes();
        made.put("print", params -> (thread, n) -> {
            for (long i = 0; i < n; i++) out.write(line);
            return 1;
        });
        if (args.length < 3) {
            PaceDuelWorker.serve("truth", made.entrySet().stream()
                .map(e -> new PaceDuelWorker.Function(e.getKey(), Map.of("length", 64.0), 1, e.getValue()))
                .toArray(PaceDuelWorker.Function[]::new));
            return;
        }
        var loop = made.get(args[0]).make(Map.of("length", Double.valueOf(args[2])));
        long n = Long.parseLong(args[1]);
        var thread = new Thread(() -> {
            try {
                long start = System.nanoTime(); // it is to be compiled, and the heap's pages there
                while (System.nanoTime() - start < 2_000_000_000L) loop.run(0, n / PARTS);
                long began = System.nanoTime();
                for (int i = 0; i < PARTS; i++) loop.run(0, n / PARTS);
                System.err.println((System.nanoTime() - began) / (double) (n / PARTS * PARTS));
            } catch (Exception trouble) {
                trouble.printStackTrace();
            }
        });
        thread.start();
        thread.join();
    }

    private static final int PARTS = 100;

    private static long length(Map<String, Object> params) {
        return ((Double) params.get("length")).longValue();
    }
}
