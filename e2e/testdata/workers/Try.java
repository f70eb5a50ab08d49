import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;

/** Enters in a map, and does nothing, as a worker. */
public class Try {
    public static void main(String[] args) throws Exception {
        PaceDuelWorker.serve("try", new PaceDuelWorker.Function("map", Map.of("vessels", 3000.0), 8, params -> {
            var chart = new ConcurrentHashMap<Long, Long>();
            long vessels = ((Double) params.get("vessels")).longValue();
            return (thread, n) -> {
                for (long i = 0; i < n; i++) chart.put(i % vessels, i);
                return chart.size();
            };
        }), new PaceDuelWorker.Function("nothing", Map.of(), 1, params -> (thread, n) -> null));
    }
}
