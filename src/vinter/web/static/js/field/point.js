// The page that points: the phone's orientation against the pose of the plan, drawn in red, without signal.
import {
  aimsSay, alphaOf, apart, clockAt, directionOf, held, nightAt, projected, turnTo, turnWords, wrapped
} from "./point-geometry.js";
import {
  keepNote
} from "./waiting.js";

const LASTING = 40 * 60; // s that an aim is believed
const OLD = 20 * 60; // s after which the page asks for a new one
const ON_TARGET = 1; // degrees within which the arrow stands still and bright
const SIGHT = 0.62; // tangent at the edge of the drawing
const STEADY = 0.25; // share of the way to the newest reading that is gone with every picture
const SETTLED = 0.02; // degrees within which it is reached

const night = JSON.parse(document.getElementById("night").textContent);
const part = (id) => document.getElementById(id);
const canvas = part("aim");
const key = `vinter-aims-${night.shot}`;
const rows = night.minutes;
let reading = null; // how the phone is held: [azimuth by its compass, altitude, roll], of its sensors
let newest = null; // the last that they said; the reading follows it, calmly
let north = false; // whether they know where north is
let pretend = null; // or of the arrow keys, at a desk
let following = true; // the clock, until a minute is dragged to
let close = false;
let aims = [];
try {
  aims = JSON.parse(localStorage.getItem(key)) || [];
} catch (error) {
  aims = [];
}

const clockOf = () => Date.now() / 1000;
const when = () => {
  const [first, last] = [rows[0].t, rows[rows.length - 1].t];
  const now = clockOf();
  if (!following) return Number(part("when").value);
  return now >= first && now <= last ? now : night.planned.t;
};

// Where the phone points, true: the compass with its declination, less what the last aims say it is off.
function pointed() {
  if (pretend) return pretend;
  if (!reading) return null;
  const error = aimsSay(aims, clockOf(), LASTING) || {
    azimuth: 0,
    altitude: 0
  };
  return [
    (reading[0] + night.declination - error.azimuth + 360) % 360, reading[1] - error.altitude, reading[2]
  ];
}

function stroke(context, points, pose, scale, closed) {
  context.beginPath();
  let drawn = false;
  for (const p of points) {
    const at = projected(p, pose);
    if (!at || Math.hypot(...at) > 3) {
      drawn = false;
      continue;
    }
    const [x, y] = [canvas.width / 2 + at[0] * scale, canvas.height / 2 + at[1] * scale];
    if (drawn) context.lineTo(x, y);
    else context.moveTo(x, y);
    drawn = true;
  }
  if (closed) context.closePath();
  context.stroke();
}

// The frame of the lens at a pose: points along its four sides.
function frameOf(pose) {
  const [w, h] = [night.lens.across / 2, night.lens.down / 2];
  const corners = [
    [-w, -h],
    [w, -h],
    [w, h],
    [-w, h],
    [-w, -h]
  ];
  const points = [];
  for (let k = 0; k < 4; k += 1)
    for (let i = 0; i <= 8; i += 1) {
      const share = i / 8;
      points.push(directionOf(corners[k].map((v, j) => v + (corners[k + 1][j] - v) * share), pose));
    }
  return points;
}

function label(context, text, at, scale, size) {
  if (!at || Math.abs(at[0]) > SIGHT * 1.05 || Math.abs(at[1]) > SIGHT * 1.2) return;
  context.font = `${size}px "Atkinson Mono", monospace`;
  const room = canvas.width - context.measureText(text).width - 4; // the whole name stays on the screen
  context.fillText(text, Math.min(canvas.width / 2 + at[0] * scale + 12, room), canvas.height / 2 + at[1] * scale - 8);
}

