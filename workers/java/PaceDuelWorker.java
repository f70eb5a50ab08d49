import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.io.OutputStream;
import java.lang.management.GarbageCollectorMXBean;
import java.lang.management.ManagementFactory;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.StandardProtocolFamily;
import java.net.UnixDomainSocketAddress;
import java.nio.ByteBuffer;
import java.nio.channels.Channels;
import java.nio.channels.SocketChannel;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.CyclicBarrier;

/**
 * Makes a program a worker: it runs its own functions when Pace Duel asks it to, and measures them.
 * docs/worker-protocol.md is what both speak. The file depends on nothing but Java 17: copy it.
 *
 * <pre>
 * public static void main(String[] args) throws Exception {
 *     PaceDuelWorker.serve("positions", new PaceDuelWorker.Function("map", Map.of("vessels", 3000.0), 64, params -> {
 *         var chart = new java.util.concurrent.ConcurrentHashMap&lt;Long, Long&gt;();   // the function's state anew
 *         double vessels = (Double) params.get("vessels");
 *         return (thread, n) -> {                                               // does n operations on a thread
 *             for (long i = 0; i &lt; n; i++) chart.put(i % (long) vessels, i);
 *             return chart.size();                                              // kept alive, and compared at the weigh-in
 *         };
 *     }));
 * }
 * </pre>
 */
public final class PaceDuelWorker {
    /** Does n operations on a thread, and returns what comes of them: a Number or a text; null where nothing does. */
    public interface Loop {
        Object run(int thread, long n) throws Exception;
    }

    /** Makes a function's state anew, and the loop that works on it. Parameters are Doubles and Strings. */
    public interface Make {
        Loop make(Map<String, Object> params) throws Exception;
    }

    /** A function that can be asked for. */
    public record Function(String name, Map<String, Object> params, int threads, Make make) {}

    /** What the worker cannot do, in words for people. */
    private static final class Trouble extends Exception {
        Trouble(String what) {
            super(what);
        }
    }

    private static final int MOST = 1000; // batches of a thread that are told of
    private static final double LONGEST = 3e9; // nanoseconds of warming up
    private static final double STRETCH = 200e6; // nanoseconds of it that are held to those before

    /** What loops return, so that no work is left out. */
    public static volatile Object kept;

    private final OutputStream out;
    private final Function[] functions;
    private Loop loop; // that was prepared; null: none
    private int threads;
    private long batch;
    private double clock; // nanoseconds that a look at the clock takes
    private double pace; // nanoseconds an operation, on one of the threads
    private boolean alone; // whether each operation is timed by itself

    private PaceDuelWorker(OutputStream out, Function[] functions) {
        this.out = out;
        this.functions = functions;
    }

    /** Connects to whoever started the program, and answers until it is told to stop. */
    public static void serve(String name, Function... functions) throws IOException {
        SocketChannel pings = lineTo(System.getenv("PACEDUEL_PINGS"));
        if (pings != null) {
            var answering = new Thread(() -> sendBack(pings), "pings");
            answering.setDaemon(true);
            answering.start();
        }
        SocketChannel line = lineTo(System.getenv("PACEDUEL_WORKER"));
        if (line == null) {
            System.err.println("this is a worker: paceduel worker check -- and this command try it out");
            System.exit(2);
            return;
        }
        var in = new BufferedReader(new InputStreamReader(Channels.newInputStream(line), StandardCharsets.UTF_8));
        var worker = new PaceDuelWorker(writer(line), functions);
        worker.hello(name);
        for (String text; (text = in.readLine()) != null;) {
            Map<?, ?> question = (Map<?, ?>) new Json(text).value();
            String say = String.valueOf(question.get("say"));
            if (say.equals("stop")) break;
            try {
                if (say.equals("prepare")) worker.prepare(question);
                if (say.equals("run")) worker.run(question);
            } catch (Exception trouble) {
                worker.say("trouble", "id", id(question), "what",
                    trouble instanceof Trouble ? trouble.getMessage() : trouble.toString());
            }
        }
        System.exit(0);
    }

    /** Connects to unix:PATH or tcp:HOST:PORT; null where that says nothing. */
    private static SocketChannel lineTo(String where) throws IOException {
        if (where != null && where.startsWith("unix:")) {
            SocketChannel line = SocketChannel.open(StandardProtocolFamily.UNIX);
            line.connect(UnixDomainSocketAddress.of(where.substring(5)));
            return line;
        }
        if (where != null && where.startsWith("tcp:")) {
            int colon = where.lastIndexOf(':');
            return SocketChannel.open(new InetSocketAddress(
                InetAddress.getByName(where.substring(4, colon)), Integer.parseInt(where.substring(colon + 1))));
        }
        return null;
    }

