// Before and after at 100 %: two pictures under one moving divide.
function start() {
  const box = document.getElementById("compare");
  if (!box) return;
  const after = box.querySelector(".after"),
    before = box.querySelector(".before");
  const half = box.querySelector(".half"),
    divide = box.querySelector(".split");
  const state = {
    x: 0.45,
    y: 0.5,
    share: 0.5,
    whole: false
  };

  function arrange() {
    const scale = state.whole ? Math.min(box.clientWidth / after.naturalWidth, box.clientHeight / after
      .naturalHeight) : 1;
    const w = after.naturalWidth * scale,
      h = after.naturalHeight * scale;
    const left = state.whole ? (box.clientWidth - w) / 2 : box.clientWidth / 2 - state.x * w;
    const top = state.whole ? (box.clientHeight - h) / 2 : box.clientHeight / 2 - state.y * h;
    for (const image of [after, before]) {
      image.style.width = `${w}px`;
      image.style.left = `${left}px`;
      image.style.top = `${top}px`;
      image.style.imageRendering = state.whole ? "auto" : "pixelated";
    }
    half.style.clipPath = `inset(0 ${100 - 100 * state.share}% 0 0)`;
    divide.style.left = `calc(${100 * state.share}% - 1px)`;
  }

  let dividing = false;
  box.addEventListener("pointerdown", (e) => {
    dividing = e.target === divide;
    box.setPointerCapture(e.pointerId);
  });
  box.addEventListener("pointermove", (e) => {
    if (!e.buttons) return;
    if (dividing) state.share = Math.max(0, Math.min(1, (e.clientX - box.getBoundingClientRect().left) / box
      .clientWidth));
    else {
      state.x -= e.movementX / after.naturalWidth;
      state.y -= e.movementY / after.naturalHeight;
    }
    arrange();
  });
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, select, textarea")) return;
    if (e.key === "ArrowLeft") state.share = Math.max(0, state.share - 0.05);
    else if (e.key === "ArrowRight") state.share = Math.min(1, state.share + 0.05);
    else if (e.key === "1") state.share = 1;
    else if (e.key === "2") state.share = 0;
    else if (e.key === "z") state.whole = !state.whole;
    else return;
    e.preventDefault();
    arrange();
  });
  after.addEventListener("load", arrange);
  before.addEventListener("load", arrange);
  window.addEventListener("resize", arrange);
  after.src = box.dataset.after;
  before.src = box.dataset.before;
}

// A picture brought to be finished: its finish begins as soon as it is developed, once.
function finishAtOnce() {
  const form = document.querySelector("form[data-at-once]");
  if (!form) return;
  window.history.replaceState(null, "", window.location.pathname);
  form.requestSubmit();
}

start();
finishAtOnce();
