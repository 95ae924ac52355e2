// The skyline of a site, tapped corner by corner with the phone held along it; landmarks and lamps on it. What was
// tapped waits on the phone and is sent home like everything that is noted in the field.
import {
  Aims
} from "./aims.js";
import {
  Orientation
} from "./orientation.js";
import {
  wrapped
} from "./point-geometry.js";
import {
  keepNote
} from "./waiting.js";

const place = JSON.parse(document.getElementById("place").textContent);
const part = (id) => document.getElementById(id);
const canvas = part("strip");
const key = `vinter-card-skyline-${place.site}`;
const aims = new Aims(place.shot);
const phone = new Orientation([180, 5, 0], () => show());
const WIDE = 110; // degrees across the strip
const HIGHEST = 40; // degrees at its upper edge
const FEWEST = 2; // corners of a skyline
let corners = []; // [azimuth, altitude], true, in the order they were tapped

try {
  corners = JSON.parse(localStorage.getItem(key)) || [];
} catch (error) {
  corners = [];
}

function pointed() {
  return phone.pretend || (phone.reading && aims.corrected(phone.reading, place.declination));
}

function remember() {
  try {
    localStorage.setItem(key, JSON.stringify(corners));
  } catch (error) {
    /* they stay as long as the page is open */
  }
}

function draw(pose) {
  const pen = canvas.getContext("2d");
  const middle = pose[0];
  const x = (azimuth) => canvas.width * (0.5 + wrapped(azimuth - middle) / WIDE);
  const y = (altitude) => canvas.height * (1 - (altitude + 6) / (HIGHEST + 6));
  pen.fillStyle = "#000";
  pen.fillRect(0, 0, canvas.width, canvas.height);
  const line = (points, colour, width) => {
    pen.strokeStyle = colour;
    pen.lineWidth = width;
    pen.beginPath();
    points.forEach(([azimuth, altitude], i) => i ? pen.lineTo(x(azimuth), y(altitude)) : pen.moveTo(x(azimuth), y(altitude)));
    pen.stroke();
  };
  const near = (points) => points.filter(([azimuth]) => Math.abs(wrapped(azimuth - middle)) < WIDE * 0.7)
    .sort((a, b) => wrapped(a[0] - middle) - wrapped(b[0] - middle));
  pen.font = `24px "Atkinson Mono", monospace`;
  pen.fillStyle = "#a80000";
  for (const [words, azimuth] of [["N", 0], ["NE", 45], ["E", 90], ["SE", 135], ["S", 180], ["SW", 225], ["W", 270], ["NW", 315]])
    if (Math.abs(wrapped(azimuth - middle)) < WIDE / 2) pen.fillText(words, x(azimuth) - 10, canvas.height - 8);
  line(near(place.horizon), "#6a0000", 3);
  line(near(corners), "#e00000", 5);
  pen.fillStyle = "#ff0000";
  for (const [azimuth, altitude] of near(corners)) pen.fillRect(x(azimuth) - 6, y(altitude) - 6, 12, 12);
  pen.fillStyle = "#c00000";
  for (const [name, azimuth, altitude] of place.landmarks) {
    if (Math.abs(wrapped(azimuth - middle)) > WIDE / 2) continue;
    pen.fillText(name, x(azimuth) + 8, y(altitude) - 10);
  }
  pen.strokeStyle = "#ff0000";
  pen.lineWidth = 2;
  pen.beginPath();
  pen.arc(canvas.width / 2, y(pose[1]), 16, 0, 7);
  pen.stroke();
}

function show() {
  const pose = pointed();
  draw(pose || [180, 5, 0]);
  for (const id of ["corner", "landmark", "lamp"]) part(id).disabled = !pose;
  part("back").disabled = corners.length === 0;
  part("done").disabled = corners.length < FEWEST;
  part("aiming").hidden = !pose;
  if (pose) {
    const shown = (pose[0] - place.declination + 360) % 360;
    part("turn").textContent = `az ${pose[0].toFixed(0)}° (a compass ${shown.toFixed(0)}°), ` +
      `${pose[1] >= 0 ? "up" : "down"} ${Math.abs(pose[1]).toFixed(0)}°; ${corners.length} corner${corners.length === 1 ? "" : "s"}`;
    part("sensor").textContent = "";
  }
  part("compass").textContent = phone.pretend ? "At a desk: the arrow keys turn the phone." : aims.words(!phone.reading || phone.north);
  document.body.dataset.corners = String(corners.length);
}

const rounded = (pose) => [Number(pose[0].toFixed(2)), Number(pose[1].toFixed(2))];

function tapped(pose) {
  corners = [...corners, rounded(pose)];
  remember();
  if (navigator.vibrate) navigator.vibrate(20);
  show();
}

function noted(kind) {
  const pose = pointed();
  const name = part("named").value.trim();
  if (!pose || !name) {
    part("told").textContent = "Give it a name first.";
    return;
  }
  const [azimuth, altitude] = rounded(pose);
  keepNote(kind, {
    name,
    azimuth,
    altitude
  });
  if (kind === "landmark") place.landmarks.push([name, azimuth, altitude]);
  part("told").textContent = `${name}: az ${azimuth.toFixed(0)}°, kept.`;
  part("named").value = "";
  show();
}

part("start").addEventListener("click", async () => {
  part("start").disabled = await phone.start((words) => {
    part("sensor").textContent = `${words} At a desk the arrow keys turn the phone.`;
  });
});
part("corner").addEventListener("click", () => pointed() && tapped(pointed()));
part("back").addEventListener("click", () => {
  corners = corners.slice(0, -1);
  remember();
  show();
});
part("done").addEventListener("click", () => {
  keepNote("horizon", {
    points: corners
  });
  part("told").textContent = `${corners.length} corners kept: they become the skyline of ${place.name}; what they do not ` +
    "cover stays as it was.";
  const between = (a) => corners.some(([b]) => Math.abs(wrapped(a - b)) < 3);
  place.horizon = [...place.horizon.filter(([a]) => !between(a)), ...corners];
  corners = [];
  remember();
  show();
});
part("landmark").addEventListener("click", () => noted("landmark"));
part("lamp").addEventListener("click", () => noted("lamp"));
const mark = part("mark");
if (mark) {
  mark.replaceChildren(...place.landmarks.map(([name]) => new Option(name, name)));
  part("aimed").addEventListener("click", () => {
    const found = place.landmarks.find(([name]) => name === mark.value);
    const at = phone.reading ? [phone.reading[0] + place.declination, phone.reading[1]] : phone.pretend;
    if (found && at) aims.add(at, found);
    show();
  });
}
show();
