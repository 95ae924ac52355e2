// How a phone is held and where that points, in degrees; the same sums stand in the core (field/pointing.py).
const RAD = Math.PI / 180;

// Device axes in (east, north, up), one array an axis, of the angles that a browser gives.
function axesOf(alpha, beta, gamma) {
  const [ca, sa] = [Math.cos(alpha * RAD), Math.sin(alpha * RAD)];
  const [cb, sb] = [Math.cos(beta * RAD), Math.sin(beta * RAD)];
  const [cg, sg] = [Math.cos(gamma * RAD), Math.sin(gamma * RAD)];
  return [
    [ca * cg - sa * sb * sg, sa * cg + ca * sb * sg, -cb * sg],
    [-sa * cb, ca * cb, sb],
    [ca * sg + sa * sb * cg, sa * sg - ca * sb * cg, cb * cg]
  ];
}

const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];

export function wrapped(degrees) {
  return ((degrees + 180) % 360 + 360) % 360 - 180;
}

// Where the camera points: [azimuth, altitude, roll clockwise]; the azimuth counts from alpha's north.
export function held(alpha, beta, gamma, screen) {
  const [x, y, z] = axesOf(alpha, beta, gamma);
  const s = (screen || 0) * RAD;
  const forward = z.map((v) => -v);
  const top = x.map((v, i) => v * Math.sin(s) + y[i] * Math.cos(s));
  const azimuth = Math.atan2(forward[0], forward[1]);
  const altitude = Math.asin(Math.max(-1, Math.min(1, forward[2])));
  const right = [Math.cos(azimuth), -Math.sin(azimuth), 0];
  const upward = [
    right[1] * forward[2] - right[2] * forward[1],
    right[2] * forward[0] - right[0] * forward[2],
    right[0] * forward[1] - right[1] * forward[0]
  ];
  const roll = Math.atan2(dot(top, right), dot(top, upward));
  return [(azimuth / RAD + 360) % 360, altitude / RAD, roll / RAD];
}

// Alpha as it would be with the north that a browser's compass heading counts from: the heading is that of the
// phone's top while it lies, of its camera while it stands.
export function alphaOf(alpha, beta, gamma, heading) {
  const [, y, z] = axesOf(alpha, beta, gamma);
  const axis = Math.abs(y[2]) < 0.71 ? y : z.map((v) => -v);
  const shown = Math.atan2(axis[0], axis[1]) / RAD;
  return ((alpha + shown - heading) % 360 + 360) % 360;
}

// How to turn from one [azimuth, altitude, roll] to another: right, up, clockwise.
export function turnTo(now, wanted) {
  return [wrapped(wanted[0] - now[0]), wanted[1] - now[1], wrapped(wanted[2] - now[2])];
}

const vector = (azimuth, altitude) => {
  const flat = Math.cos(altitude * RAD);
  return [flat * Math.sin(azimuth * RAD), flat * Math.cos(azimuth * RAD), Math.sin(altitude * RAD)];
};

export function apart(a, b) {
  return Math.acos(Math.max(-1, Math.min(1, dot(vector(a[0], a[1]), vector(b[0], b[1]))))) / RAD;
}

// Right and down of a direction [azimuth, altitude] as tangents of a view at [azimuth, altitude, roll]; nothing
// behind it.
export function projected(direction, pose) {
  const [azimuth, altitude, roll] = pose;
  const forward = vector(azimuth, altitude);
  const right = [Math.cos(azimuth * RAD), -Math.sin(azimuth * RAD), 0];
  const upward = [
    right[1] * forward[2],
    -right[0] * forward[2],
    right[0] * forward[1] - right[1] * forward[0]
  ];
  const v = vector(direction[0], direction[1]);
  const depth = dot(v, forward);
  if (depth < 0.12) return null;
  const [x, y] = [dot(v, right) / depth, -dot(v, upward) / depth];
  const [c, s] = [Math.cos(roll * RAD), Math.sin(roll * RAD)];
  return [c * x + s * y, -s * x + c * y];
}

