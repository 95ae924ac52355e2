// The contact sheet: sending files two at a time, keys for keep and drop, the loupe at 100 %.
import {
  sendInParts
} from "../shared/parts.js";

function start() {
  // What was refused is shown again after the page has gone on to measuring, until the next files are sent.
  const notice = document.getElementById("refused"),
    refused = [];
  const tell = (lines) => {
    notice.hidden = !lines.length;
    notice.querySelector("ul").replaceChildren(...lines.map((text) => {
      const li = document.createElement("li");
      li.textContent = text;
      return li;
    }));
  };
  const keep = () => sessionStorage.setItem(`refused-${notice.dataset.take}`, JSON.stringify(refused));
  if (notice) tell(JSON.parse(sessionStorage.getItem(`refused-${notice.dataset.take}`) || "[]"));

  const drop = document.getElementById("drop");
  if (drop) {
    const input = document.getElementById("files"),
      list = document.getElementById("sent");
    let waiting = [],
      running = 0,
      sent = 0;

    const line = (text) => {
      const li = document.createElement("li");
      li.textContent = text;
      list.append(li);
      return li;
    };

    async function send(file, li) {
      const answer = await sendInParts(drop.dataset.url, file, (text) => {
        li.textContent = text;
      });
      if (answer.error || answer.duplicate) {
        const text = answer.error || `${file.name}: already here, kept once`;
        li.textContent = text;
        refused.push(text);
        keep();
        return;
      }
      li.textContent = `${file.name}: received`;
      sent += 1;
    }

    async function next() {
      const job = waiting.shift();
      if (!job) {
        if (running === 0 && sent > 0) drop.requestSubmit();
        return;
      }
      running += 1;
      await send(...job);
      running -= 1;
      next();
    }

    function add(files) {
      if (running === 0) {
        refused.length = 0;
        keep();
        tell([]);
      }
      for (const file of files) waiting.push([file, line(`${file.name}: waiting`)]);
      for (let i = running; i < 2; i += 1) next();
    }

    input.addEventListener("change", () => add(input.files));
    if (input.files.length) add(input.files); // chosen before this script was here
    drop.addEventListener("dragover", (e) => {
      e.preventDefault();
      drop.classList.add("over");
    });
    drop.addEventListener("dragleave", () => drop.classList.remove("over"));
    drop.addEventListener("drop", (e) => {
      e.preventDefault();
      drop.classList.remove("over");
      add(e.dataTransfer.files);
    });
  }

  const loupe = document.getElementById("loupe"),
    viewer = loupe.querySelector(".viewer"),
    image = loupe.querySelector("img");
  const place = {
    x: 0.5,
    y: 0.5
  };
  let current = -1,
    last = -1;
  const frames = () => [...document.querySelectorAll(".frame")];

  function choose(i) {
    const all = frames();
    if (!all.length) return;
    if (current >= 0 && all[current]) all[current].classList.remove("current");
    current = Math.max(0, Math.min(all.length - 1, i));
    all[current].classList.add("current");
    all[current].scrollIntoView({
      block: "nearest"
    });
    if (loupe.classList.contains("open")) look();
  }

  function arrange() {
    image.style.left = `${viewer.clientWidth / 2 - place.x * image.naturalWidth}px`;
    image.style.top = `${viewer.clientHeight / 2 - place.y * image.naturalHeight}px`;
  }

  function look() {
    const frame = frames()[current];
    loupe.querySelector(".tag").textContent = frame.getAttribute("aria-label");
    image.src = frame.dataset.full;
    loupe.classList.add("open");
  }

  image.addEventListener("load", arrange);
  viewer.addEventListener("pointermove", (e) => {
    if (!e.buttons) return;
    place.x -= e.movementX / image.naturalWidth;
    place.y -= e.movementY / image.naturalHeight;
    arrange();
  });
  document.addEventListener("click", (e) => {
    const frame = e.target.closest(".frame");
    if (frame && e.target.tagName === "IMG") {
      const box = e.target.getBoundingClientRect();
      place.x = (e.clientX - box.left) / box.width;
      place.y = (e.clientY - box.top) / box.height;
      last = current;
      choose(frames().indexOf(frame));
      look();
    }
  });
  const shapes = document.getElementById("shapes");
  if (shapes) shapes.addEventListener("click", () => {
    const on = document.querySelector(".contact").classList.toggle("shaped");
    shapes.setAttribute("aria-pressed", on);
  });
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, select, textarea")) return;
    if (e.key === "ArrowRight") {
      last = current;
      choose(current + 1);
    } else if (e.key === "ArrowLeft") {
      last = current;
      choose(current - 1);
    } else if (e.key === "m" && shapes) shapes.click();
    else if (e.key === "Escape") loupe.classList.remove("open");
    else if (e.key === "Enter" && current >= 0 && e.target.tagName !== "BUTTON") look();
    else if (e.key === "f" && last >= 0) {
      const back = last;
      last = current;
      choose(back);
    } else if ((e.key === "k" || e.key === "d") && current >= 0) frames()[current]
      .querySelector(`[data-key="${e.key}"]`).click();
    else return;
    e.preventDefault();
  });
  document.body.addEventListener("htmx:afterSwap", () => {
    if (current >= 0 && frames()[current]) frames()[current]
      .classList.add("current");
  });
}

start();
