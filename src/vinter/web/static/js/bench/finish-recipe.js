// What can be worked out of a recipe without a page: values by path, their words, steps back.
export const at = (recipe, path) => path.split(".").reduce((o, p) => o[p], recipe);

export function put(recipe, path, value) {
  const parts = path.split("."),
    last = parts.pop();
  parts.reduce((o, p) => o[p], recipe)[last] = value;
}

// A recipe as text, the same whatever the order of its names.
export const text = (value) => JSON.stringify(value, (_, v) =>
  v && typeof v === "object" && !Array.isArray(v) ?
  Object.fromEntries(Object.entries(v).sort(([a], [b]) => (a < b ? -1 : 1))) : v);

// A value with its unit, as a slider or a line of the ladder says it.
export function words(value, unit) {
  const v = Number(value);
  if (unit === "%") return `${Math.round(100 * v)} %`.replace("-", "−");
  if (unit === "K") return `${Math.round(v)} K`;
  const digits = unit === "°" ? 1 : 2;
  const sign = v > 0 && (unit === "EV" || unit === "°") ? "+" : "";
  return `${sign}${v.toFixed(digits)} ${unit}`.replace("-", "−");
}

// What a line of the ladder says when it is shut: the values that are not at rest, two at most.
export function summary(values) {
  const moved = values.filter((v) => String(v.value) !== String(v.rest) && Number(v.value) !== Number(v.rest));
  if (!moved.length) return "as it is";
  const said = moved.slice(0, 2).map((v) => v.unit === undefined ? String(v.value) : words(v.value, v.unit));
  return said.join(" · ") + (moved.length > 2 ? ` · ${moved.length - 2} more` : "");
}

// Steps back and forth over texts of recipes; the oldest go when there are too many.
export class Steps {
  constructor(now, past = [], future = [], most = 60) {
    Object.assign(this, {
      now,
      past,
      future,
      most
    });
  }
  take(next) {
    if (next === this.now) return false;
    this.past = [...this.past, this.now].slice(-this.most);
    this.future = [];
    this.now = next;
    return true;
  }
  travel(back) {
    const [from, to] = back ? [this.past, this.future] : [this.future, this.past];
    if (!from.length) return false;
    to.push(this.now);
    this.now = from.pop();
    return true;
  }
}

// Shares of the whole picture of a place (px) of what is shown, and the other way round, by a homography.
export function toShares(m, x, y) {
  const [a, b, c] = m.map((row) => row[0] * x + row[1] * y + row[2]);
  return [a / c, b / c];
}

export function fromShares(m, across, down) {
  const [
    [a, b, c],
    [d, e, f],
    [g, h, i]
  ] = m;
  const back = [
    [e * i - f * h, c * h - b * i, b * f - c * e],
    [f * g - d * i, a * i - c * g, c * d - a * f],
    [d * h - e * g, b * g - a * h, a * e - b * d]
  ];
  return toShares(back, across, down);
}

// A crop as a frame over the whole picture that is shown (px): its middle, width and height. The largest frame
// of a proportion about the middle of the picture is what a size of 1 means.
export const RATIOS = {
  "3:2": 3 / 2,
  "4:5": 4 / 5,
  "1:1": 1,
  "16:9": 16 / 9,
  "9:16": 9 / 16
};

export const proportion = (crop, size) =>
  crop.ratio === "free" ? crop.aspect : RATIOS[crop.ratio] || size[0] / size[1];

// Whether a frame lies in the picture that was taken.
export function holds(m, [x, y], w, h) {
  return [
    [-1, -1],
    [1, -1],
    [1, 1],
    [-1, 1]
  ].every(([i, j]) => {
    const at = toShares(m, x - 0.5 + (i * w) / 2, y - 0.5 + (j * h) / 2);
    return at.every((v) => v > -1e-3 && v < 1.001);
  });
}

const SLIDES = 60,
  SLIDE = 1500; // steps along an edge that are looked at, and how many of them are a frame's height