function draw(sky, pose, wanted) {
  const context = canvas.getContext("2d");
  const scale = canvas.width / 2 / SIGHT;
  context.fillStyle = "#000";
  context.fillRect(0, 0, canvas.width, canvas.height);
  context.textAlign = "left";
  context.lineJoin = "round";
  context.strokeStyle = "#5a0000";
  context.lineWidth = 3;
  const around = sky.band.map((p, i) => [p, sky.band[(i + 1) % sky.band.length]]);
  for (const [a, b] of around)
    if (apart(a, b) < 16) stroke(context, [a, b], pose, scale, false);
  context.strokeStyle = "#8a0000";
  const side = night.horizon.filter(([azimuth]) => Math.abs(wrapped(azimuth - pose[0])) < 75)
    .sort((a, b) => wrapped(a[0] - pose[0]) - wrapped(b[0] - pose[0]));
  context.lineWidth = 4;
  stroke(context, side, pose, scale, false);
  context.fillStyle = "#a80000";
  for (const [azimuth, words] of night.lamps) label(context, words, projected([azimuth, 1], pose), scale, 26);
  for (const [name, azimuth, altitude] of sky.marks) {
    const at = projected([azimuth, altitude], pose);
    if (!at) continue;
    const [x, y] = [canvas.width / 2 + at[0] * scale, canvas.height / 2 + at[1] * scale];
    context.fillStyle = "#c00000";
    context.fillRect(x - 4, y - 4, 8, 8);
    label(context, name, at, scale, 26);
  }
  const core = projected(sky.target, pose);
  if (core && sky.target[1] > -5) {
    context.strokeStyle = "#e00000";
    context.lineWidth = 4;
    context.beginPath();
    context.arc(canvas.width / 2 + core[0] * scale, canvas.height / 2 + core[1] * scale, 22, 0, 7);
    context.stroke();
    context.fillStyle = "#e00000";
    label(context, night.name, core, scale, 28);
  }
  context.strokeStyle = "#b00000";
  context.lineWidth = 5;
  stroke(context, frameOf(wanted), pose, scale, false);
}

// One large arrow from the centre towards where the lens has to point; a still ring when it is there.
function arrow(pose, wanted) {
  const context = canvas.getContext("2d");
  const [cx, cy] = [canvas.width / 2, canvas.height / 2];
  const off = apart(pose, wanted);
  const bright = Math.round(255 * Math.max(0.6, Math.min(1, 1 - (off - ON_TARGET) / 40)));
  context.strokeStyle = `rgb(${bright}, 0, 0)`;
  context.fillStyle = context.strokeStyle;
  context.lineWidth = 12;
  if (off <= ON_TARGET) {
    context.beginPath();
    context.arc(cx, cy, 60, 0, 7);
    context.stroke();
    return off;
  }
  const at = projected(wanted, pose);
  const [right, up] = turnTo(pose, wanted);
  const turn = at ? Math.atan2(at[1], at[0]) : Math.atan2(-up, right);
  const length = 90 + Math.min(off, 60) * 2.6;
  context.save();
  context.translate(cx, cy);
  context.rotate(turn);
  context.beginPath();
  context.moveTo(30, 0);
  context.lineTo(length, 0);
  context.stroke();
  context.beginPath();
  context.moveTo(length + 46, 0);
  context.lineTo(length - 8, -34);
  context.lineTo(length - 8, 34);
  context.closePath();
  context.fill();
  context.restore();
  return off;
}

function sentences(sky) {
  const t = when();
  part("clock").textContent = clockAt(rows, t, document.documentElement.dataset.clock === "12");
  part("what").textContent = sky.set ? `ISO ${sky.set.iso}, ${sky.set.shutter} s, ${sky.set.frames} frames` :
    sky.why || "";
  part("hands").textContent = sky.hands;
  const error = aimsSay(aims, clockOf(), LASTING);
  const note = part("compass");
  if (pretend) note.textContent = "At a desk: the arrow keys turn the phone, [ and ] lean it.";
  else if (!error && reading && !north) note.textContent =
    "This device does not say where north is: aim at something known, then the arrow is right.";
  else if (!error) note.textContent =
    "The compass is not checked: a car, a clamp or a lamp turns it by 5 to 20°. Aim at something known.";
  else {
    const off = `The compass was ${Math.abs(error.azimuth).toFixed(1)}° off, by ${error.name}, ` +
      `${Math.round(error.age / 60)} min ago`;
    const two = error.apart === null ? "" : error.apart <= 2 ? `; two aims agree to ${error.apart.toFixed(1)}°` :
      `; two aims disagree by ${error.apart.toFixed(0)}°: aim again`;
    note.textContent = `${off}${two}. ${error.age > OLD ? "That is long ago: aim again." : ""}`;
  }
}

function show() {
  const sky = nightAt(rows, when());
  const wanted = following && Math.abs(when() - night.planned.t) < 300 ? night.planned.pose : sky.pose;
  const pose = pointed();
  draw(sky, pose || [wanted[0], wanted[1], 0], wanted);
  const turn = part("turn");
  if (pose) {
    const off = arrow(pose, wanted);
    const left = turnTo(pose, wanted);
    turn.textContent = turnWords(left) || "There";
    document.body.dataset.off = off.toFixed(2);
    document.body.dataset.turn = left.map((v) => v.toFixed(2)).join(" ");
    if (off <= ON_TARGET !== close) {
      close = off <= ON_TARGET;
      if (close && navigator.vibrate) navigator.vibrate(40);
    }
  } else {
    const compass = (wanted[0] - night.declination + 360) % 360;
    turn.textContent = `az ${wanted[0].toFixed(0)}°, a compass shows ${compass.toFixed(0)}°, up ${wanted[1].toFixed(0)}°`;
  }
  sentences(sky);
}

