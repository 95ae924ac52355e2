// The finish: sends the recipe, shows what comes back, keeps what was changed and the way back.
import {
  startCrop
} from "./finish-crop.js";
import {
  startCurve
} from "./finish-curve.js";
import {
  at,
  put,
  Steps,
  summary,
  text,
  words
} from "./finish-recipe.js";
import {
  Stage
} from "./finish-stage.js";
import {
  startTools
} from "./finish-tools.js";
import {
  token
} from "../shared/token.js";

const read = (id) => JSON.parse(document.getElementById(id).textContent);

function remembered(key, now) {
  try {
    const kept = JSON.parse(localStorage.getItem(key) || "null");
    if (kept && kept.now === now) return new Steps(now, kept.past, kept.future);
  } catch {
    // a store that cannot be read begins anew
  }
  return new Steps(now);
}

function start() {
  const root = document.getElementById("finish");
  if (!root) return;
  const facts = read("facts"),
    looks = read("look-recipes");
  const editor = {
    recipe: read("recipe"),
    tool: "",
    redraw: (size = "full") => stage.draw(editor.recipe, size),
    changed() {
      fill();
      stage.draw(editor.recipe, "draft"); // seen at once; the picture itself follows
      keep(stage.draw(editor.recipe, "full"));
    },
    seen,
    sent: (recipe) => crop.sent(recipe),
    drawn: () => crop.draw()
  };
  let steps = remembered(root.dataset.key, text(editor.recipe));
  const stage = new Stage(root, editor);
  const crop = startCrop(root, editor, stage);
  const tools = startTools(root, editor, stage, facts);
  const showCurve = startCurve(editor);

  function label(input) {
    if (input.type !== "range") return;
    const out = root.querySelector(`output[for="${CSS.escape(input.id)}"]`);
    const risky = input.dataset.risky && Number(input.value) > Number(input.dataset.risky);
    out.textContent = words(input.value, input.dataset.unit) + (risky ? " !" : "");
    out.title = risky ? "more than most pictures bear" : "";
  }

  function say() {
    for (const rung of root.querySelectorAll(".rung[data-line]")) {
      const values = [...rung.querySelectorAll("[data-path]")].map((i) => ({
        value: at(editor.recipe, i.dataset.path),
        rest: i.dataset.rest,
        unit: i.dataset.unit
      }));
      let said = summary(values);
      const beyond = [...rung.querySelectorAll("[data-path]")].some((i) => {
        const end = editor.ends?.[i.id];
        return end !== undefined && Number(i.value) > end + 0.01;
      });
      rung.querySelector(".beyond")?.toggleAttribute("hidden", !beyond);
      const areas = editor.recipe.areas.list.length,
        spots = editor.recipe.repair.spots.length;
      if (rung.dataset.line === "Core and areas" && areas) said += ` · ${areas} painted`;
      if (rung.dataset.line === "Repair") said = spots ? `${spots} mended` : "nothing";
      rung.querySelector(".at").textContent = said;
    }
    const plain = editor.recipe.gradient_removal.plain.length,
      wanted = Number(root.dataset.leastPlain) - plain;
    document.getElementById("plain-count").textContent = plain ?
      `${plain} marked${wanted > 0 ? `, ${wanted} more until they count` : ": the glow is drawn through them"}` :
      "the glow is told from the galaxy by the sky's map";
    document.getElementById("areas-count").textContent = `${editor.recipe.areas.list.length} painted`;
    for (const [id, way] of [
        ["undo", steps.past],
        ["redo", steps.future]
      ]) {
      const button = document.getElementById(id);
      button.disabled = !way.length;
      button.title = way.length === 1 ? "1 step" : `${way.length} steps`;
    }
  }

  function fill() {
    for (const input of root.querySelectorAll("[data-path]")) {
      input.value = at(editor.recipe, input.dataset.path);
      label(input);
    }
    for (const input of root.querySelectorAll("input[type=range]:not([data-path])")) label(input);
    showCurve();
    say();
  }

  function seen(figures) {
    const whole = document.getElementById("picture").dataset.ready === "full";
    if (whole) editor.ends = figures.ends; // drafts come without
    for (const input of whole ? root.querySelectorAll("input[type=range][data-path]") : []) {
      const end = figures.ends[input.id];
      if (end === undefined) input.style.removeProperty("--end");
      else {
        const share = (end - Number(input.min)) / (Number(input.max) - Number(input.min));
        input.style.setProperty("--end", `${Math.round(100 * Math.max(0, Math.min(1, share)))}%`);
      }
      label(input);
    }
    say();
    histogram(figures.histogram);
    document.getElementById("limits").replaceChildren(...figures.words.map((w) => {
      const p = document.createElement("p");
      p.textContent = w;
      return p;
    }));
  }

  function histogram(counts) {
    const canvas = document.getElementById("histogram"),
      pen = canvas.getContext("2d"),
      w = canvas.width,
      h = canvas.height;
    pen.clearRect(0, 0, w, h);
    const top = Math.log1p(Math.max(1, ...counts.sky.slice(1, -1), ...counts.ground.slice(1, -1)));
    for (const [zone, tone] of [
        ["sky", "#c8c8c8"],
        ["ground", "#7c7c7ccc"]
      ]) {
      pen.fillStyle = tone;
      counts[zone].forEach((n, x) => {
        const tall = Math.min(h, (h * Math.log1p(n)) / top);
        pen.fillRect((x * w) / counts[zone].length, h - tall, w / counts[zone].length + 0.5, tall);
      });
    }
    const most = counts.sky.indexOf(Math.max(...counts.sky));
    document.getElementById("sky-peak").textContent =
      `Sky peak of the histogram at ${Math.round((100 * (most + 0.5)) / counts.sky.length)} %; darker grey: the ground.`;
  }

  function remember() {
    const {
      now,
      past,
      future
    } = steps;
    try {
      localStorage.setItem(root.dataset.key, JSON.stringify({
        now,
        past,
        future
      }));
    } catch {
      // no room: the way back lasts as long as the page
    }
    say();
  }

  // The way back is kept at once, what is stored goes out when the picture is shown: it would be in its way.
  async function keep(shown = null) {
    if (!steps.take(text(editor.recipe))) return;
    remember();
    await shown;
    await save();
  }

  const other = document.getElementById("other");
  let theirs = null,
    stored = steps.now;
  const post = (now, more = {}) => fetch(root.dataset.save, {
    method: "POST",
    body: now,
    headers: {
      "Content-Type": "application/json",
      "X-CSRFToken": token(),
      "X-Vinter-Seen": root.dataset.seen
    },
    ...more
  });
  async function store() {
    for (let sent = null; sent !== steps.now && !theirs;) {
      sent = steps.now;
      const answer = await post(sent);
      if (answer.status === 409) theirs = await answer.json();
      else if (answer.ok) {
        root.dataset.seen = (await answer.json()).seen;
        stored = sent;
      }
    }
    other.hidden = !theirs;
  }
  let storing = null; // one at a time: the next says what the one before was answered
  const save = () => storing ||= store().finally(() => {
    storing = null;
  });

  // whoever leaves before a change was stored does not lose it
  addEventListener("pagehide", () => {
    if (stored !== steps.now && !storing && !theirs) post(steps.now, {
      keepalive: true
    });
  });

  other.addEventListener("click", async (e) => {
    const take = e.target.dataset.take;
    if (!take || !theirs) return;
    const found = theirs;
    theirs = null;
    root.dataset.seen = found.seen;
    if (take === "other") {
      editor.recipe = found.recipe;
      steps.take(text(editor.recipe));
      remember();
      fill();
      editor.redraw();
    }
    await save();
  });

  function travel(back) {
    if (!steps.travel(back)) return;
    editor.recipe = JSON.parse(steps.now);
    remember();
    fill();
    editor.redraw();
    save();
  }

  root.addEventListener("input", (e) => {
    label(e.target);
    if (!e.target.dataset.path) return;
    put(editor.recipe, e.target.dataset.path, e.target.type === "range" ? Number(e.target.value) : e.target.value);
    say();
    stage.draw(editor.recipe, "draft");
  });
  root.addEventListener("change", (e) => {
    if (!e.target.dataset.path) return;
    keep(stage.draw(editor.recipe, "full"));
  });
  root.addEventListener("click", (e) => {
    const b = e.target.closest("button");
    if (!b) return;
    if (b.dataset.look) {
      editor.recipe = {
        ...structuredClone(looks[b.dataset.look]),
        repair: editor.recipe.repair,
        areas: editor.recipe.areas,
        geometry: editor.recipe.geometry
      };
      editor.changed();
    } else if (b.dataset.reset !== undefined) {
      const rung = b.closest(".rung");
      for (const input of rung.querySelectorAll("[data-path]")) {
        const rest = input.dataset.rest;
        put(editor.recipe, input.dataset.path, input.type === "range" ? Number(rest) : rest);
      }
      editor.changed();
    }
  });

  const before = document.getElementById("before");
  const showBefore = () => stage.draw(editor.recipe, "full", true);
  before.addEventListener("pointerdown", showBefore);
  for (const name of ["pointerup", "pointerleave"]) before.addEventListener(name, () => editor.redraw());
  document.getElementById("undo").addEventListener("click", () => travel(true));
  document.getElementById("redo").addEventListener("click", () => travel(false));

  document.addEventListener("keydown", (e) => {
    if (e.target.matches("textarea, select, input:not([type=range]):not([type=checkbox]):not([type=radio])")) return;
    if ((e.ctrlKey || e.metaKey) && "zy".includes(e.key)) {
      travel(e.key === "z");
      e.preventDefault();
      return;
    }
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "0" && e.target.dataset?.rest && e.target.type === "range") {
      e.target.value = e.target.dataset.rest;
      for (const name of ["input", "change"]) e.target.dispatchEvent(new Event(name, {
        bubbles: true
      }));
    } else if (e.key === "b" && !e.repeat) showBefore();
    else if (tools.key(e) || stage.key(e)) e.preventDefault();
  });
  document.addEventListener("keyup", (e) => {
    if (e.key === "b") editor.redraw();
  });

  // what is exported or copied is what was kept: wait for a change that is still on its way
  for (const form of [document.getElementById("export"), ...root.querySelectorAll("form[data-waits]")]) {
    form.addEventListener("submit", async (e) => {
      e.preventDefault();
      await keep();
      await save();
      if (!theirs) e.target.submit();
    });
  }

  fill();
  editor.redraw();
}

start();