// Where the middle of a frame (w, h) comes to lie that is drawn from one place to another: there, or else along the
// picture's edge, which may be slanted; where it was if nowhere.
export function slid(m, to, last, w, h) {
  const ways = [to];
  for (let k = 0; k <= SLIDES; k += 1) {
    for (const by of [k * h / SLIDE, -k * h / SLIDE]) ways.push([to[0], last[1] + by], [last[0] + by, to[1]]);
  }
  const off = ([x, y]) => Math.hypot(x - to[0], y - to[1]);
  ways.sort((a, b) => off(a) - off(b));
  return ways.find((middle) => holds(m, middle, w * 0.999, h * 0.999)) ?? last;
}

export function tallest(m, middle, ratio, size) {
  let [low, high] = [0, 4 * Math.max(...size)];
  for (let k = 0; k < 30; k += 1) {
    const half = (low + high) / 2;
    if (holds(m, middle, ratio * half, half)) low = half;
    else high = half;
  }
  return low;
}

export function cropFrame(crop, m, size) {
  const ratio = proportion(crop, size);
  const centre = fromShares(m, 0.5, 0.5).map((v) => v + 0.5);
  const wanted = fromShares(m, crop.x, crop.y).map((v) => v + 0.5);
  const h = crop.size * tallest(m, centre, ratio, size);
  const nearer = (t) => wanted.map((v, k) => v + t * (centre[k] - v));
  let [out, within] = holds(m, wanted, ratio * h, h) ? [0, 0] : [0, 1];
  // as the core does: a frame that would reach out is brought back towards the middle, as little as may be
  for (let k = 0; k < 30 && within > out; k += 1) {
    const half = (out + within) / 2;
    if (holds(m, nearer(half), ratio * h, h)) within = half;
    else out = half;
  }
  const [x, y] = nearer(within);
  return {
    x,
    y,
    w: ratio * h,
    h
  };
}

// A smooth rising curve through points, as the core draws it (Fritsch and Carlson's slopes), at n + 1 places.
export function curve(points, n = 64) {
  const inner = [...points].sort((p, q) => p[0] - q[0]).filter((p) => p[0] > 0 && p[0] < 1);
  const x = [0, ...inner.map((p) => p[0]), 1];
  const y = [0, ...inner.map((p) => p[1]), 1];
  for (let i = 1; i < y.length; i += 1) y[i] = Math.max(y[i], y[i - 1]);
  const h = x.slice(1).map((v, i) => v - x[i]),
    s = h.map((w, i) => (y[i + 1] - y[i]) / w);
  const end = (h0, h1, s0, s1) => {
    const d = ((2 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
    if (Math.sign(d) !== Math.sign(s0)) return 0;
    return Math.sign(s0) !== Math.sign(s1) && Math.abs(d) > 3 * Math.abs(s0) ? 3 * s0 : d;
  };
  const last = s.length - 1;
  const slope = x.map((_, i) => {
    if (!last) return s[0];
    if (i === 0) return end(h[0], h[1], s[0], s[1]);
    if (i === last + 1) return end(h[last], h[last - 1], s[last], s[last - 1]);
    if (s[i - 1] * s[i] <= 0) return 0;
    const a = 2 * h[i] + h[i - 1],
      b = h[i] + 2 * h[i - 1];
    return (a + b) / (a / s[i - 1] + b / s[i]);
  });
  return Array.from({
    length: n + 1
  }, (_, k) => {
    const u = k / n;
    const i = Math.min(x.findLastIndex((v) => v <= u), last);
    const t = (u - x[i]) / h[i];
    return [u, y[i] * (1 + 2 * t) * (1 - t) ** 2 + slope[i] * h[i] * t * (1 - t) ** 2 +
      y[i + 1] * t * t * (3 - 2 * t) + slope[i + 1] * h[i] * t * t * (t - 1)
    ];
  });
}

// By how much a line drawn along a horizon (px) leans, in degrees clockwise that make it level.
export const lean = (x0, y0, x1, y1) => {
  const [ax, ay, bx, by] = x0 <= x1 ? [x0, y0, x1, y1] : [x1, y1, x0, y0];
  return (-Math.atan2(by - ay, bx - ax) * 180) / Math.PI;
};
