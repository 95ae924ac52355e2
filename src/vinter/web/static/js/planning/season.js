// The season sheet: reads any minute under the pointer or the arrow keys; a click or Enter opens the night.
import {
  unixOf
} from "./season-clock.js";

function start() {
  const sheet = document.getElementById("season");
  if (!sheet) return;
  const HEIGHT = 600,
    FIRST_HOUR = 16,
    HOURS = 17;
  const across = () => Number(sheet.querySelector("image").getAttribute("width")); // less on a narrow page
  const days = Number(sheet.dataset.days),
    year = Number(sheet.dataset.year);
  const row = document.getElementById("at"),
    column = document.getElementById("minute"),
    read = document.getElementById("read");
  const number = (x, digits) => x.toFixed(digits).replace("-", "−");
  let day = 0,
    slot = 96,
    waiting = null,
    busy = false;

  function fill(s) {
    const cost = s.cost;
    read.replaceChildren();
    const rows = [
      ["", `${s.evening}, ${s.time}`],
      ["target", `${number(s.alt, 0)}° up, az ${s.az}°`],
      ["Sun, Moon", `${number(s.sun, 0)}°, ${number(s.moon, 0)}° (${s.lit} %)`],
      ["sky there", `${number(s.sky, 1)} ± ${number(s.err, 1)}`],
      ["lost to towns, Moon, twilight",
        `${number(cost.towns, 2)}, ${number(cost.moon, 2)}, ${number(Math.min(cost.twilight, 9.99), 2)} mag`
      ]
    ];
    for (const [label, value] of rows) {
      const cell = document.createElement("span");
      cell.append(label ? `${label} ` : "", Object.assign(document.createElement("b"), {
        textContent: value
      }));
      read.append(cell);
    }
  }

  async function ask() {
    if (busy || waiting === null) return;
    const t = waiting;
    waiting = null;
    busy = true;
    try {
      const response = await fetch(`${sheet.dataset.read}?t=${t}&${sheet.dataset.query}`);
      if (response.ok) fill(await response.json());
    } finally {
      busy = false;
      ask();
    }
  }

  function show(wantedDay, wantedSlot) {
    day = Math.max(0, Math.min(days - 1, wantedDay));
    slot = Math.max(0, Math.min(HOURS * 12, wantedSlot));
    const y = ((day + 0.5) / days) * HEIGHT,
      x = (slot / (HOURS * 12)) * across();
    row.setAttribute("y1", y);
    row.setAttribute("y2", y);
    column.setAttribute("x1", x);
    column.setAttribute("x2", x);
    column.setAttribute("y1", y - 14);
    column.setAttribute("y2", y + 14);
    row.removeAttribute("visibility");
    column.removeAttribute("visibility");
    waiting = unixOf(year, day, FIRST_HOUR, slot * 5, sheet.dataset.tz);
    ask();
  }

  function under(event) {
    const box = sheet.getBoundingClientRect(),
      view = sheet.viewBox.baseVal;
    const x = ((event.clientX - box.left) / box.width) * view.width + view.x,
      y = ((event.clientY - box.top) / box.height) * view.height + view.y;
    show(Math.floor((y / HEIGHT) * days), Math.round((x / across()) * HOURS * 12));
  }

  function open() {
    const date = new Date(Date.UTC(year, 0, 1 + day));
    location.href = `${sheet.dataset.night}?day=${date.toISOString().slice(0, 10)}&${sheet.dataset.query}`;
  }

  sheet.addEventListener("pointermove", under);
  sheet.addEventListener("click", (event) => {
    under(event);
    open();
  });
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.target.matches("input, select, textarea, a, button, summary")) return;
    const step = event.shiftKey ? 12 : 1;
    if (event.key === "ArrowUp") show(day - 1, slot);
    else if (event.key === "ArrowDown") show(day + 1, slot);
    else if (event.key === "ArrowLeft") show(day, slot - step);
    else if (event.key === "ArrowRight") show(day, slot + step);
    else if (event.key === "Enter") open();
    else return;
    event.preventDefault();
  });
}

start();
