// The view from the stand: the server says where things are, this draws them and keeps the address.
import { clockStyle } from "./season-clock.js";
import {
  LOW,
  groundLine,
  highest,
  pixelsPerDegree,
  xOf,
  yOf
} from "./skyline-geometry.js";

function start() {
  const box = document.getElementById("skyline");
  if (!box) return;
  const canvas = box.querySelector("canvas"),
    ink = canvas.getContext("2d");
  const narrow = innerWidth < 700;
  const d = box.dataset;
  const at = {
    t: Number(d.t),
    target: d.target,
    lens: d.lens,
    portrait: d.portrait,
    az: Number(d.az),
    up: Number(d
      .up),
    roll: Number(d.roll),
    centre: Number(d.centre),
    span: Number(new URLSearchParams(location.search).get(
      "span")) || (narrow ? 90 : 150),
    subject: d.subject,
    pole: d.pole,
    station: new URLSearchParams(location
      .search).get("station") || ""
  };
  const show = {
    lines: true,
    names: true
  };
  let scene = null,
    sky = null,
    skyFor = null,
    busy = false,
    again = false,
    skyBusy = false,
    skyAgain = false,
    grip = null,
    free = false;

  const view = () => ({
    width: canvas.clientWidth,
    height: canvas.clientHeight,
    centre: at.centre,
    span: at.span
  });
  const perDegree = () => pixelsPerDegree(view());
  const high = () => highest(view());
  const X = (az) => xOf(az, view());
  const Y = (alt) => yOf(alt, view());
  const minus = (v, n = 0) => Number(v).toFixed(n).replace("-", "−");
  const clock = new Intl.DateTimeFormat("en-GB", {
    ...clockStyle(document.documentElement.dataset.clock),
    timeZone: d.tz
  });

  function query(more = {}) {
    const q = new URLSearchParams();
    const all = {
      t: Math.round(at.t),
      target: at.target,
      lens: at.lens,
      portrait: at.portrait,
      centre: at.centre
        .toFixed(1),
      span: at.span,
      subject: at.subject,
      pole: at.pole,
      station: at.station,
      ...(free ? {} : {
        az: at.az.toFixed(1),
        up: at.up.toFixed(1),
        roll: at.roll.toFixed(1)
      }),
      ...more
    };
    for (const [k, v] of Object.entries(all))
      if (v !== "" && v !== undefined) q.set(k, v);
    return q.toString();
  }

  function path(points, close) {
    ink.beginPath();
    let before = null;
    for (const [az, alt] of points) {
      const x = X(az),
        y = Y(alt);
      if (before === null || Math.abs(x - before) > canvas.clientWidth / 2) ink.moveTo(x, y);
      else ink.lineTo(x, y);
      before = x;
    }
    if (close) ink.closePath();
  }

  function label(text, x, y, colour, align = "left") {
    ink.font = "12px 'Atkinson Next', sans-serif";
    ink.textAlign = align;
    ink.fillStyle = colour;
    ink.fillText(text, x, y);
  }

  const starColour = (bv) => (bv < 0.15 ? "#d6e2ff" : bv < 0.7 ? "#ffffff" : bv < 1.2 ? "#ffeacb" : "#ffd3a1");

  function drawSky(w, h) {
    ink.fillStyle = "#141d33";
    ink.fillRect(0, 0, w, h);
    if (!sky) return;
    const scale = skyFor.span === at.span ? 1 : skyFor.span / at.span;
    const width = w * scale,
      top = Y(skyFor.high);
    for (const shift of [-360, 0, 360]) ink.drawImage(sky, X(skyFor.centre) + shift * perDegree() - width / 2, top,
      width, h - top);
  }

  function drawGrid(w, h) {
    ink.strokeStyle = "#9db1d022";
    ink.lineWidth = 1;
    for (let alt = 0; alt < high(); alt += at.span > 200 ? 30 : 10) {
      ink.beginPath();
      ink.moveTo(0, Y(alt));
      ink.lineTo(w, Y(alt));
      ink.stroke();
      if (alt) label(`${alt}°`, 6, Y(alt) - 3, "#9db1d0aa");
    }
    const step = at.span > 200 ? 45 : at.span > 100 ? 15 : 10;
    for (let az = 0; az < 360; az += step) {
      ink.beginPath();
      ink.moveTo(X(az), 0);
      ink.lineTo(X(az), Y(0));
      ink.stroke();
    }
  }

  function drawStars() {
    if (show.lines) {
      ink.strokeStyle = "#a9bde040";
      ink.lineWidth = 1;
      ink.beginPath();
      for (const [az1, alt1, az2, alt2] of scene.lines) {
        const x1 = X(az1),
          x2 = X(az2);
        if (Math.abs(x1 - x2) < canvas.clientWidth / 3) {
          ink.moveTo(x1, Y(alt1));
          ink.lineTo(x2, Y(alt2));
        }
      }
      ink.stroke();
    }
    for (const [az, alt, v, bv] of scene.stars) {
      const r = Math.max(0.7, (6.1 - v) * 0.5);
      ink.fillStyle = starColour(bv);
      ink.globalAlpha = Math.min(1, 0.6 + (5 - v) * 0.15);
      ink.beginPath();
      ink.arc(X(az), Y(alt), r, 0, 7);
      ink.fill();
    }
    ink.globalAlpha = 1;
    if (show.names && at.span < 300)
      for (const [az, alt, name] of scene.names) label(name, X(az), Y(alt), "#a9bde099", "center");
  }

  function drawMoon() {
    const [az, alt, lit] = scene.moon;
    if (alt < -1) return;
    const x = X(az),
      y = Y(alt),
      r = Math.max(5, 0.26 * perDegree());
    ink.fillStyle = "#f2f1e6";
    ink.beginPath();
    ink.arc(x, y, r, 0, 7);
    ink.fill();
    label(`Moon ${Math.round(lit * 100)} %`, x + r + 5, y + 4, "#e6e8ee");
  }

  function drawTarget() {
    const [az, alt, name] = scene.target, x = X(az), y = Y(alt);
    ink.strokeStyle = "#f7ead0";
    ink.lineWidth = 1.6;
    ink.beginPath();
    ink.arc(x, y, 11, 0, 7);
    ink.stroke();
    label(at.target === "core" ? "core" : name, x + 15, y - 8, "#f7ead0");
  }

  function drawGround(w, h) {
    ink.beginPath();
    ink.moveTo(-10, h + 10);
    const from = at.centre - at.span / 2,
      points = groundLine(scene.horizon);
    const flat = points.map(([az, alt]) => [(az - from) * perDegree(), Y(alt)]);
    for (const [x, y] of flat) ink.lineTo(x, y);
    ink.lineTo(w + 10, h + 10);
    ink.closePath();
    ink.fillStyle = "#0a0e17";
    ink.fill();
    ink.strokeStyle = "#c3cbd355";
    ink.lineWidth = 1;
    ink.stroke();
    ["N", "NE", "E", "SE", "S", "SW", "W", "NW"].forEach((name, i) => label(name, X(i * 45), h - 8, "#dfe5ee",
      "center"));
    for (const [az, words] of scene.lights) {
      const x = X(az),
        y = Y(0);
      ink.fillStyle = "#e0a23a";
      ink.beginPath();
      ink.moveTo(x, y - 8);
      ink.lineTo(x + 5, y);
      ink.lineTo(x - 5, y);
      ink.closePath();
      ink.fill();
      label(words, x + 8, y + 14, "#e0a23a");
    }
  }

  function drawSubject() {
    if (!at.subject) return;
    const [az, foot, top] = at.subject.split(",").map(Number), x = X(az), wide = Math.max(6, (top - foot) *
      perDegree() * 0.35);
    ink.fillStyle = "#05070c";
    ink.strokeStyle = "#f1f3f2aa";
    ink.lineWidth = 1;
    ink.fillRect(x - wide / 2, Y(top), wide, Y(foot) - Y(top));
    ink.strokeRect(x - wide / 2, Y(top), wide, Y(foot) - Y(top));
    label("subject", x + wide / 2 + 5, Y(top) + 12, "#f1f3f2");
  }

  function drawPass() {
    if (!scene.pass) return;
    ink.strokeStyle = "#9ad0ff";
    ink.lineWidth = 2;
    path(scene.pass);
    ink.stroke();
    const [az, alt, t] = scene.pass[Math.floor(scene.pass.length / 2)];
    label(`station ${clock.format(new Date(t * 1000))}`, X(az) + 8, Y(alt) - 8, "#9ad0ff");
  }

  function drawPole() {
    if (!scene.pole) return;
    ink.strokeStyle = "#ff9aa0";
    ink.lineWidth = 1.4;
    ink.setLineDash([6, 5]);
    for (const guide of scene.pole.guides) {
      path(guide.line);
      ink.stroke();
    }
    ink.setLineDash([]);
    const [az, alt] = scene.pole.at, x = X(az), y = Y(alt);
    ink.beginPath();
    ink.moveTo(x - 9, y);
    ink.lineTo(x + 9, y);
    ink.moveTo(x, y - 9);
    ink.lineTo(x, y + 9);
    ink.stroke();
    label("pole", x + 10, y - 6, "#ff9aa0");
    for (const [name, saz, salt] of scene.pole.stars)
      if (salt > 0) label(name, X(saz) + 6, Y(salt) + 4, "#ffc9cc");
  }

  function drawFrame() {
    const outline = scene.frame.outline;
    if (!outline.length) return; // near the Sun by day no frame is drawn
    path(outline, true);
    ink.strokeStyle = "#ffffff";
    ink.lineWidth = 2;
    ink.stroke();
    ink.strokeStyle = "#b4232c";
    ink.lineWidth = 1;
    ink.setLineDash([4, 4]);
    const x = X(scene.frame.az),
      y = Y(scene.frame.up);
    ink.beginPath();
    ink.moveTo(x - 8, y);
    ink.lineTo(x + 8, y);
    ink.moveTo(x, y - 8);
    ink.lineTo(x, y + 8);
    ink.stroke();
    ink.setLineDash([]);
  }

  function draw() {
    const w = box.clientWidth,
      ratio = devicePixelRatio || 1;
    const height = Math.round(Math.min(w * (narrow ? 0.8 : 0.385), innerHeight * 0.62, 98 * (w / at.span)));
    if (canvas.width !== Math.round(w * ratio) || canvas.height !== Math.round(height * ratio)) {
      canvas.width = Math.round(w * ratio);
      canvas.height = Math.round(height * ratio);
      canvas.style.width = `${w}px`;
      canvas.style.height = `${height}px`;
    }
    ink.setTransform(ratio, 0, 0, ratio, 0, 0);
    drawSky(w, height);
    drawGrid(w, height);
    if (!scene) return;
    drawStars();
    drawPole();
    drawPass();
    drawMoon();
    drawTarget();
    drawGround(w, height);
    drawSubject();
    drawFrame();
  }

  function words() {
    const set = (name, text) => {
      document.querySelector(`[data-f="${name}"]`).textContent = text;
    };
    const r = scene.reading,
      f = scene.frame;
    set("target", r.alt > 0 ? `${minus(scene.target[1])}° up, az ${minus(scene.target[0])}°` : "below the horizon");
    set("lean", `${minus(r.tilt)}°`);
    set("sky", `${r.sky.toFixed(1)} ± ${r.err.toFixed(1)} mag/arcsec²`);
    const refused = document.getElementById("refused");
    refused.hidden = !f.refused;
    refused.textContent = f.refused;
    document.getElementById("plan").hidden = Boolean(f.refused);
    set("frame", `${f.size}, az ${minus(f.az)}°, ${minus(f.up)}° up`);
    set("compass", `${f.compass.toFixed(0)}° (${f.north})`);
    set("ground", `${Math.round(f.ground * 100)} %`);
    set("inside", f.target);
    document.getElementById("clock").textContent = clock.format(new Date(at.t * 1000));
    document.getElementById("plan").href =
      `${d.plan}?${query({ centre: "", span: "", pole: "", subject: "", station: "" })}`;
    for (const [id, value] of [
        ["az", f.az.toFixed(0)],
        ["up", f.up.toFixed(0)],
        ["roll", f.roll.toFixed(1)]
      ]) {
      const field = document.getElementById(id);
      if (document.activeElement !== field) field.value = value;
    }
    if (scene.pole) document.getElementById("guide").textContent = scene.pole.guides.map((g) => g.words).join(" ");
    moveCursor();
  }

  async function ask() {
    if (busy) {
      again = true;
      return;
    }
    busy = true;
    again = false;
    try {
      const response = await fetch(`${d.scene}?${query()}`);
      if (response.ok) {
        scene = await response.json();
        if (free) {
          at.az = scene.frame.az;
          at.up = scene.frame.up;
          at.roll = scene.frame.roll;
          free = false;
        }
        words();
        draw();
        history.replaceState(null, "", `?${query()}`);
      }
    } finally {
      busy = false;
      box.dataset.ready = again ? "" : "yes";
      if (again) ask();
    }
  }

  async function askSky() {
    if (skyBusy) {
      skyAgain = true;
      return;
    }
    skyBusy = true;
    skyAgain = false;
    const wanted = {
      centre: at.centre,
      span: at.span,
      high: high()
    };
    try {
      const response = await fetch(
        `${d.sky}?${query({ high: wanted.high.toFixed(2), width: Math.min(1600, Math.round(canvas.clientWidth)) })}`
      );
      if (response.ok) {
        sky = await createImageBitmap(await response.blob());
        skyFor = wanted;
        draw();
        box.dataset.painted = "yes";
      }
    } finally {
      skyBusy = false;
      if (skyAgain) askSky();
    }
  }

  const both = () => {
    draw();
    ask();
    askSky();
  };
  // The night's strip, wide or narrow, is the handle of time.
  const strips = [...document.querySelectorAll(".time")].map((holder) => {
    const svg = holder.querySelector("svg"),
      cursor = document.createElementNS("http://www.w3.org/2000/svg", "line");
    cursor.setAttribute("class", "cursor");
    cursor.setAttribute("y1", -6);
    cursor.setAttribute("y2", 50);
    svg.append(cursor);
    return {
      svg,
      cursor,
      start: Number(holder.dataset.start),
      end: Number(holder.dataset.end),
      width: Number(
        holder.dataset.width)
    };
  });

  function moveCursor() {
    for (const s of strips)
      for (const k of ["x1", "x2"]) s.cursor.setAttribute(k, ((at.t - s.start) / (s.end - s.start)) * s.width);
  }

  function setTime(t) {
    at.t = strips.length ? Math.max(strips[0].start, Math.min(strips[0].end, t)) : t;
    both();
  }

  for (const s of strips) {
    const follow = (event) => {
      const r = s.svg.getBoundingClientRect(),
        v = s.svg.viewBox.baseVal,
        x = ((event.clientX - r.left) / r.width) * v.width + v.x;
      setTime(s.start + (x / s.width) * (s.end - s.start));
    };
    s.svg.addEventListener("pointerdown", (event) => {
      s.svg.setPointerCapture(event.pointerId);
      follow(event);
    });
    s.svg.addEventListener("pointermove", (event) => {
      if (event.buttons) follow(event);
    });
  }

  function inFrame(px, py) {
    if (!scene || !scene.frame.outline.length) return false;
    path(scene.frame.outline, true);
    const ratio = devicePixelRatio || 1;
    return ink.isPointInPath(px * ratio, py * ratio);
  }

  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    const r = canvas.getBoundingClientRect();
    grip = {
      x: event.clientX,
      y: event.clientY,
      frame: inFrame(event.clientX - r.left, event.clientY - r.top),
      az: at.az,
      up: at.up,
      centre: at.centre
    };
    box.focus({
      preventScroll: true
    });
  });
  canvas.addEventListener("pointermove", (event) => {
    if (!grip || !event.buttons) return;
    const dx = (event.clientX - grip.x) / perDegree(),
      dy = (event.clientY - grip.y) / perDegree();
    if (grip.frame) {
      at.az = (grip.az + dx + 720) % 360;
      at.up = Math.max(-30, Math.min(90, grip.up - dy));
      draw();
      ask();
    } else {
      at.centre = (grip.centre - dx + 720) % 360;
      draw();
      askSky();
      ask();
    }
  });
  canvas.addEventListener("pointerup", () => {
    grip = null;
  });

  const field = (id, act) => document.getElementById(id).addEventListener("change", (event) => act(event.target
    .type === "checkbox" ? event.target.checked : event.target.value));
  field("lens", (v) => {
    at.lens = v;
    ask();
  });
  field("held", (v) => {
    at.portrait = v;
    free = true;
    ask();
  });
  for (const name of ["az", "up", "roll"]) field(name, (v) => {
    at[name] = Number(v) || 0;
    ask();
  });
  field("span", (v) => {
    at.span = Number(v);
    both();
  });
  field("target", (v) => {
    at.target = v;
    free = true;
    ask();
  });
  field("pole", (v) => {
    at.pole = v ? "1" : "";
    ask();
  });
  field("lines", (v) => {
    show.lines = v;
    draw();
  });
  field("names", (v) => {
    show.names = v;
    draw();
  });
  const onto = () => {
    free = true;
    ask().then(() => {
      at.centre = scene.target[0];
      both();
    });
  };
  document.getElementById("level").addEventListener("click", onto);
  const spans = document.getElementById("span");
  if (![...spans.options].some((o) => Number(o.value) === at.span)) spans.add(new Option(at.span, at.span));
  spans.value = String(at.span);

  const flip = (id) => {
    const e = document.getElementById(id);
    e.checked = !e.checked;
    e.dispatchEvent(new Event("change", {
      bubbles: true
    }));
  };
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const step = event.shiftKey ? 5 : 1;
    const acts = {
      ArrowLeft: () => {
        at.az = (at.az - step + 360) % 360;
        ask();
      },
      ArrowRight: () => {
        at.az = (at.az + step) % 360;
        ask();
      },
      ArrowUp: () => {
        at.up = Math.min(90, at.up + step);
        ask();
      },
      ArrowDown: () => {
        at.up = Math.max(-30, at.up - step);
        ask();
      },
      ",": () => setTime(at.t - 300),
      ".": () => setTime(at.t + 300),
      "<": () => setTime(at.t - 3600),
      ">": () => setTime(at.t + 3600),
      "(": () => {
        at.roll -= 0.5;
        ask();
      },
      ")": () => {
        at.roll += 0.5;
        ask();
      },
      a: () => {
        at.centre = (at.centre + 350) % 360;
        both();
      },
      d: () => {
        at.centre = (at.centre + 10) % 360;
        both();
      },
      "+": () => {
        at.span = Math.max(30, at.span / 1.25);
        both();
      },
      "-": () => {
        at.span = Math.min(360, at.span * 1.25);
        both();
      },
      t: onto,
      p: () => {
        const e = document.getElementById("held");
        e.value = e.value ? "" : "1";
        e.dispatchEvent(new Event("change"));
      },
      c: () => flip("lines"),
      n: () => flip("names"),
      o: () => flip("pole"),
    };
    if (!acts[event.key]) return;
    acts[event.key]();
    event.preventDefault();
  });
  addEventListener("resize", both);
  both();
}

start();