// The direction [azimuth, altitude] of a place (tangents right, down) of a view.
export function directionOf(place, pose) {
  const [azimuth, altitude, roll] = pose;
  const [c, s] = [Math.cos(roll * RAD), Math.sin(roll * RAD)];
  const [x, y] = [c * place[0] - s * place[1], s * place[0] + c * place[1]];
  const forward = vector(azimuth, altitude);
  const right = [Math.cos(azimuth * RAD), -Math.sin(azimuth * RAD), 0];
  const upward = [
    right[1] * forward[2],
    -right[0] * forward[2],
    right[0] * forward[1] - right[1] * forward[0]
  ];
  const v = forward.map((f, i) => f + x * right[i] - y * upward[i]);
  const length = Math.hypot(...v);
  return [(Math.atan2(v[0], v[1]) / RAD + 360) % 360, Math.asin(v[2] / length) / RAD];
}

function between(a, b, share) {
  return [a[0] + wrapped(b[0] - a[0]) * share, ...a.slice(1).map((v, i) => v + (b[i + 1] - v) * share)];
}

// The night at a time: the row before it, with what moves brought to the minute between the two.
export function nightAt(rows, t) {
  let k = rows.findIndex((row) => row.t > t) - 1;
  if (k === -2) k = rows.length - 1;
  const row = rows[Math.max(k, 0)];
  const next = rows[Math.min(Math.max(k, 0) + 1, rows.length - 1)];
  const share = next.t > row.t ? Math.max(0, Math.min(1, (t - row.t) / (next.t - row.t))) : 0;
  const later = new Map(next.marks.map(([name, ...place]) => [name, place]));
  const marks = row.marks.map(([name, ...place]) => [name, ...between(place, later.get(name) || place, share)]);
  return {
    ...row,
    marks,
    pose: between(row.pose, next.pose, share),
    target: between(row.target, next.target, share),
    moon: between(row.moon, next.moon, share)
  };
}

// A time as the site's clocks show it, from the nearest row, whose clock is written.
export function clockAt(rows, t, twelve) {
  const nearest = rows.reduce((best, row) => Math.abs(row.t - t) < Math.abs(best.t - t) ? row : best, rows[0]);
  const [hour, minute] = nearest.clock.match(/\d+/g).map(Number);
  const late = /pm/.test(nearest.clock) && hour < 12 ? 12 : /am/.test(nearest.clock) && hour === 12 ? -12 : 0;
  const whole = ((hour + late) * 60 + minute + Math.round((t - nearest.t) / 60) + 1440) % 1440;
  const [h, m] = [Math.floor(whole / 60), String(whole % 60).padStart(2, "0")];
  return twelve ? `${h % 12 || 12}:${m} ${h < 12 ? "am" : "pm"}` : `${String(h).padStart(2, "0")}:${m}`;
}

// What aims at known things say: by how much azimuth and altitude are shown too large, how old the newest is (s),
// how far two disagree. Each aim has the time, and how far off in azimuth and altitude the phone was.
export function aimsSay(aims, now, lasting) {
  const good = aims.filter((a) => now - a.t < lasting && now - a.t > -60).slice(-2);
  if (!good.length) return null;
  const first = good[0];
  const mean = (key) => first[key] + good.reduce((sum, a) => sum + wrapped(a[key] - first[key]), 0) / good.length;
  return {
    azimuth: wrapped(mean("azimuth")),
    altitude: good.length > 1 ? mean("altitude") : 0,
    age: now - good[good.length - 1].t,
    name: good[good.length - 1].name,
    apart: good.length > 1 ? Math.abs(wrapped(good[1].azimuth - first.azimuth)) : null
  };
}

// "right 12, up 3, level 1 clockwise": what is left to do, to a degree, and to a tenth within two degrees.
export function turnWords([right, up, clockwise]) {
  const figure = (v) => Math.abs(v) < 2 ? Math.abs(v).toFixed(1) : Math.abs(v).toFixed(0);
  const parts = [];
  if (Math.abs(right) >= 0.3) parts.push(`${right > 0 ? "right" : "left"} ${figure(right)}`);
  if (Math.abs(up) >= 0.3) parts.push(`${up > 0 ? "up" : "down"} ${figure(up)}`);
  if (Math.abs(clockwise) >= 0.7) parts.push(`level ${figure(clockwise)} ${clockwise > 0 ? "" : "anti"}clockwise`);
  return parts.join(", ");
}

// The beginning of a text that fits a width.
export function beginning(text, fits) {
  if (fits(text)) return text;
  let kept = text.length - 1;
  while (kept > 1 && !fits(`${text.slice(0, kept).trimEnd()}…`)) kept -= 1;
  return `${text.slice(0, kept).trimEnd()}…`;
}
