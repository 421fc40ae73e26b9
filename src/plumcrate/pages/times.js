// What was measured so far, in milliseconds.
() => {
  const kept = window[Symbol.for("KEY")];
  const [navigation] = performance.getEntriesByType("navigation");
  const element = kept?.lcp?.element;
  const words = (element?.textContent ?? "").trim().replace(/\s+/g, " ");
  return {
    ttfb: navigation ? navigation.responseStart : null,
    load: navigation && navigation.loadEventEnd > 0 ? navigation.loadEventEnd : null,
    fcp: kept?.fcp ?? null,
    lcp: kept?.lcp?.at ?? null,
    cls: kept?.cls ?? null,
    largest: kept?.lcp ? {
      address: kept.lcp.url.slice(0, 2000),
      tag: element ? element.tagName.toLowerCase() : "",
      words: kept.lcp.url ? "" : words.slice(0, 80),
    } : null,
  };
}
