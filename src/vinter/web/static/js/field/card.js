// The field card: remembers what was ticked and the number to call, on this phone only.
function startCard() {
  const key = `vinter-card-${document.body.dataset.card}`;
  let kept = {};
  try {
    kept = JSON.parse(localStorage.getItem(key)) || {};
  } catch (error) {
    kept = {};
  }
  const keep = () => {
    try {
      localStorage.setItem(key, JSON.stringify(kept));
    } catch (
      error) {
      /* a phone that forbids storage still shows the card */
    }
  };
  for (const box of document.querySelectorAll("[data-check]")) {
    box.checked = Boolean(kept[box.dataset.check]);
    box.addEventListener("change", () => {
      kept[box.dataset.check] = box.checked;
      keep();
    });
  }
  for (const field of document.querySelectorAll("[data-keep]")) {
    field.value = kept[field.dataset.keep] || "";
    field.addEventListener("input", () => {
      kept[field.dataset.keep] = field.value;
      keep();
    });
  }
}

startCard();
