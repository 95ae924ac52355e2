// The season sheet: names the night under the pointer or the cursor, and opens it.
"use strict";

(() => {
  const sheet = document.getElementById("season");
  if (!sheet) return;
  const days = Number(sheet.dataset.days), year = Number(sheet.dataset.year);
  const line = document.getElementById("at"), read = document.getElementById("read");
  const height = 600, width = 780, firstHour = 17, hours = 15;
  const name = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "long", year: "numeric", timeZone: "UTC" });
  let row = -1;

  const day = () => new Date(Date.UTC(year, 0, 1 + row));

  function show(i, clock) {
    row = Math.max(0, Math.min(days - 1, i));
    const y = ((row + 0.5) / days) * height;
    line.setAttribute("visibility", "visible");
    line.setAttribute("y1", y);
    line.setAttribute("y2", y);
    read.textContent = `${name.format(day())}${clock ? `, ${clock}` : ""}`;
  }

  function place(event) {
    const box = sheet.getBoundingClientRect(), view = sheet.viewBox.baseVal;
    const x = ((event.clientX - box.left) / box.width) * view.width + view.x;
    const y = ((event.clientY - box.top) / box.height) * view.height + view.y;
    if (x < 0 || x > width || y < 0 || y > height) return false;
    const minutes = Math.round((firstHour + (x / width) * hours) * 12) * 5;
    show(Math.floor((y / height) * days), `${String(Math.floor(minutes / 60) % 24).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`);
    return true;
  }

  const open = () => { if (row >= 0) window.location.href = `${sheet.dataset.night}?day=${day().toISOString().slice(0, 10)}`; };

  sheet.addEventListener("pointermove", place);
  sheet.addEventListener("click", (event) => { if (place(event)) open(); });
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, select, textarea, a, button")) return;
    if (event.key === "ArrowDown") show(row + 1);
    else if (event.key === "ArrowUp") show(row - 1);
    else if (event.key === "Enter") open();
    else return;
    event.preventDefault();
  });
})();
