/* Plum Crate's live check: outlines pictures that are shown far below their size, for whoever asks by
   ?picture-check in the address or by Alt+Shift+P. It sends nothing anywhere. */
(() => {
  "use strict";
  let layer = null;
  const pixels = (image) => new Promise((resolve) => {
    // What an <img> says is divided by its density; the file's own size is not.
    const probe = new Image();
    probe.onload = () => resolve([probe.naturalWidth, probe.naturalHeight]);
    probe.onerror = () => resolve([0, 0]);
    probe.src = image.currentSrc;
  });
  const note = (box, text, colour) => {
    const mark = document.createElement("div");
    Object.assign(mark.style, {
      position: "absolute", left: box.left + scrollX + "px", top: box.top + scrollY + "px",
      width: box.width + "px", height: box.height + "px", boxSizing: "border-box",
      outline: "3px solid " + colour, outlineOffset: "-3px",
    });
    const label = document.createElement("span");
    label.textContent = text;
    Object.assign(label.style, {
      position: "absolute", left: "0", top: "0", padding: "2px 6px", background: colour, color: "#fff",
      font: "600 12px/1.4 sans-serif", whiteSpace: "nowrap",
    });
    mark.append(label);
    layer.append(mark);
  };
  const show = async () => {
    layer = document.createElement("div");
    layer.id = "picture-check";
    Object.assign(layer.style, { position: "absolute", left: "0", top: "0", zIndex: "2147483647", pointerEvents: "none" });
    document.documentElement.append(layer);
    const here = layer;
    for (const image of document.images) {
      const box = image.getBoundingClientRect();
      if (!image.currentSrc || box.width < 2 || box.height < 2) continue;
      const [wide, high] = await pixels(image);
      if (layer !== here) return;
      const across = Math.round(box.width * devicePixelRatio), down = Math.round(box.height * devicePixelRatio);
      const times = (wide * high) / (across * down);
      if (!wide) continue;
      const sizes = wide + " × " + high + " for " + across + " × " + down;
      if (times >= 1.7) note(box, times.toFixed(1) + " times its place: " + sizes, "#a8481f");
      else if (times < 0.6) note(box, "smaller than its place: " + sizes, "#6b2c5c");
      else note(box, sizes, "#2f6b4a");
    }
  };
  const hide = () => { layer.remove(); layer = null; };
  addEventListener("keydown", (event) => {
    if (event.altKey && event.shiftKey && event.code === "KeyP") layer ? hide() : show();
  });
  if (new URLSearchParams(location.search).has("picture-check")) {
    document.readyState === "complete" ? show() : addEventListener("load", show);
  }
})();
