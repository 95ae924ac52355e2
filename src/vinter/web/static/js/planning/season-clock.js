// Wall-clock times of a zone as Unix seconds: a pure function, no page.

// Seconds of the minute m minutes after an hour of the n-th day of a year (0 is the first of January).
export function unixOf(year, day, hour, minutes, zone) {
  const guess = Date.UTC(year, 0, 1 + day, hour, minutes);
  const shown = new Intl.DateTimeFormat("en-GB", {
    timeZone: zone,
    hourCycle: "h23",
    year: "numeric",
    month: "numeric",
    day: "numeric",
    hour: "numeric",
    minute: "numeric",
  });
  const parts = Object.fromEntries(shown.formatToParts(guess).map((p) => [p.type, Number(p.value)]));
  const there = Date.UTC(parts.year, parts.month - 1, parts.day, parts.hour, parts.minute);
  return (guess - (there - guess)) / 1000;
}

// How a formatter of times writes hours and minutes for a person with a clock of 12 or 24 hours.
export function clockStyle(hours) {
  return hours === "12" ? { hour: "numeric", minute: "2-digit", hour12: true } : { hour: "2-digit", minute: "2-digit" };
}
