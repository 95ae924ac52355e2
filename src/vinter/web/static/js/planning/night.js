// The cursor on the night strip: reads the samples the server computed, draws, and keeps the address.
import { clockStyle } from "./season-clock.js";
import {
  heightAlong,
  nearestSample
} from "./strip-geometry.js";

function start() {
  const night = document.getElementById("night");
  if (!night) return;
  const samples = JSON.parse(document.getElementById("samples").textContent);
  const start = Number(night.dataset.start),
    end = Number(night.dataset.end);
  const zone = new Intl.DateTimeFormat("en-GB", {
    ...clockStyle(document.documentElement.dataset.clock),
    timeZone: night.dataset.tz
  });
  const strip = night.querySelector("svg");
  const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
  const dot = document.createElementNS("http://www.w3.org/2000/svg", "circle");
  const sky = strip.querySelector('[data-part="sky"]');
  const height = Number(sky.getAttribute("height"));
  const across = () => Number(sky.getAttribute("width")); // less on a narrow page
  const second = document.getElementById("cursor2");
  line.setAttribute("class", "cursor");
  dot.setAttribute("r", "5");
  dot.setAttribute("class", "cursor-dot");
  strip.append(line, dot);
  const core = strip.querySelector('[data-part="core"]');

  const signed = (v) => String(v).replace("-", "−");
  const lost = (v) => (Math.abs(v) < 0.005 ? "0.00" : "−" + v.toFixed(2));
  let index = 0;

  function show(i, keep) {
    index = Math.max(0, Math.min(samples.length - 1, i));
    const s = samples[index];
    const x = ((s.t - start) / (end - start)) * across();
    for (const l of [line, second]) {
      l.setAttribute("x1", x);
      l.setAttribute("x2", x);
    }
    line.setAttribute("y1", -6);
    line.setAttribute("y2", height + 6);
    const y = s.alt > 0 ? heightAlong(core.getAttribute("d"), x) : null;
    dot.setAttribute("visibility", y === null ? "hidden" : "visible");
    dot.setAttribute("cx", x);
    dot.setAttribute("cy", y === null ? 0 : y);
    const clock = zone.format(new Date(s.t * 1000));
    const set = (name, text) => {
      const e = document.querySelector(`[data-f="${name}"]`);
      if (e) e.textContent =
        text;
    };
    for (const id of ["at", "plan-at"]) {
      const e = document.getElementById(id);
      if (e) e.textContent = clock;
    }
    set("core", s.alt > 0 ? `${Math.round(s.alt)}° high, az ${s.az}°` : `${signed(Math.round(s.alt))}°, below`);
    set("tilt", signed(s.tilt) + "°");
    set("bodies", `${signed(Math.round(s.sun))}°, ${signed(Math.round(s.moon))}°`);
    set("sky", `${s.sky.toFixed(1)} ± ${s.err.toFixed(1)}`);
    for (const name of Object.keys(s.cost)) set(name, lost(s.cost[name]));
    if (s.contrast !== null) set("contrast", s.contrast.toFixed(2));
    for (const link of document.querySelectorAll("[data-at-link]")) link.href =
      `${link.dataset.atLink}?t=${Math.round(s.t)}${night.dataset.query ? "&" + night.dataset.query : ""}`;
    if (keep) {
      const query = new URLSearchParams(location.search);
      query.set("t", Math.round(s.t));
      history.replaceState(null, "", `?${query}`);
    }
  }

  function follow(event) {
    const box = strip.getBoundingClientRect(),
      view = strip.viewBox.baseVal;
    const x = ((event.clientX - box.left) / box.width) * view.width + view.x;
    show(nearestSample(samples, start + (x / across()) * (end - start)), true);
  }

  strip.addEventListener("pointerdown", (event) => {
    strip.setPointerCapture(event.pointerId);
    follow(event);
  });
  strip.addEventListener("pointermove", (event) => {
    if (event.buttons) follow(event);
  });
  addEventListener("resize", () => show(index, false));
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.target.matches("input, select, textarea")) return;
    const step = event.shiftKey ? 12 : 1;
    if (event.key === "ArrowLeft") show(index - step, true);
    else if (event.key === "ArrowRight") show(index + step, true);
    else if (event.key === "[") document.getElementById("before").click();
    else if (event.key === "]") document.getElementById("after").click();
    else return;
    event.preventDefault();
  });
  show(nearestSample(samples, Number(night.dataset.at || samples[Math.floor(samples.length / 2)].t)), false);
}

start();
