// Runs in every page before anything of its own: keeps what the browser measures (W3C Largest Contentful
// Paint, Layout Instability, Paint Timing). Nothing of it can be seen by name from the page.
(() => {
  if (window !== window.top) return;
  const kept = { lcp: null, cls: 0, fcp: null };
  let window_start = 0, window_last = 0, window_sum = 0;
  const watch = (type, take) => {
    try {
      new PerformanceObserver((list) => list.getEntries().forEach(take)).observe({ type, buffered: true });
    } catch { /* not known to this browser */ }
  };
  watch("largest-contentful-paint", (entry) => {
    kept.lcp = { at: entry.startTime, url: entry.url || "", size: entry.size, element: entry.element };
  });
  watch("paint", (entry) => {
    if (entry.name === "first-contentful-paint") kept.fcp = entry.startTime;
  });
  watch("layout-shift", (entry) => {
    if (entry.hadRecentInput) return;
    // The largest burst: shifts less than a second apart, five seconds at most.
    if (entry.startTime - window_last > 1000 || entry.startTime - window_start > 5000) {
      window_start = entry.startTime;
      window_sum = 0;
    }
    window_last = entry.startTime;
    window_sum += entry.value;
    kept.cls = Math.max(kept.cls, window_sum);
  });
  Object.defineProperty(window, Symbol.for("KEY"), { value: kept });
})();
