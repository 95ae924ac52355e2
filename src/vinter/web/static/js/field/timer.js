// The shot timer: every moment follows from the start by the wall clock, so sleep, lock and lag lose nothing.
import {
  clock,
  moments
} from "./timer-moments.js";
import {
  keepNote
} from "./waiting.js";

function startTimer() {
  const box = document.getElementById("timer");
  if (!box) return;
  const $ = (id) => document.getElementById(id);
  const say = {
    delay: "Wait",
    open: "Open",
    gap: "Gap",
    done: "Done",
    ready: "Ready"
  };
  let run = null,
    sound = null,
    lock = null,
    beat = 0;
  const key = "vinter-timer";

  const setting = (name) => {
    const field = document.querySelector(`[data-set="${name}"]`),
      value = Number(field ? field.value : box.dataset[name]);
    return Number.isFinite(value) && value >= 0 ? value : 0;
  };

  function beep(count, long) {
    if ($("shiver").checked && navigator.vibrate) navigator.vibrate(long ? 600 : Array(count).fill([90, 70])
      .flat());
    if (!$("sound").checked || !sound) return;
    for (let i = 0; i < count; i++) {
      const tone = sound.createOscillator(),
        volume = sound.createGain(),
        at = sound.currentTime + i * 0.18;
      tone.frequency.value = 660;
      volume.gain.setValueAtTime(0.0001, at);
      volume.gain.exponentialRampToValueAtTime(0.25, at + 0.02);
      volume.gain.exponentialRampToValueAtTime(0.0001, at + (long ? 0.9 : 0.12));
      tone.connect(volume).connect(sound.destination);
      tone.start(at);
      tone.stop(at + 1);
    }
  }

  const signal = {
    open: () => beep(1),
    gap: () => beep(2),
    lamp: () => beep(3),
    dark: () => beep(4),
    done: () =>
      beep(1, true)
  };

  function show() {
    if (!run) return;
    const now = (Date.now() - run.start) / 1000,
      list = run.moments,
      total = list[list.length - 1][0];
    while (run.next < list.length && list[run.next][0] <= now) {
      const [at, phase] = list[run.next];
      if (now - at < 1.5 && signal[phase]) signal[phase]();
      run.log.push([phase, Date.now() - run.start - at * 1000]);
      run.next += 1;
    }
    const here = [...list.slice(0, run.next)].reverse().find((m) => say[m[1]]) || list[0];
    const after = list.slice(run.next).find((m) => say[m[1]]);
    const lit = run.next > 0 && list[run.next - 1][1] === "lamp";
    $("phase").textContent = lit ? "Lamp on" : say[here[1]];
    $("count").textContent = here[2] ? `${here[2]} of ${Math.round(run.settings.frames)}` : "…";
    const share = after ? (now - here[0]) / (after[0] - here[0]) : 1;
    $("bar").setAttribute("width", String(Math.round(350 * Math.min(1, Math.max(0, share)))));
    $("left").textContent = here[1] === "done" ? "All frames are shot." :
      `${clock(Math.max(0, total - now))} left in all`;
    box.dataset.phase = here[1];
    box.dataset.log = JSON.stringify(run.log);
    if (here[1] === "done") finish();
  }

  // What was really timed goes into the ledger, as soon as there is a signal.
  function record() {
    const shot = run.log.filter(([phase]) => phase === "open").length;
    if (!shot) return;
    const opened = run.moments.find((m) => m[1] === "open")[0];
    keepNote("timed", {
      start: run.start / 1000 + opened,
      end: Date.now() / 1000,
      frames: shot
    });
  }

  function finish() {
    clearInterval(beat);
    if (run) record();
    if (lock) {
      lock.release().catch(() => {});
      lock = null;
    }
    try {
      localStorage.removeItem(key);
    } catch (error) {
      /* nothing was kept */
    }
    run = null;
  }

  // Browsers let a page sound only after a touch: after a reload it says so until it is touched.
  function listen() {
    const quiet = $("quiet");
    if (sound && sound.state === "running") return;
    quiet.hidden = false;
    document.addEventListener("pointerdown", () => {
      sound = sound || (window.AudioContext ? new AudioContext() : null);
      if (sound) sound.resume();
      quiet.hidden = true;
    }, {
      once: true
    });
  }

  function begin(start, settings) {
    const list = moments(settings),
      past = (Date.now() - start) / 1000;
    run = {
      start,
      settings,
      moments: list,
      next: list.filter((m) => m[0] < past - 1.5).length,
      log: []
    };
    clearInterval(beat);
    beat = setInterval(show, 50);
    show();
  }

  async function hold() {
    try {
      lock = navigator.wakeLock ? await navigator.wakeLock.request("screen") : null;
    } catch (error) {
      lock =
        null;
    }
  }

  $("go").addEventListener("click", () => {
    sound = sound || (window.AudioContext ? new AudioContext() : null);
    if (sound && sound.state === "suspended") sound.resume();
    const settings = Object.fromEntries(["delay", "exposure", "gap", "frames", "lamp"].map((n) => [n, setting(
      n)]));
    const start = Date.now();
    try {
      localStorage.setItem(key, JSON.stringify({
        start,
        settings,
        page: location.pathname
      }));
    } catch (
      error) {
      /* runs without memory */
    }
    hold();
    begin(start, settings);
  });
  $("stop").addEventListener("click", () => {
    finish();
    $("phase").textContent = say.ready;
    $("bar").setAttribute("width", "0");
    box.dataset.phase = "ready";
  });
  document.addEventListener("visibilitychange", () => {
    if (!document.hidden && run) {
      hold();
      show();
    }
  });
  try {
    const kept = JSON.parse(localStorage.getItem(key));
    if (kept && kept.page === location.pathname) {
      begin(kept.start, kept.settings);
      if (run) {
        listen();
        hold();
      }
    }
  } catch (error) {
    /* nothing to go on with */
  }
}

startTimer();
