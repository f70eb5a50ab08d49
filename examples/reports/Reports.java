import java.io.BufferedOutputStream;
import java.io.FileDescriptor;
import java.io.FileOutputStream;
import java.security.MessageDigest;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.Executors;
import java.util.concurrent.LinkedBlockingQueue;

/**
 * Three questions inside a program, as functions of a worker: a new object for each position report or one from a pool;
 * futures awaited in turn or together; lines printed one by one, buffered, or by a thread of its own.
 */
public class Reports {
    private static final class Report {
        final long berth, east, north;

        Report(long berth) {
            this.berth = berth;
            this.east = berth * 2;
            this.north = berth * 3;
        }
    }

    /** What the reports of so many entries add up to, so that both are held to the same work. */
    private static Object check(long seen, long count) {
        long rest = count % 8;
        return seen == 5 * (28 * (count / 8) + rest * (rest - 1) / 2) ? "as expected" : seen;
    }

    private static final List<byte[]> PAGES = new ArrayList<>();

    private static String digest(byte[] page) {
        try {
            return HexFormat.of().formatHex(MessageDigest.getInstance("SHA-256").digest(page)).substring(0, 8);
        } catch (java.security.NoSuchAlgorithmException trouble) {
            throw new IllegalStateException(trouble); // every Java has it
        }
    }

    private static final byte[] LINE = "the tide is in at berth 3\n".getBytes();

    private static PaceDuelWorker.Function function(String name, PaceDuelWorker.Make make) {
        return new PaceDuelWorker.Function(name, Map.of(), 1, make);
    }

    public static void main(String[] args) throws Exception {
        for (int i = 0; i < 8; i++) {
            var page = new byte[65536];
            Arrays.fill(page, (byte) i);
            PAGES.add(page);
        }
        PaceDuelWorker.serve("reports", function("fresh", params -> (thread, n) -> {
            long seen = 0;
            for (long i = 0; i < n; i++) {
                var report = new Report(i & 7);
                seen += report.east + report.north;
            }
            return check(seen, n);
        }), function("pooled", params -> {
            var pool = new Report[8];
            for (int berth = 0; berth < 8; berth++) pool[berth] = new Report(berth);
            return (thread, n) -> {
                long seen = 0;
                for (long i = 0; i < n; i++) {
                    var report = pool[(int) (i & 7)];
                    seen += report.east + report.north;
                }
                return check(seen, n);
            };
        }), function("in turn", params -> {
            var pool = Executors.newFixedThreadPool(2);
            return (thread, n) -> {
                var digests = new ArrayList<String>();
                for (long i = 0; i < n; i++) {
                    digests.clear();
                    for (byte[] page : PAGES) digests.add(CompletableFuture.supplyAsync(() -> digest(page), pool).get());
                }
                return String.join(" ", digests);
            };
        }), function("together", params -> {
            var pool = Executors.newFixedThreadPool(2);
            return (thread, n) -> {
                var digests = new ArrayList<String>();
                for (long i = 0; i < n; i++) {
                    digests.clear();
                    var futures = new ArrayList<CompletableFuture<String>>();
                    for (byte[] page : PAGES) futures.add(CompletableFuture.supplyAsync(() -> digest(page), pool));
                    for (var future : futures) digests.add(future.get());
                }
                return String.join(" ", digests);
            };
        }), function("one by one", params -> {
            var out = new FileOutputStream(FileDescriptor.out);
            return (thread, n) -> {
                for (long i = 0; i < n; i++) out.write(LINE);
                return "printed";
            };
        }), function("buffered", params -> {
            var out = new BufferedOutputStream(new FileOutputStream(FileDescriptor.out), 8192);
            return (thread, n) -> {
                for (long i = 0; i < n; i++) out.write(LINE);
                out.flush();
                return "printed";
            };
        }), function("own thread", params -> {
            var out = new FileOutputStream(FileDescriptor.out);
            var lines = new LinkedBlockingQueue<Object>();
            var writer = new Thread(() -> {
                try {
                    for (;;) {
                        Object line = lines.take();
                        if (line instanceof CountDownLatch written) written.countDown();
                        else out.write((byte[]) line);
                    }
                } catch (Exception trouble) {
                    trouble.printStackTrace();
                }
            });
            writer.setDaemon(true);
            writer.start();
            return (thread, n) -> {
                for (long i = 0; i < n; i++) lines.put(LINE);
                var written = new CountDownLatch(1);
                lines.put(written);
                written.await();
                return "printed";
            };
        }));
    }
}
