// A picture of the report at 100 %: opened by a click, moved by dragging, closed by Escape or another click.
function start() {
  const loupe = document.getElementById("loupe");
  if (!loupe) return;
  const viewer = loupe.querySelector(".viewer"),
    image = loupe.querySelector("img");
  const place = {
    x: 0.5,
    y: 0.5
  };
  let moved = 0,
    opener = null;

  function arrange() {
    image.style.left = `${viewer.clientWidth / 2 - place.x * image.naturalWidth}px`;
    image.style.top = `${viewer.clientHeight / 2 - place.y * image.naturalHeight}px`;
  }

  function close() {
    loupe.classList.remove("open");
    if (opener) opener.focus();
  }

  image.addEventListener("load", arrange);
  viewer.addEventListener("pointerdown", () => {
    moved = 0;
  });
  viewer.addEventListener("pointermove", (e) => {
    if (!e.buttons) return;
    moved += Math.abs(e.movementX) + Math.abs(e.movementY);
    place.x -= e.movementX / image.naturalWidth;
    place.y -= e.movementY / image.naturalHeight;
    arrange();
  });
  viewer.addEventListener("click", () => {
    if (moved < 4) close();
  });
  document.addEventListener("click", (e) => {
    const print = e.target.closest("[data-loupe]");
    if (!print) return;
    const box = print.querySelector("img").getBoundingClientRect();
    if (e.clientX || e.clientY) {
      place.x = (e.clientX - box.left) / box.width;
      place.y = Math.min((e.clientY - box.top) / box.height, 1);
    }
    opener = print;
    loupe.querySelector(".tag").textContent = print.textContent.trim();
    image.src = print.dataset.loupe;
    loupe.classList.add("open");
    arrange();
  });
  document.addEventListener("keydown", (e) => {
    if (e.key === "Escape" && loupe.classList.contains("open"))
      close();
  });
}

start();
