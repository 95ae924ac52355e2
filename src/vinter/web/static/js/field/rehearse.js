// The loupe of the rehearsal, and the space bar as release.
document.addEventListener("click", (event) => {
  if (event.target.id !== "shown") return;
  const box = event.target.getBoundingClientRect();
  const x = (event.clientX - box.left) / box.width;
  const y = (event.clientY - box.top) / box.height;
  document.getElementById("loupe").src = `${event.target.dataset.loupe}?x=${x.toFixed(4)}&y=${y.toFixed(4)}`;
});

document.addEventListener("keydown", (event) => {
  const release = document.getElementById("release");
  if (event.key !== " " || !release || release.disabled || event.target.matches("select, button, input, a"))
    return;
  event.preventDefault();
  release.click();
});

// When the coach is content or the shots are used up, the release rests.
document.addEventListener("htmx:afterSwap", (event) => {
  if (event.target.id === "result" && !document.getElementById("shots-left") && event.target.querySelector(
      ".say.mt-4")) {
    for (const button of document.querySelectorAll("aside button")) button.disabled = true;
  }
});