    /** Answers pings beside the functions: whatever holds up a thread of this machine holds these up. */
    private static void sendBack(SocketChannel pings) {
        var text = ByteBuffer.allocate(256);
        try {
            while (pings.read(text.clear()) >= 0) {
                for (text.flip(); text.hasRemaining();) pings.write(text);
            }
        } catch (IOException over) {
            // the other side has gone
        }
    }

    private static OutputStream writer(SocketChannel line) {
        return new OutputStream() {
            @Override public void write(int b) throws IOException {
                write(new byte[] {(byte) b}, 0, 1);
            }

            @Override public void write(byte[] b, int from, int n) throws IOException {
                for (var left = ByteBuffer.wrap(b, from, n); left.hasRemaining();) line.write(left);
            }
        };
    }

    private static long id(Map<?, ?> question) {
        return ((Double) question.get("id")).longValue();
    }

    private static double number(Map<?, ?> question, String name, double otherwise) {
        return question.get(name) instanceof Double x ? x : otherwise;
    }

    private void say(String what, Object... members) throws IOException {
        var message = new LinkedHashMap<String, Object>();
        message.put("say", what);
        for (int i = 0; i < members.length; i += 2) message.put((String) members[i], members[i + 1]);
        out.write((Json.text(message) + "\n").getBytes(StandardCharsets.UTF_8));
    }

    private void hello(String name) throws IOException {
        var list = new ArrayList<Object>();
        for (Function f : functions) {
            list.add(Map.of("name", f.name(), "params", f.params(), "threads", Math.max(f.threads(), 1)));
        }
        say("hello", "protocol", 1, "name", name, "runtime", "Java", "version", System.getProperty("java.version"),
            "functions", list);
        say("bells", "struck", 8); // nobody knows it, and everybody has to skip it
    }

    private void prepare(Map<?, ?> question) throws Exception {
        Function f = Arrays.stream(functions).filter(one -> one.name().equals(question.get("function"))).findFirst()
            .orElseThrow(() -> new Trouble("there is no function called " + question.get("function")));
        var params = new LinkedHashMap<>(f.params());
        if (question.get("params") instanceof Map<?, ?> given) {
            for (var one : given.entrySet()) {
                if (!params.containsKey(one.getKey())) {
                    throw new Trouble(f.name() + " has no parameter called " + one.getKey());
                }
                params.put((String) one.getKey(), one.getValue());
            }
        }
        int most = Math.max(f.threads(), 1);
        int on = (int) number(question, "threads", 1);
        if (on < 1 || on > most) throw new Trouble(f.name() + " runs on 1 to " + most + " threads, not " + on);
        Loop fresh = f.make().make(params);
        double called = System.nanoTime();
        Object result = fresh.run(0, 1);
        double first = System.nanoTime() - called;
        loop = f.make().make(params);
        threads = on;
        clock = lookCost();
        alone = false;
        double began = System.nanoTime();
        boolean settled = settle();
        double warm = System.nanoTime() - began;
        alone = pace > 100 * aloneCost();
        var members = new ArrayList<Object>(List.of("id", id(question), "batch", batch, "clock_ns", clock, "empty_ns",
            emptyCost(), "first_ns", first, "warmup_ns", warm, "settled", settled));
        if (result != null) members.addAll(List.of("result", result));
        say("prepared", members.toArray());
    }

    /** Whether a batch takes so long that less than a hundredth of it goes into looking at the clock. */
    private boolean isLong(double took) {
        return took > 100 * clock && took > 50_000 || batch >= 1L << 40;
    }

    /**
     * Finds the batch and warms up until the medians of two stretches differ by less than a fiftieth. A stretch is so long
     * that what is compiled on the side comes into use.
     */
    private boolean settle() throws Exception {
        double began = System.nanoTime();
        batch = 1;
        while (!isLong(once()) && System.nanoTime() - began < LONGEST) batch *= 2;
        for (double before = 0;;) {
            var each = new ArrayList<Double>();
            for (double from = System.nanoTime(); each.size() < 25 || System.nanoTime() - from < STRETCH;) {
                each.add(once() / batch);
                if (System.nanoTime() - began > LONGEST) break;
            }
            pace = median(each.stream().mapToDouble(d -> d).toArray());
            if (!isLong(pace * batch) && System.nanoTime() - began < LONGEST) {
                batch *= 2; // one that was held up had looked longer, and what is compiled by now is faster
                before = 0;
                continue;
            }
            if (before > 0 && pace < before * 1.02 && before < pace * 1.02) return true;
            if (System.nanoTime() - began > LONGEST) return false;
            before = pace;
        }
    }

