"use strict";
// Looks around in spheres that are kept as tiles of cube faces, drawn by WebGL: no library, no network.
(() => {
  const places = JSON.parse(document.getElementById("places").textContent);
  const canvas = document.getElementById("view"), told = document.getElementById("told");
  const gl = canvas.getContext("webgl", { alpha: false, antialias: false });
  if (!gl) {
    told.textContent = "This browser draws nothing in three dimensions (WebGL). Switch that on, or open the page in another one.";
    return;
  }
  // columns: right, down, outwards; x right, y down, z to azimuth 0 (as the faces were cut)
  const FACES = %FACES%;
  const RAD = Math.PI / 180, KEPT = 160, AT_ONCE = 4;
  const still = matchMedia("(prefers-reduced-motion: reduce)").matches;
  let place = 0, yaw = 0, pitch = 0, fov = 75;      // degrees; the field is that of the longer side
  let speed = [0, 0], dirty = true, loading = 0;
  const tiles = new Map();                           // id -> {texture, used, state}

  // --- drawing ------------------------------------------------------------------
  const shader = (kind, text) => { const s = gl.createShader(kind); gl.shaderSource(s, text); gl.compileShader(s); return s; };
  const program = gl.createProgram();
  gl.attachShader(program, shader(gl.VERTEX_SHADER,
    "attribute vec3 at; attribute vec2 from; uniform mat3 turn; uniform vec2 focal; varying vec2 uv;" +
    "void main() { vec3 p = turn * at; uv = from; gl_Position = vec4(p.x * focal.x, -p.y * focal.y, 0.0, p.z); }"));
  gl.attachShader(program, shader(gl.FRAGMENT_SHADER,
    "precision mediump float; varying vec2 uv; uniform sampler2D tile; void main() { gl_FragColor = texture2D(tile, uv); }"));
  gl.linkProgram(program);
  gl.useProgram(program);
  const atPlace = gl.getAttribLocation(program, "at"), fromPlace = gl.getAttribLocation(program, "from");
  const turnPlace = gl.getUniformLocation(program, "turn"), focalPlace = gl.getUniformLocation(program, "focal");
  gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
  gl.enableVertexAttribArray(atPlace);
  gl.enableVertexAttribArray(fromPlace);
  gl.vertexAttribPointer(atPlace, 3, gl.FLOAT, false, 20, 0);
  gl.vertexAttribPointer(fromPlace, 2, gl.FLOAT, false, 20, 12);

  // rows: right, down and forward of the view
  function axes() {
    const cy = Math.cos(yaw * RAD), sy = Math.sin(yaw * RAD), cp = Math.cos(pitch * RAD), sp = Math.sin(pitch * RAD);
    return [[cy, 0, -sy], [sp * sy, cp, sp * cy], [cp * sy, -sp, cp * cy]];
  }
  const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
  const focal = () => Math.max(canvas.width, canvas.height) / 2 / Math.tan(fov * RAD / 2);   // in pixels

  function corner(face, x, y) {                      // x, y from -1 to 1 on the face
    const [r, d, z] = FACES[face];
    return [0, 1, 2].map(i => r[i] * x + d[i] * y + z[i]);
  }

  // whether a tile may be seen: all its corners beyond one side of the view hide it
  function hidden(corners, view, f) {
    const across = canvas.width / 2 / f, up = canvas.height / 2 / f;
    const beyond = [
      p => p[2] <= 0, p => p[0] > across * p[2], p => -p[0] > across * p[2],
      p => p[1] > up * p[2], p => -p[1] > up * p[2],
    ];
    const seen = corners.map(c => [dot(view[0], c), dot(view[1], c), dot(view[2], c)]);
    return beyond.some(out => seen.every(out));
  }

  function draw() {
    dirty = false;
    const ratio = Math.min(devicePixelRatio || 1, 2);
    const width = Math.round(innerWidth * ratio), height = Math.round(innerHeight * ratio);
    if (canvas.width !== width || canvas.height !== height) { canvas.width = width; canvas.height = height; }
    gl.viewport(0, 0, width, height);
    gl.clearColor(0.082, 0.09, 0.102, 1);
    gl.clear(gl.COLOR_BUFFER_BIT);
    const view = axes(), f = focal(), here = places[place];
    gl.uniformMatrix3fv(turnPlace, false, [0, 1, 2].flatMap(i => [view[0][i], view[1][i], view[2][i]]));
    gl.uniform2f(focalPlace, f / (width / 2), f / (height / 2));
    // the first level as fine as the view
    let finest = here.levels - 1;
    while (finest > 0 && here.side / 2 ** (here.levels - finest) / 2 >= f * 0.9) finest--;
    const wanted = [];
    for (let level = 0; level <= finest; level++) {
      const side = here.side / 2 ** (here.levels - 1 - level), count = Math.ceil(side / here.tile);
      for (let face = 0; face < 6; face++)
        for (let row = 0; row < count; row++)
          for (let column = 0; column < count; column++) {
            const x0 = column * here.tile / side * 2 - 1, y0 = row * here.tile / side * 2 - 1;
            const x1 = Math.min(1, (column + 1) * here.tile / side * 2 - 1), y1 = Math.min(1, (row + 1) * here.tile / side * 2 - 1);
            const c = [corner(face, x0, y0), corner(face, x1, y0), corner(face, x0, y1), corner(face, x1, y1)];
            if (hidden(c, view, f)) continue;
            const id = `${place}-${level}-${face}-${row}-${column}`, kept = tiles.get(id);
            if (kept && kept.texture) {
              kept.used = performance.now();
              gl.bindTexture(gl.TEXTURE_2D, kept.texture);
              gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([...c[0], 0, 0, ...c[1], 1, 0, ...c[2], 0, 1, ...c[3], 1, 1]), gl.STREAM_DRAW);
              gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
            } else if (!kept) wanted.push(id);
          }
    }
    for (const id of wanted) if (loading < AT_ONCE) load(id);
    shown(view, f);
    // for those who wait for the picture to be whole
    document.body.dataset.sharp = String(wanted.length === 0 && loading === 0 && document.readyState === "complete");
    if (wanted.length && !loading && document.readyState !== "complete") setTimeout(again, 50);
  }

  function load(id) {
    const kept = document.getElementById("t" + id);
    if (!kept) {
      // the sphere shows nothing there, once all of the page has come
      if (document.readyState === "complete") tiles.set(id, { texture: null, used: 0 });
      return;
    }
    loading++;
    tiles.set(id, { texture: null, used: performance.now() });
    const image = new Image();
    image.onload = () => {
      loading--;
      const texture = gl.createTexture();
      gl.bindTexture(gl.TEXTURE_2D, texture);
      gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGB, gl.RGB, gl.UNSIGNED_BYTE, image);
      for (const [name, value] of [["TEXTURE_WRAP_S", "CLAMP_TO_EDGE"], ["TEXTURE_WRAP_T", "CLAMP_TO_EDGE"], ["TEXTURE_MIN_FILTER", "LINEAR"], ["TEXTURE_MAG_FILTER", "LINEAR"]])
        gl.texParameteri(gl.TEXTURE_2D, gl[name], gl[value]);
      tiles.get(id).texture = texture;
      forget();
      again();
    };
    image.onerror = () => { loading--; again(); };
    image.src = "data:image/jpeg;base64," + kept.textContent.trim();
  }

  function forget() {                                // the tiles that were not seen for longest
    const held = [...tiles].filter(([, t]) => t.texture);
    if (held.length <= KEPT) return;
    held.sort((a, b) => a[1].used - b[1].used);
    for (const [id, tile] of held.slice(0, held.length - KEPT)) { gl.deleteTexture(tile.texture); tiles.delete(id); }
  }

  function again() {
    if (dirty) return;
    dirty = true;
    document.body.dataset.sharp = "false";
    requestAnimationFrame(draw);
  }

  // --- what is told ----------------------------------------------------------------
  function shown(view, f) {
    const here = places[place], marks = document.getElementById("marks"), band = marks.clientWidth || 1;
    const names = { 0: "N", 90: "E", 180: "S", 270: "W" }, first = here.north_deg ?? 0;
    let text = "";
    for (let a = 0; a < 360; a += 30) {
      let off = (a - first - yaw) % 360;
      off = (off + 540) % 360 - 180;
      text += `<span style="left:${band / 2 + off / 180 * band}px">${here.north_deg == null ? a + "°" : names[a] ?? a + "°"}</span>`;
    }
    marks.innerHTML = text;
    const ratio = canvas.width / innerWidth;
    for (const button of document.getElementById("links").children) {
      const p = corner0(button.dataset.yaw, button.dataset.pitch), z = dot(view[2], p);
      const off = [f * dot(view[0], p) / z, f * dot(view[1], p) / z];
      button.hidden = z <= 0.05 || Math.abs(off[0]) > canvas.width / 2 || Math.abs(off[1]) > canvas.height / 2;
      button.style.left = `${(canvas.width / 2 + off[0]) / ratio}px`;
      button.style.top = `${(canvas.height / 2 + off[1]) / ratio}px`;
    }
    plan();
    canvas.dataset.yaw = yaw.toFixed(2);
    canvas.dataset.pitch = pitch.toFixed(2);
    canvas.dataset.fov = fov.toFixed(2);
  }
  function corner0(y, p) {
    return [Math.cos(p * RAD) * Math.sin(y * RAD), -Math.sin(p * RAD), Math.cos(p * RAD) * Math.cos(y * RAD)];
  }

  // the places from above, north up, and what is looked at
  function plan() {
    const drawn = document.getElementById("plan"), known = places.filter(p => p.at_m);
    drawn.style.display = known.length < 2 ? "none" : "";
    if (known.length < 2) return;
    const xs = known.map(p => p.at_m[0]), ys = known.map(p => p.at_m[1]);
    const span = Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys), 1);
    const at = p => [84 + (p.at_m[0] - (Math.max(...xs) + Math.min(...xs)) / 2) / span * 120, 84 - (p.at_m[1] - (Math.max(...ys) + Math.min(...ys)) / 2) / span * 120];
    let text = "";
    for (const p of known) for (const link of p.links) {
      if (!places[link.to].at_m) continue;
      const [a, b] = at(p), [c, d] = at(places[link.to]);
      text += `<line x1="${a}" y1="${b}" x2="${c}" y2="${d}"/>`;
    }
    const here = places[place];
    if (here.at_m) {
      const [x, y] = at(here), middle = yaw + (here.north_deg ?? 0), side = a => [x + 34 * Math.sin(a * RAD), y - 34 * Math.cos(a * RAD)];
      const [a, b] = side(middle - fov / 2), [c, d] = side(middle + fov / 2);
      text += `<path d="M${x} ${y}L${a} ${b}A34 34 0 0 1 ${c} ${d}Z"/>`;
    }
    places.forEach((p, k) => {
      if (p.at_m) text += `<circle data-to="${k}" cx="${at(p)[0]}" cy="${at(p)[1]}" r="6" class="${k === place ? "here" : ""}"/>`;
    });
    drawn.innerHTML = text;
  }
  document.getElementById("plan").addEventListener("click", e => { if (e.target.dataset.to) go(Number(e.target.dataset.to)); });

  function go(index, facing) {
    place = index;
    const here = places[place];
    document.getElementById("name").textContent = here.name;
    document.getElementById("note").textContent = here.note || "";
    document.title = here.name;
    const links = document.getElementById("links");
    links.textContent = "";
    for (const link of here.links || []) {
      const button = document.createElement("button");
      button.textContent = places[link.to].name;
      button.dataset.yaw = link.yaw_deg;
      button.dataset.pitch = link.pitch_deg;
      // one keeps looking the same way by the compass
      button.onclick = () => go(link.to, here.north_deg == null ? undefined : yaw + here.north_deg);
      links.append(button);
    }
    home();
    if (facing !== undefined && here.north_deg != null) aim(facing - here.north_deg, 0, fov);
  }
  function home() { const first = places[place].view; speed = [0, 0]; aim(first.yaw_deg, first.pitch_deg, first.fov_deg); }

  function aim(y, p, field) {
    const limit = places[place].limits;
    fov = Math.min(120, Math.max(limit.fov_deg, field));
    pitch = Math.min(limit.up_deg, Math.max(limit.down_deg, p));
    yaw = ((y + 180) % 360 + 360) % 360 - 180;
    if (limit.yaw_deg) yaw = Math.min(limit.yaw_deg[1], Math.max(limit.yaw_deg[0], yaw));
    again();
  }

  // --- hands -------------------------------------------------------------------------
  const held = new Map();
  let last = 0, apart = 0;
  canvas.addEventListener("pointerdown", e => {
    canvas.setPointerCapture(e.pointerId);
    held.set(e.pointerId, [e.clientX, e.clientY]);
    speed = [0, 0]; last = e.timeStamp; apart = 0;
    canvas.classList.add("held");
  });
  canvas.addEventListener("pointermove", e => {
    if (!held.has(e.pointerId)) return;
    const before = held.get(e.pointerId), now = [e.clientX, e.clientY];
    held.set(e.pointerId, now);
    if (held.size === 2) {                           // two fingers zoom
      const [a, b] = [...held.values()], span = Math.hypot(a[0] - b[0], a[1] - b[1]);
      if (apart) aim(yaw, pitch, fov * apart / span);
      apart = span;
      return;
    }
    const step = innerWidth / canvas.width * focal(), degrees = 1 / step / RAD;
    const dx = (before[0] - now[0]) * degrees / Math.max(0.2, Math.cos(pitch * RAD)), dy = (now[1] - before[1]) * degrees;
    const dt = Math.max(1, e.timeStamp - last);
    last = e.timeStamp;
    speed = [0.6 * speed[0] + 0.4 * dx / dt, 0.6 * speed[1] + 0.4 * dy / dt];
    aim(yaw + dx, pitch + dy, fov);
  });
  const let_go = e => {
    held.delete(e.pointerId);
    apart = 0;
    if (held.size) return;
    canvas.classList.remove("held");
    if (still || e.timeStamp - last > 80) speed = [0, 0];
    glide(performance.now());
  };
  canvas.addEventListener("pointerup", let_go);
  canvas.addEventListener("pointercancel", let_go);
  function glide(before) {
    requestAnimationFrame(now => {
      if (held.size || Math.hypot(...speed) < 0.002) return;
      const dt = Math.min(50, now - before);
      aim(yaw + speed[0] * dt, pitch + speed[1] * dt, fov);
      const rest = Math.exp(-dt / 260);
      speed = [speed[0] * rest, speed[1] * rest];
      glide(now);
    });
  }
  canvas.addEventListener("wheel", e => { e.preventDefault(); aim(yaw, pitch, fov * Math.exp(e.deltaY * 0.001)); }, { passive: false });
  addEventListener("keydown", e => {
    const step = fov / 15, acts = {
      ArrowLeft: () => aim(yaw - step, pitch, fov), ArrowRight: () => aim(yaw + step, pitch, fov),
      ArrowUp: () => aim(yaw, pitch + step, fov), ArrowDown: () => aim(yaw, pitch - step, fov),
      "+": () => aim(yaw, pitch, fov / 1.15), "=": () => aim(yaw, pitch, fov / 1.15), "-": () => aim(yaw, pitch, fov * 1.15),
      Home: home, f: whole, F: whole,
    };
    if (acts[e.key] && !e.ctrlKey && !e.altKey && !e.metaKey) { e.preventDefault(); acts[e.key](); }
  });
  function whole() { if (document.fullscreenElement) document.exitFullscreen(); else document.documentElement.requestFullscreen?.(); }
  document.getElementById("in").onclick = () => aim(yaw, pitch, fov / 1.15);
  document.getElementById("out").onclick = () => aim(yaw, pitch, fov * 1.15);
  document.getElementById("home").onclick = home;
  document.getElementById("full").onclick = whole;
  addEventListener("resize", again);
  addEventListener("load", again);
  canvas.addEventListener("webglcontextlost", e => { e.preventDefault(); told.textContent = "Drawing stopped. Load the page again."; });
  dirty = false;
  go(0);
})();
