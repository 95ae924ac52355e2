// The card by the minute: what to set now, where to point, what comes next; all of it was worked out at home.
import {
  clockAt, nightAt
} from "./point-geometry.js";

// Hours and minutes until something, as one says it.
export function until(seconds) {
  const minutes = Math.max(Math.round(seconds / 60), 0);
  const rest = minutes % 60;
  return minutes < 60 ? `in ${minutes} min` : `in ${Math.floor(minutes / 60)} h ${String(rest).padStart(2, "0")}`;
}

// What the card says at a time: lines to set, and the next two things to come.
export function minuteSays(night, t) {
  const sky = nightAt(night.minutes, t);
  const compass = (sky.pose[0] - night.declination + 360) % 360;
  const set = sky.set ? `ISO ${sky.set.iso}, ${sky.set.shutter} s, ${sky.set.frames} frames` : sky.why;
  const up = sky.target[1] > 0 ? `${night.name} ${sky.target[1].toFixed(0)}° up, sky ${sky.sky.toFixed(1)} mag/arcsec²` :
    `${night.name} below the horizon`;
  const next = night.coming.filter((c) => c.t > t).slice(0, 2);
  return {
    set,
    point: `az ${sky.pose[0].toFixed(0)}° up ${sky.pose[1].toFixed(0)}°, a compass shows ${compass.toFixed(0)}°`,
    up,
    hands: sky.hands,
    next: next.map((c) => `${c.words[0].toUpperCase()}${c.words.slice(1)} ${c.clock}, ${until(c.t - t)}`)
  };
}

function startMinute() {
  const data = document.getElementById("night");
  const place = document.getElementById("minute");
  if (!data || !place) return;
  const night = JSON.parse(data.textContent);
  const rows = night.minutes;
  const slider = place.querySelector("input");
  const [first, last] = [rows[0].t, rows[rows.length - 1].t];
  const tonight = () => Date.now() / 1000 >= first && Date.now() / 1000 <= last;
  let following = true;
  if (tonight()) { // in the field the minute comes first, at the desk the list
    place.open = true;
    document.querySelector(".times").before(place);
  }
  slider.min = first;
  slider.max = last;
  const show = () => {
    if (following) slider.value = tonight() ? Date.now() / 1000 : night.planned.t;
    const t = Number(slider.value);
    const says = minuteSays(night, t);
    const clock = clockAt(rows, t, document.documentElement.dataset.clock === "12");
    const now = following && tonight();
    place.querySelector("[data-minute=clock]").textContent = now ? `Now, ${clock}` : clock;
    for (const name of ["set", "point", "up", "hands"])
      place.querySelector(`[data-minute=${name}]`).textContent = says[name];
    place.querySelector("[data-minute=next]").textContent = says.next.join(". ");
  };
  slider.addEventListener("input", () => {
    following = false;
    show();
  });
  place.querySelector("button").addEventListener("click", () => {
    following = true;
    show();
  });
  show();
  setInterval(show, 20000);
}

startMinute();