    private double once() throws Exception {
        double longest = 0;
        for (Turn t : work(batch * threads, batch, 0).turns) longest = Math.max(longest, t.busy);
        return longest;
    }

    private static final class Turn {
        long done;
        double busy;
        final double[] each = new double[MOST];
        int means;
        int[] times; // of operations, by their first eight binary digits; null where none is timed by itself
        Exception trouble;
    }

    private record Work(Turn[] turns, double elapsed) {}

    /** Has all threads begin at one moment; tells what each did, and how long it took until the last was done. */
    private Work work(long operations, long batch, double holds) throws Exception {
        var turns = new Turn[threads];
        var gate = new CyclicBarrier(threads + 1);
        var done = new CountDownLatch(threads);
        for (int i = 0; i < threads; i++) {
            int thread = i;
            long own = operations / threads + (i < operations % threads ? 1 : 0);
            turns[i] = new Turn();
            if (alone) turns[i].times = new int[BARS];
            var one = new Thread(() -> {
                try {
                    gate.await();
                    turn(turns[thread], thread, own, batch, holds);
                } catch (Exception trouble) {
                    turns[thread].trouble = trouble;
                } finally {
                    done.countDown();
                }
            });
            one.setDaemon(true);
            one.start();
        }
        gate.await();
        double began = System.nanoTime();
        done.await();
        double elapsed = System.nanoTime() - began;
        for (Turn t : turns) {
            if (t.trouble != null) throw t.trouble;
            elapsed = Math.max(elapsed, t.busy); // one may have begun a hair before us
        }
        return new Work(turns, elapsed);
    }

    private void turn(Turn t, int thread, long operations, long batch, double holds) throws Exception {
        long began = System.nanoTime();
        long before = began;
        while (holds > 0 ? before - began < holds : t.done < operations) {
            long n = holds > 0 ? batch : Math.min(batch, operations - t.done);
            double took;
            long at;
            if (t.times != null) {
                took = oneByOne(t, loop, thread, n, clock);
                at = System.nanoTime();
            } else {
                kept = loop.run(thread, n);
                at = System.nanoTime();
                took = Math.max(at - before - clock, 0);
            }
            before = at;
            t.done += n;
            t.busy += took;
            if (t.means < MOST) t.each[t.means++] = took / n;
        }
    }

    private static final int BARS = 42 * 128;

    /** Does n operations and times each by itself; tells how long all of them took. */
    private static double oneByOne(Turn t, Loop loop, int thread, long n, double clock) throws Exception {
        double taken = 0;
        for (long i = 0; i < n; i++) {
            long began = System.nanoTime();
            kept = loop.run(thread, 1);
            double took = Math.max(System.nanoTime() - began - clock, 0);
            taken += took;
            long whole = (long) took;
            int shift = Math.max(64 - Long.numberOfLeadingZeros(whole) - 8, 0);
            t.times[(int) Math.min(shift * 128 + (whole >> shift), BARS - 1)]++;
        }
        return taken;
    }

    /** What it costs to time an operation by itself: calling it, looking at the clock twice, and entering it. */
    private static double aloneCost() throws Exception {
        int n = 100_000;
        var t = new Turn();
        t.times = new int[BARS];
        double began = System.nanoTime();
        oneByOne(t, (thread, m) -> null, 0, n, 0);
        return (System.nanoTime() - began) / n;
    }

    /** The times of operations on all threads: each with how many took that long. */
    private static List<Object> times(Turn[] turns) {
        var list = new ArrayList<Object>();
        for (int bar = 0; bar < BARS; bar++) {
            long count = 0;
            for (Turn t : turns) if (t.times != null) count += t.times[bar];
            int shift = Math.max(bar / 128 - 1, 0);
            double wide = 1L << shift;
            if (count > 0) list.add(List.of((bar - shift * 128) * wide + (wide - 1) / 2, count));
        }
        return list;
    }

