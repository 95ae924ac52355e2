// The finish: sends the recipe, shows what comes back. One request in flight, the newest waiting.
import {
  token
} from "./token.js";

function start() {
  const root = document.getElementById("finish");
  if (!root) return;
  const picture = document.getElementById("picture"),
    canvas = document.getElementById("histogram"),
    words = document.getElementById("limits");
  let recipe = JSON.parse(document.getElementById("recipe").textContent);
  let past = [],
    future = [],
    kept = JSON.stringify(recipe);

  const get = (path) => path.split(".").reduce((o, p) => o[p], recipe);
  const set = (path, value) => {
    const parts = path.split("."),
      last = parts.pop();
    parts.reduce((o, p) => o[p], recipe)[last] = value;
  };
  const text = (input) => {
    const v = Number(input.value),
      unit = input.dataset.unit;
    if (unit === "%") return `${Math.round(100 * v)} %`;
    if (unit === "K") return `${Math.round(v)} K`;
    const digits = unit === "°" ? 1 : 2;
    const sign = v > 0 && (unit === "EV" || unit === "°") ? "+" : "";
    return `${sign}${v.toFixed(digits)} ${unit}`.replace("-", "−");
  };

  function label(input) {
    if (input.type !== "range") return;
    const risky = input.dataset.risky && Number(input.value) > Number(input.dataset.risky);
    root.querySelector(`output[for="${CSS.escape(input.id)}"]`).textContent = text(input) + (risky ? " · too much" :
      "");
  }

  function fill() {
    for (const input of root.querySelectorAll("[data-path]")) {
      input.value = get(input.dataset.path);
      label(input);
    }
  }

  function histogram(counts) {
    const pen = canvas.getContext("2d"),
      w = canvas.width,
      h = canvas.height;
    pen.clearRect(0, 0, w, h);
    pen.globalCompositeOperation = "lighter";
    const top = Math.log1p(Math.max(...counts.flatMap((c) => c.slice(1, -1))));
    ["#b33", "#393", "#36b"].forEach((colour, i) => {
      pen.fillStyle = colour;
      counts[i].forEach((n, x) => {
        const tall = (h * Math.log1p(n)) / top;
        pen.fillRect((x * w) / counts[i].length, h - tall, w / counts[i].length, tall);
      });
    });
    pen.globalCompositeOperation = "source-over";
  }

  let busy = false,
    pending = null,
    shown = null;
  async function draw(what, size, before = "") {
    if (busy) {
      pending = [what, size, before];
      return;
    }
    busy = true;
    try {
      const answer = await fetch(`${root.dataset.draw}?size=${size}${before && "&before=1"}`, {
        method: "POST",
        body: JSON.stringify(what),
        headers: {
          "Content-Type": "application/json",
          "X-CSRFToken": token()
        }
      });
      if (!answer.ok) {
        words.textContent = await answer.text();
        return;
      }
      const figures = JSON.parse(answer.headers.get("X-Vinter"));
      shown = figures;
      const blob = URL.createObjectURL(await answer.blob());
      const old = picture.src;
      picture.src = blob;
      await picture.decode().catch(() => {});
      if (old.startsWith("blob:")) URL.revokeObjectURL(old);
      histogram(figures.histogram);
      words.replaceChildren(...figures.words.map((w) => {
        const p = document.createElement("p");
        p.textContent = w;
        return p;
      }));
      picture.dataset.ready = size;
    } finally {
      busy = false;
      if (pending) {
        const next = pending;
        pending = null;
        draw(...next);
      }
    }
  }

  async function keep() {
    const now = JSON.stringify(recipe);
    if (now === kept) return;
    past.push(kept);
    future = [];
    kept = now;
    await save();
  }

  const other = document.getElementById("other");
  let theirs = null;
  async function store() {
    for (let sent = null; sent !== kept && !theirs;) {
      sent = kept;
      const answer = await fetch(root.dataset.save, {
        method: "POST",
        body: sent,
        headers: {
          "Content-Type": "application/json",
          "X-CSRFToken": token(),
          "X-Vinter-Seen": root.dataset.seen
        }
      });
      if (answer.status === 409) theirs = await answer.json();
      else if (answer.ok) root.dataset.seen = (await answer.json()).seen;
    }
    other.hidden = !theirs;
  }
  let storing = null; // one at a time: the next says what the one before was answered
  const save = () => storing ||= store().finally(() => {
    storing = null;
  });

  other.addEventListener("click", async (e) => {
    const take = e.target.dataset.take;
    if (!take || !theirs) return;
    const stored = theirs;
    theirs = null;
    root.dataset.seen = stored.seen;
    if (take === "other") {
      past.push(kept);
      future = [];
      recipe = stored.recipe;
      kept = JSON.stringify(recipe);
      fill();
      draw(recipe, "full");
    }
    await save();
  });

  function travel(from, to) {
    if (!from.length) return;
    to.push(kept);
    kept = from.pop();
    recipe = JSON.parse(kept);
    fill();
    draw(recipe, "full");
    save();
  }

  root.addEventListener("input", (e) => {
    if (!e.target.dataset.path) return;
    set(e.target.dataset.path, e.target.type === "range" ? Number(e.target.value) : e.target.value);
    label(e.target);
    draw(recipe, "draft");
  });
  root.addEventListener("change", (e) => {
    if (!e.target.dataset.path) return;
    draw(recipe, "full");
    keep();
  });

  const before = document.getElementById("before");
  const showBefore = () => draw(recipe, "full", "before");
  before.addEventListener("pointerdown", showBefore);
  for (const name of ["pointerup", "pointerleave"]) before.addEventListener(name, () => draw(recipe, "full"));
  document.getElementById("undo").addEventListener("click", () => travel(past, future));
  document.getElementById("redo").addEventListener("click", () => travel(future, past));

  let placing = "";
  root.addEventListener("click", (e) => {
    if (!e.target.dataset.place) return;
    placing = e.target.dataset.place;
    picture.style.cursor = "crosshair";
  });
  picture.addEventListener("click", (e) => {
    if (!placing) return;
    const part = placing;
    placing = "";
    picture.style.cursor = "";
    const box = picture.getBoundingClientRect();
    const x = ((e.clientX - box.left) / box.width) * shown.size[0],
      y = ((e.clientY - box.top) / box.height) * shown.size[1];
    const [across, down] = shown.to_shares.map((row) => row[0] * x + row[1] * y + row[2]);
    set(`${part}.x`, Math.max(0, Math.min(1, Math.round(1000 * across) / 1000)));
    set(`${part}.y`, Math.max(0, Math.min(1, Math.round(1000 * down) / 1000)));
    draw(recipe, "full");
    keep();
  });

  document.addEventListener("keydown", (e) => {
    if ((e.ctrlKey || e.metaKey) && e.key === "z") {
      travel(past, future);
      e.preventDefault();
    } else if ((e.ctrlKey || e.metaKey) && e.key === "y") {
      travel(future, past);
      e.preventDefault();
    } else if (e.ctrlKey || e.metaKey || e.altKey) {
      return;
    } else if (e.key === "0" && e.target.dataset && e.target.dataset.rest && e.target
      .type === "range") {
      e.target.value = e.target.dataset.rest;
      e.target.dispatchEvent(new Event("input", {
        bubbles: true
      }));
      e.target.dispatchEvent(new Event("change", {
        bubbles: true
      }));
    } else if (e.key === "b" && !e.repeat && !e.target.matches("select")) showBefore();
  });
  document.addEventListener("keyup", (e) => {
    if (e.key === "b") draw(recipe, "full");
  });

  // what is exported is what was kept: wait for a change that is still on its way
  document.getElementById("export").addEventListener("submit", async (e) => {
    e.preventDefault();
    await keep();
    await save();
    if (!theirs) e.target.submit();
  });

  fill();
  draw(recipe, "full");
}

start();
