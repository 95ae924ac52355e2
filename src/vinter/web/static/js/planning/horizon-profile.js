// Editing a horizon profile, a list of [azimuth, altitude] in degrees: pure functions, no page.

export const WIDTH = 1152,
  HEIGHT = 270; // the drawing's units
const LOW = -5,
  HIGH = 40;

// Place of an azimuth and of an altitude in the drawing.
export const x = (azimuth) => (azimuth / 360) * WIDTH;
export const y = (altitude) => HEIGHT - ((altitude - LOW) / (HIGH - LOW)) * HEIGHT;

// A direction kept within the drawing, to a tenth of a degree.
export function held([azimuth, altitude]) {
  return [Math.max(0, Math.min(359.9, azimuth)), Math.max(LOW, Math.min(HIGH, altitude))].map((v) => Math.round(v *
    10) / 10);
}

// The direction at a place of the drawing.
export function directionAt(px, py) {
  return held([(px / WIDTH) * 360, LOW + ((HEIGHT - py) / HEIGHT) * (HIGH - LOW)]);
}

// The profile with one point moved by a step of azimuth and altitude.
export function moved(points, i, [azimuth, altitude]) {
  return points.map((p, j) => (j === i ? held([p[0] + azimuth, p[1] + altitude]) : p));
}

// The profile without one point.
export function removed(points, i) {
  return points.filter((_, j) => j !== i);
}

// Altitude at north: between its last and first point the profile runs round through north, as the sums take it.
export function northAltitude(sorted) {
  const first = sorted[0],
    last = sorted[sorted.length - 1],
    gap = 360 - last[0] + first[0];
  return gap > 0 ? last[1] + ((first[1] - last[1]) * (360 - last[0])) / gap : first[1];
}

// The hills as an SVG path; flat at altitude 0 without points.
export function hillsPath(points) {
  const sorted = [...points].sort((a, b) => a[0] - b[0]);
  if (!sorted.length) return `M0 ${y(0)}H${WIDTH}V${HEIGHT}H0Z`;
  const north = y(northAltitude(sorted));
  return `M0 ${north}${sorted.map((p) => `L${x(p[0])} ${y(p[1])}`).join("")}L${WIDTH} ${north}V${HEIGHT}H0Z`;
}