    private void run(Map<?, ?> question) throws Exception {
        if (loop == null) throw new Trouble("nothing was prepared");
        long operations = (long) number(question, "operations", 0);
        double holds = number(question, "for_ns", 0);
        double each = holds > 0 ? holds / Math.max(pace, 1e-3) : (double) operations / threads;
        long collections = 0;
        long paused = 0;
        for (GarbageCollectorMXBean gc : ManagementFactory.getGarbageCollectorMXBeans()) {
            collections -= gc.getCollectionCount();
            paused -= gc.getCollectionTime();
        }
        Work work = work(operations, Math.max(batch, (long) Math.ceil(each / MOST)), holds);
        for (GarbageCollectorMXBean gc : ManagementFactory.getGarbageCollectorMXBeans()) {
            collections += gc.getCollectionCount();
            paused += gc.getCollectionTime();
        }
        long all = 0;
        var list = new ArrayList<Object>();
        for (Turn t : work.turns) {
            all += t.done;
            var means = new ArrayList<Object>();
            for (int i = 0; i < t.means; i++) means.add(t.each[i]);
            list.add(Map.of("operations", t.done, "busy_ns", t.busy, "means_ns", means));
        }
        Runtime runtime = Runtime.getRuntime();
        say("ran", "id", id(question), "operations", all, "elapsed_ns", work.elapsed, "threads", list,
            "times", times(work.turns), "amounts", Map.of(
            "heap", Map.of("value", runtime.totalMemory() - runtime.freeMemory(), "unit", "bytes"),
            "collections", Map.of("value", collections), "paused", Map.of("value", paused * 1_000_000, "unit", "ns")));
    }

    private static double median(double[] values) {
        Arrays.sort(values);
        return values[values.length / 2];
    }

    /** The median of what a look at the clock takes, of many in a row. */
    private static double lookCost() {
        double[] took = new double[1001];
        long sink = 0;
        for (int i = 0; i < took.length; i++) {
            long began = System.nanoTime();
            for (int j = 0; j < 100; j++) sink += System.nanoTime();
            took[i] = (System.nanoTime() - began) / 101.0;
        }
        kept = sink;
        return median(took);
    }

    /** What an operation of an empty loop takes. */
    private static double emptyCost() {
        long n = 100_000_000;
        long began = System.nanoTime();
        long i = 0;
        while (i < n) i++;
        kept = i;
        return (System.nanoTime() - began) / (double) n;
    }

    /** Just enough of JSON: objects are Maps, lists Lists, numbers Doubles. */
    private static final class Json {
        private final String text;
        private int at;

        Json(String text) {
            this.text = text;
        }

        private char peek() {
            while (at < text.length() && Character.isWhitespace(text.charAt(at))) at++;
            return at < text.length() ? text.charAt(at) : 0;
        }

        Object value() {
            switch (peek()) {
                case '{':
                    var members = new LinkedHashMap<String, Object>();
                    at++;
                    while (peek() != '}') {
                        String name = string();
                        peek();
                        at++; // the colon
                        members.put(name, value());
                        if (peek() == ',') at++;
                    }
                    at++;
                    return members;
                case '[':
                    var items = new ArrayList<Object>();
                    at++;
                    while (peek() != ']') {
                        items.add(value());
                        if (peek() == ',') at++;
                    }
                    at++;
                    return items;
                case '"':
                    return string();
                default:
                    int from = at;
                    while (at < text.length() && ",]} \t".indexOf(text.charAt(at)) < 0) at++;
                    String word = text.substring(from, at);
                    return switch (word) {
                        case "true" -> true;
                        case "false" -> false;
                        case "null" -> null;
                        default -> Double.valueOf(word);
                    };
            }
        }

        private String string() {
            var out = new StringBuilder();
            peek();
            for (at++; text.charAt(at) != '"'; at++) {
                char c = text.charAt(at);
                if (c == '\\') {
                    c = text.charAt(++at);
                    switch (c) {
                        case 'n' -> c = '\n';
                        case 't' -> c = '\t';
                        case 'r' -> c = '\r';
                        case 'b' -> c = '\b';
                        case 'f' -> c = '\f';
                        case 'u' -> {
                            c = (char) Integer.parseInt(text.substring(at + 1, at + 5), 16);
                            at += 4;
                        }
                        default -> { }
                    }
                }
                out.append(c);
            }
            at++;
            return out.toString();
        }

        static String text(Object value) {
            if (value instanceof Map<?, ?> members) {
                var parts = new ArrayList<String>();
                members.forEach((name, own) -> parts.add(text(name) + ": " + text(own)));
                return "{" + String.join(", ", parts) + "}";
            }
            if (value instanceof List<?> items) {
                var parts = new ArrayList<String>();
                items.forEach(own -> parts.add(text(own)));
                return "[" + String.join(", ", parts) + "]";
            }
            if (value instanceof Double x) return x == Math.rint(x) && Math.abs(x) < 1e15 ? String.valueOf(x.longValue()) : x.toString();
            if (value instanceof Number || value instanceof Boolean || value == null) return String.valueOf(value);
            var out = new StringBuilder("\"");
            for (char c : value.toString().toCharArray()) {
                if (c == '"' || c == '\\') out.append('\\').append(c);
                else if (c < 32) out.append(String.format(Locale.ROOT, "\\u%04x", (int) c));
                else out.append(c);
            }
            return out.append('"').toString();
        }
    }
}