function offerMarks() {
  const select = part("mark");
  const chosen = select.value;
  const names = nightAt(rows, when()).marks.map(([name]) => name);
  const known = [...select.options].map((o) => o.value);
  if (names.join() === known.join()) return;
  select.replaceChildren(...names.map((name) => new Option(name, name)));
  if (names.includes(chosen)) select.value = chosen;
}

function aimed() {
  const held = reading || pretend;
  const found = nightAt(rows, when()).marks.find(([name]) => name === part("mark").value);
  if (!held || !found) return;
  const shown = reading ? reading[0] + night.declination : pretend[0];
  const off = {
    name: found[0],
    azimuth: wrapped(shown - found[1]),
    altitude: held[1] - found[2]
  };
  aims = [...aims, {
    t: clockOf(),
    ...off
  }].slice(-6);
  keepNote("aim", off);
  try {
    localStorage.setItem(key, JSON.stringify(aims));
  } catch (error) {
    /* it holds as long as the page is open */
  }
  show();
}

function turned(event) {
  if (event.alpha === null || event.beta === null) return;
  const heading = event.webkitCompassHeading;
  const knows = event.absolute || heading !== undefined;
  if (north && !knows) return;
  north = knows;
  const alpha = heading === undefined ? event.alpha : alphaOf(event.alpha, event.beta, event.gamma, heading);
  const angle = screen.orientation ? screen.orientation.angle : window.orientation || 0;
  newest = held(alpha, event.beta, event.gamma, angle);
  if (!reading) requestAnimationFrame(follow);
  reading = reading || newest;
  pretend = null;
  part("aiming").hidden = false;
  part("sensor").textContent = "";
  document.body.dataset.sensor = "yes";
  show();
}

// The drawing follows the phone with every picture, calmer than its sensors are.
function follow() {
  const way = [wrapped(newest[0] - reading[0]), newest[1] - reading[1], wrapped(newest[2] - reading[2])];
  const far = Math.max(...way.map(Math.abs));
  if (far > 0) {
    const share = far < SETTLED ? 1 : STEADY;
    reading = reading.map((v, i) => v + way[i] * share);
    reading[0] = (reading[0] + 360) % 360;
    show();
  }
  requestAnimationFrame(follow);
}

async function start() {
  const asks = window.DeviceOrientationEvent && DeviceOrientationEvent.requestPermission;
  if (asks) {
    const answer = await DeviceOrientationEvent.requestPermission().catch(() => "denied");
    if (answer !== "granted") {
      part("sensor").textContent = "The phone keeps its orientation to itself. Use the star and your hands below.";
      return;
    }
  }
  addEventListener("deviceorientationabsolute", turned);
  addEventListener("deviceorientation", turned);
  part("start").disabled = true;
  setTimeout(() => {
    if (!reading && !pretend) part("sensor").textContent =
      "No orientation comes from this device. Use the star and your hands below.";
  }, 2500);
}

const KEYS = {
  ArrowLeft: [-1, 0, 0],
  ArrowRight: [1, 0, 0],
  ArrowUp: [0, 1, 0],
  ArrowDown: [0, -1, 0],
  "[": [0, 0, -1],
  "]": [0, 0, 1]
};
addEventListener("keydown", (event) => {
  const step = KEYS[event.key];
  if (!step || reading || ["INPUT", "SELECT"].includes(event.target.tagName)) return;
  event.preventDefault();
  const far = event.shiftKey ? 10 : 1;
  pretend = pretend || [(night.planned.pose[0] + 330) % 360, 10, 4];
  pretend = [
    (pretend[0] + step[0] * far + 360) % 360,
    Math.max(-89, Math.min(89, pretend[1] + step[1] * far)),
    pretend[2] + step[2] * far
  ];
  show();
});

const slider = part("when");
slider.min = rows[0].t;
slider.max = rows[rows.length - 1].t;
slider.value = when();
slider.addEventListener("input", () => {
  following = false;
  offerMarks();
  show();
});
part("now").addEventListener("click", () => {
  following = true;
  slider.value = when();
  offerMarks();
  show();
});
part("start").addEventListener("click", start);
part("aimed").addEventListener("click", aimed);
offerMarks();
show();
setInterval(() => {
  if (following) slider.value = when();
  offerMarks();
  show();
}, 15000);
