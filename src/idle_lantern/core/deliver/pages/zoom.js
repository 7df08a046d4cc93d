"use strict";
// Shows the tiles beside this page; the library draws and follows hands, this gives it the tiles, the keys and the words.
(() => {
  const picture = JSON.parse(document.getElementById("picture").textContent), told = document.getElementById("told");
  const view = OpenSeadragon({
    element: document.getElementById("view"),
    drawer: "canvas",                                // pages from disk may not read pictures back, which other ways of drawing do
    showNavigationControl: false,
    maxZoomPixelRatio: 4,
    animationTime: matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 0.6,
    gestureSettingsMouse: { clickToZoom: false, dblClickToZoom: true },
    tileSources: {
      width: picture.width, height: picture.height, tileSize: picture.tile, tileOverlap: 0,
      getTileUrl: (level, x, y) => `${encodeURIComponent(picture.folder)}/${level}/${x}_${y}.jpg`,
    },
  });
  const port = view.viewport;
  view.addHandler("open", () => {
    for (const caption of picture.captions) {
      const words = document.createElement("div");
      words.className = "caption";
      words.textContent = caption.text;
      view.addOverlay({ element: words, location: port.imageToViewportCoordinates(caption.x, caption.y) });
    }
  });
  view.addHandler("tile-load-failed", e => {
    told.textContent = `A tile is missing (${e.tile.getUrl()}): keep the folder ${picture.folder} beside this page.`;
  });
  view.addHandler("update-viewport", () => {
    const seen = port.getBounds(true), window_ = document.getElementById("window");
    window_.style.left = `${Math.max(0, seen.x) * 100}%`;
    window_.style.width = `${(Math.min(1, seen.x + seen.width) - Math.max(0, seen.x)) * 100}%`;
    document.body.dataset.zoom = port.viewportToImageZoom(port.getZoom(true)).toFixed(4);
  });
  view.addHandler("fully-loaded-change", e => { document.body.dataset.sharp = String(e.fullyLoaded); });
  view.world.addHandler("add-item", e => {
    e.item.addHandler("fully-loaded-change", f => { document.body.dataset.sharp = String(f.fullyLoaded); });
  });
  const zoom = by => { port.zoomBy(by); port.applyConstraints(); };
  const full = () => { port.zoomTo(port.imageToViewportZoom(1 / (devicePixelRatio || 1))); port.applyConstraints(); };
  const whole = () => { if (document.fullscreenElement) document.exitFullscreen(); else document.documentElement.requestFullscreen?.(); };
  const acts = { in: () => zoom(1.3), out: () => zoom(1 / 1.3), true: full, home: () => port.goHome(), full: whole };
  for (const [name, act] of Object.entries(acts)) document.getElementById(name).onclick = act;
  const step = (x, y) => {
    const seen = port.getBounds();
    port.panBy(new OpenSeadragon.Point(x * seen.width / 8, y * seen.height / 8));
    port.applyConstraints();
  };
  const keys = {
    "+": acts.in, "=": acts.in, "-": acts.out, 1: full, Home: acts.home, f: whole, F: whole,
    ArrowLeft: () => step(-1, 0), ArrowRight: () => step(1, 0), ArrowUp: () => step(0, -1), ArrowDown: () => step(0, 1),
  };
  addEventListener("keydown", e => {
    if (!keys[e.key] || e.ctrlKey || e.altKey || e.metaKey) return;
    e.preventDefault();
    e.stopPropagation();
    keys[e.key]();
  }, true);
})();
