-- Prints what a round was: requests, microseconds, answers that were not 2xx, other errors, p50 and p99 in microseconds.
done = function(summary, latency)
  local e = summary.errors
  io.write(string.format("round %d %d %d %d %d %d\n", summary.requests, summary.duration, e.status,
    e.connect + e.read + e.write + e.timeout, latency:percentile(50), latency:percentile(99)))
end
