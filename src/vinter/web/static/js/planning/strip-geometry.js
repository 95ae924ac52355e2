// Reading a drawn night strip: pure functions, no page.

const NEAR = 8; // units of the drawing within which a curve counts as being there

// Index of the sample nearest in time.
export function nearestSample(samples, t) {
  return samples.reduce((best, s, i) => (Math.abs(s.t - t) < Math.abs(samples[best].t - t) ? i : best), 0);
}

// Height of a drawn curve (an SVG path of points) at a place; null where it is not drawn.
export function heightAlong(path, x) {
  const numbers = (path.match(/-?[\d.]+/g) || []).map(Number);
  let best = null;
  for (let i = 0; i < numbers.length - 1; i += 2) {
    if (best === null || Math.abs(numbers[i] - x) < Math.abs(best[0] - x)) best = [numbers[i], numbers[i + 1]];
  }
  return best && Math.abs(best[0] - x) < NEAR ? best[1] : null;
}
