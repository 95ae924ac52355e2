// When everything of a run of the shot timer happens: pure functions, no page.

// All moments of a run, in seconds from its start: [time, phase, frame].
export function moments(settings) {
  const frames = Math.max(1, Math.round(settings.frames));
  const out = [
    [0, "delay", 0]
  ];
  for (let i = 0; i < frames; i++) {
    const start = settings.delay + i * (settings.exposure + settings.gap);
    out.push([start, "open", i + 1]);
    if (settings.lamp > 0 && i === 0) {
      out.push([start + 0.5, "lamp", 1]);
      out.push([start + 0.5 + settings.lamp, "dark", 1]);
    }
    out.push([start + settings.exposure, i + 1 < frames ? "gap" : "done", i + 1]);
  }
  return out.sort((a, b) => a[0] - b[0]);
}

// Seconds as minutes and seconds.
export function clock(seconds) {
  return `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
}
