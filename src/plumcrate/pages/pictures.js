// Every picture that the page shows, in its place, from the top. `most`: so many at most.
async (most) => {
  const found = [];
  const seen_sizes = new Map();
  const pixels = (address) => {
    // The file's own size: what an <img> says is divided by its density.
    if (!seen_sizes.has(address)) {
      seen_sizes.set(address, new Promise((resolve) => {
        const probe = new Image();
        const done = () => resolve([probe.naturalWidth, probe.naturalHeight]);
        probe.onload = done;
        probe.onerror = () => resolve([0, 0]);
        setTimeout(done, 4000);
        probe.src = address;
      }));
    }
    return seen_sizes.get(address);
  };
  const place = (element) => {
    const box = element.getBoundingClientRect();
    return { left: box.left + scrollX, top: box.top + scrollY, width: box.width, height: box.height };
  };
  const words = (text) => (text ?? "").replace(/\s+/g, " ").trim().slice(0, 500);
  // The nearest heading before each picture, from one walk over the page.
  const headings = new Map();
  let heading = "";
  for (const element of document.querySelectorAll("h1, h2, h3, h4, h5, h6, img")) {
    if (element.localName === "img") headings.set(element, heading);
    else heading = words(element.textContent);
  }
  const read = new Map(); // each figure and link is read once, however many pictures it holds
  const within = (element, text) => {
    if (element && !read.has(element)) read.set(element, words(text(element)));
    return read.get(element) ?? "";
  };
  const said = (image) => ({
    alternative: image.hasAttribute("alt") ? words(image.getAttribute("alt")) : null,
    heading: headings.get(image) ?? "",
    caption: within(image.closest("figure"), (figure) => figure.querySelector("figcaption")?.textContent),
    link: within(image.closest("a[href]"), (link) => link.textContent),
    language: (image.closest("[lang]")?.getAttribute("lang") ?? "").slice(0, 35),
  });
  const shown = (element, box) =>
    box.width > 0 && box.height > 0 && element.checkVisibility({ opacityProperty: true, visibilityProperty: true });
  const add = (element, address, how, facts) => {
    if (found.length >= most || !address || address.startsWith("data:") || address.startsWith("blob:")) return;
    const box = place(element);
    found.push({ element, address, how, box, shown: shown(element, box), lazy: false, stated: true, fit: "fill", ...facts });
  };
  const inner = (element, box) => {
    const style = getComputedStyle(element);
    const less = (...names) => names.reduce((sum, name) => sum + (parseFloat(style[name]) || 0), 0);
    return {
      left: box.left, top: box.top,
      width: box.width - less("paddingLeft", "paddingRight", "borderLeftWidth", "borderRightWidth"),
      height: box.height - less("paddingTop", "paddingBottom", "borderTopWidth", "borderBottomWidth"),
    };
  };
  for (const image of document.images) {
    const style = getComputedStyle(image);
    const stated = (image.hasAttribute("width") && image.hasAttribute("height")) || style.position === "absolute"
      || style.position === "fixed" || (style.aspectRatio !== "auto" && !style.aspectRatio.startsWith("auto "));
    add(image, image.currentSrc || image.src, image.closest("picture") ? "picture" : "img", {
      lazy: image.loading === "lazy", stated, fit: style.objectFit, said: said(image),
      done: image.complete && image.naturalWidth > 0,
    });
    const last = found[found.length - 1];
    if (last?.element === image) last.box = inner(image, last.box);
  }
  for (const video of document.querySelectorAll("video[poster]")) add(video, video.poster, "poster", { fit: "contain" });
  for (const input of document.querySelectorAll("input[type=image]")) add(input, input.src, "input", {});
  for (const image of document.querySelectorAll("svg image")) add(image, image.href?.baseVal && new URL(image.href.baseVal, document.baseURI).href, "svg", { fit: "contain" });
  let looked = 0;
  for (const element of document.querySelectorAll("*")) {
    if (++looked > 8000) break;
    for (const pseudo of ["", "::before", "::after"]) {
      const style = getComputedStyle(element, pseudo || null);
      if (style.backgroundImage === "none" || (pseudo && style.content === "none")) continue;
      const sizes = style.backgroundSize.split(",").map((size) => size.trim());
      const used = [...style.backgroundImage.matchAll(/url\("((?:[^"\\]|\\.)*)"\)/g)];
      used.forEach((match, index) => {
        const address = match[1].replace(/\\(.)/g, "$1");
        add(element, address, "background", { fit: sizes[index % sizes.length], repeats: style.backgroundRepeat });
      });
    }
  }
  const preloaded = new Set();
  for (const link of document.querySelectorAll('link[rel~="preload"][as="image"]')) {
    if (link.href) preloaded.add(link.href);
    for (const part of (link.imageSrcset ?? "").split(/,\s+/)) {
      const address = part.trim().split(/\s+/)[0];
      if (address) preloaded.add(new URL(address, document.baseURI).href);
    }
  }
  const scale = (row) => {
    // How large the whole picture is drawn, in CSS pixels.
    const { width, height } = row.box;
    const [wide, high] = row.natural;
    if (!wide || !high) return [width, height];
    const across = width / wide, down = height / high;
    let by = null;
    if (row.fit === "cover") by = Math.max(across, down);
    else if (row.fit === "contain" || row.fit === "scale-down") by = Math.min(across, down);
    else if (row.fit === "none" || row.fit === "auto" || row.fit === "auto auto") by = 1;
    else if (row.how === "background") {
      const [one, two] = row.fit.split(/\s+/).map((part) =>
        part.endsWith("%") ? (parseFloat(part) / 100) : part.endsWith("px") ? parseFloat(part) : null);
      const percent = row.fit.includes("%");
      if (one != null) by = percent ? (one * width) / wide : one / wide;
      else if (two != null) by = percent ? (two * height) / high : two / high;
      else by = 1;
    }
    return by === null ? [width, height] : [wide * by, high * by];
  };
  for (const row of found) row.natural = await pixels(row.address);
  found.sort((one, other) => one.box.top - other.box.top || one.box.left - other.box.left);
  return {
    width: document.documentElement.scrollWidth,
    height: Math.max(document.documentElement.scrollHeight, document.body?.scrollHeight ?? 0),
    frames: document.querySelectorAll("iframe, frame").length,
    password: document.querySelector("input[type=password]") !== null,
    pictures: found.map((row) => ({
      address: row.address.slice(0, 4000), how: row.how, box: row.box, natural: row.natural, drawn: scale(row),
      said: row.said ?? null, lazy: row.lazy, stated: row.stated, shown: row.shown, preloaded: preloaded.has(row.address),
    })),
  };
}
