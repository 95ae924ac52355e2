// The view from the stand: the server says where things are, this draws them and keeps the address.
import { clockStyle } from "./season-clock.js";
import { drawing } from "./skyline-drawing.js";
import { timeStrips } from "./time-strips.js";

function start() {
  const box = document.getElementById("skyline");
  if (!box) return;
  const canvas = box.querySelector("canvas");
  const narrow = innerWidth < 700;
  const d = box.dataset;
  const at = {
    t: Number(d.t),
    target: d.target,
    lens: d.lens,
    portrait: d.portrait,
    az: Number(d.az),
    up: Number(d
      .up),
    roll: Number(d.roll),
    centre: Number(d.centre),
    span: Number(new URLSearchParams(location.search).get(
      "span")) || (narrow ? 90 : 150),
    subject: d.subject,
    pole: d.pole,
    station: new URLSearchParams(location
      .search).get("station") || ""
  };
  const show = {
    lines: true,
    names: true
  };
  const state = {
    at,
    show,
    scene: null,
    sky: null,
    skyFor: null
  };
  let busy = false,
    again = false,
    skyBusy = false,
    skyAgain = false,
    grip = null,
    free = false;

  const minus = (v, n = 0) => Number(v).toFixed(n).replace("-", "−");
  const clock = new Intl.DateTimeFormat("en-GB", {
    ...clockStyle(document.documentElement.dataset.clock),
    timeZone: d.tz
  });
  const {
    draw,
    inFrame,
    high,
    perDegree
  } = drawing(box, canvas, state, clock, narrow);

  function query(more = {}) {
    const q = new URLSearchParams();
    const all = {
      t: Math.round(at.t),
      target: at.target,
      lens: at.lens,
      portrait: at.portrait,
      centre: at.centre
        .toFixed(1),
      span: at.span,
      subject: at.subject,
      pole: at.pole,
      station: at.station,
      ...(free ? {} : {
        az: at.az.toFixed(1),
        up: at.up.toFixed(1),
        roll: at.roll.toFixed(1)
      }),
      ...more
    };
    for (const [k, v] of Object.entries(all))
      if (v !== "" && v !== undefined) q.set(k, v);
    return q.toString();
  }

  function words() {
    const set = (name, text) => {
      document.querySelector(`[data-f="${name}"]`).textContent = text;
    };
    const r = state.scene.reading,
      f = state.scene.frame;
    set("target", r.alt > 0 ? `${minus(state.scene.target[1])}° up, az ${minus(state.scene.target[0])}°` : "below the horizon");
    set("lean", `${minus(r.tilt)}°`);
    set("sky", `${r.sky.toFixed(1)} ± ${r.err.toFixed(1)} mag/arcsec²`);
    const refused = document.getElementById("refused");
    refused.hidden = !f.refused;
    refused.textContent = f.refused;
    document.getElementById("plan").hidden = Boolean(f.refused);
    set("frame", `${f.size}, az ${minus(f.az)}°, ${minus(f.up)}° up`);
    set("compass", `${f.compass.toFixed(0)}° (${f.north})`);
    set("ground", `${Math.round(f.ground * 100)} %`);
    set("inside", f.target);
    document.getElementById("clock").textContent = clock.format(new Date(at.t * 1000));
    document.getElementById("plan").href =
      `${d.plan}?${query({ centre: "", span: "", pole: "", subject: "", station: "" })}`;
    for (const [id, value] of [
        ["az", f.az.toFixed(0)],
        ["up", f.up.toFixed(0)],
        ["roll", f.roll.toFixed(1)]
      ]) {
      const field = document.getElementById(id);
      if (document.activeElement !== field) field.value = value;
    }
    if (state.scene.pole) document.getElementById("guide").textContent = state.scene.pole.guides.map((g) => g.words).join(" ");
    time.show(at.t);
  }

  async function ask() {
    if (busy) {
      again = true;
      return;
    }
    busy = true;
    again = false;
    try {
      const response = await fetch(`${d.scene}?${query()}`);
      if (response.ok) {
        state.scene = await response.json();
        if (free) {
          at.az = state.scene.frame.az;
          at.up = state.scene.frame.up;
          at.roll = state.scene.frame.roll;
          free = false;
        }
        words();
        draw();
        history.replaceState(null, "", `?${query()}`);
      }
    } finally {
      busy = false;
      box.dataset.ready = again ? "" : "yes";
      if (again) ask();
    }
  }

  async function askSky() {
    if (skyBusy) {
      skyAgain = true;
      return;
    }
    skyBusy = true;
    skyAgain = false;
    const wanted = {
      centre: at.centre,
      span: at.span,
      high: high()
    };
    try {
      const response = await fetch(
        `${d.sky}?${query({ high: wanted.high.toFixed(2), width: Math.min(1600, Math.round(canvas.clientWidth)) })}`
      );
      if (response.ok) {
        state.sky = await createImageBitmap(await response.blob());
        state.skyFor = wanted;
        draw();
        box.dataset.painted = "yes";
      }
    } finally {
      skyBusy = false;
      if (skyAgain) askSky();
    }
  }

  const both = () => {
    draw();
    ask();
    askSky();
  };
  const time = timeStrips((t) => setTime(t));

  function setTime(t) {
    at.t = time.within(t);
    both();
  }

  canvas.addEventListener("pointerdown", (event) => {
    canvas.setPointerCapture(event.pointerId);
    const r = canvas.getBoundingClientRect();
    grip = {
      x: event.clientX,
      y: event.clientY,
      frame: inFrame(event.clientX - r.left, event.clientY - r.top),
      az: at.az,
      up: at.up,
      centre: at.centre
    };
    box.focus({
      preventScroll: true
    });
  });
  canvas.addEventListener("pointermove", (event) => {
    if (!grip || !event.buttons) return;
    const dx = (event.clientX - grip.x) / perDegree(),
      dy = (event.clientY - grip.y) / perDegree();
    if (grip.frame) {
      at.az = (grip.az + dx + 720) % 360;
      at.up = Math.max(-30, Math.min(90, grip.up - dy));
      draw();
      ask();
    } else {
      at.centre = (grip.centre - dx + 720) % 360;
      draw();
      askSky();
      ask();
    }
  });
  canvas.addEventListener("pointerup", () => {
    grip = null;
  });

  const field = (id, act) => document.getElementById(id).addEventListener("change", (event) => act(event.target
    .type === "checkbox" ? event.target.checked : event.target.value));
  field("lens", (v) => {
    at.lens = v;
    ask();
  });
  field("held", (v) => {
    at.portrait = v;
    free = true;
    ask();
  });
  for (const name of ["az", "up", "roll"]) field(name, (v) => {
    at[name] = Number(v) || 0;
    ask();
  });
  field("span", (v) => {
    at.span = Number(v);
    both();
  });
  field("target", (v) => {
    at.target = v;
    free = true;
    ask();
  });
  field("pole", (v) => {
    at.pole = v ? "1" : "";
    ask();
  });
  field("lines", (v) => {
    show.lines = v;
    draw();
  });
  field("names", (v) => {
    show.names = v;
    draw();
  });
  const onto = () => {
    free = true;
    ask().then(() => {
      at.centre = state.scene.target[0];
      both();
    });
  };
  document.getElementById("level").addEventListener("click", onto);
  const spans = document.getElementById("span");
  if (![...spans.options].some((o) => Number(o.value) === at.span)) spans.add(new Option(at.span, at.span));
  spans.value = String(at.span);

  const flip = (id) => {
    const e = document.getElementById(id);
    e.checked = !e.checked;
    e.dispatchEvent(new Event("change", {
      bubbles: true
    }));
  };
  document.addEventListener("keydown", (event) => {
    if (event.target.matches("input, select, textarea") || event.ctrlKey || event.metaKey) return;
    const step = event.shiftKey ? 5 : 1;
    const acts = {
      ArrowLeft: () => {
        at.az = (at.az - step + 360) % 360;
        ask();
      },
      ArrowRight: () => {
        at.az = (at.az + step) % 360;
        ask();
      },
      ArrowUp: () => {
        at.up = Math.min(90, at.up + step);
        ask();
      },
      ArrowDown: () => {
        at.up = Math.max(-30, at.up - step);
        ask();
      },
      ",": () => setTime(at.t - 300),
      ".": () => setTime(at.t + 300),
      "<": () => setTime(at.t - 3600),
      ">": () => setTime(at.t + 3600),
      "(": () => {
        at.roll -= 0.5;
        ask();
      },
      ")": () => {
        at.roll += 0.5;
        ask();
      },
      a: () => {
        at.centre = (at.centre + 350) % 360;
        both();
      },
      d: () => {
        at.centre = (at.centre + 10) % 360;
        both();
      },
      "+": () => {
        at.span = Math.max(30, at.span / 1.25);
        both();
      },
      "-": () => {
        at.span = Math.min(360, at.span * 1.25);
        both();
      },
      t: onto,
      p: () => {
        const e = document.getElementById("held");
        e.value = e.value ? "" : "1";
        e.dispatchEvent(new Event("change"));
      },
      c: () => flip("lines"),
      n: () => flip("names"),
      o: () => flip("pole"),
    };
    if (!acts[event.key]) return;
    acts[event.key]();
    event.preventDefault();
  });
  addEventListener("resize", both);
  both();
}

start();
