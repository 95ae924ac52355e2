// The page that points: the phone's orientation against the pose of the plan, drawn in red, without signal.
import {
  Aims
} from "./aims.js";
import {
  Orientation
} from "./orientation.js";
import {
  beginning,
  apart, clockAt, directionOf, nightAt, projected, turnTo, turnWords, wrapped
} from "./point-geometry.js";

const ON_TARGET = 1; // degrees within which the arrow stands still and bright
const SIGHT = 0.62; // tangent at the edge of the drawing

const night = JSON.parse(document.getElementById("night").textContent);
const part = (id) => document.getElementById(id);
const canvas = part("aim");
const rows = night.minutes;
const aims = new Aims(night.shot);
const phone = new Orientation([(night.planned.pose[0] + 330) % 360, 10, 4], () => changed());
let following = true; // the clock, until a minute is dragged to
let close = false;
const clockOf = () => Date.now() / 1000;
const when = () => {
  const [first, last] = [rows[0].t, rows[rows.length - 1].t];
  const now = clockOf();
  if (!following) return Number(part("when").value);
  return now >= first && now <= last ? now : night.planned.t;
};

// Where the phone points, true.
function pointed() {
  return phone.pretend || (phone.reading && aims.corrected(phone.reading, night.declination));
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

function label(context, words, at, scale, size) {
  if (!at || Math.abs(at[0]) > SIGHT * 1.05 || Math.abs(at[1]) > SIGHT * 1.2) return;
  context.font = `${size}px "Atkinson Mono", monospace`;
  const text = beginning(words, (t) => context.measureText(t).width < canvas.width * 0.6);
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
  for (const [azimuth, words] of night.lamps) label(context, `lamp ${words}`, projected([azimuth, 1], pose), scale, 26);
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
  part("compass").textContent = phone.pretend ? "At a desk: the arrow keys turn the phone, [ and ] lean it." :
    aims.words(!phone.reading || phone.north);
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
  const found = nightAt(rows, when()).marks.find(([name]) => name === part("mark").value);
  const at = phone.reading ? [phone.reading[0] + night.declination, phone.reading[1]] : phone.pretend;
  if (!at || !found) return;
  aims.add(at, found);
  show();
}

function changed() {
  if (phone.reading) {
    part("aiming").hidden = false;
    part("sensor").textContent = "";
  }
  show();
}

async function start() {
  part("start").disabled = await phone.start((words) => {
    part("sensor").textContent = `${words} Use the star and your hands below.`;
  });
}

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
