// The field card: remembers what was ticked and the number to call on this phone; ticks and notes go home later.
import {
  keepNote
} from "./waiting.js";

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
      keepNote("tick", {
        words: box.parentElement.textContent.trim().replace(/\s+/g, " "),
        on: box.checked
      });
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

function startNotes() {
  for (const form of document.querySelectorAll("[data-note]")) form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const field = form.querySelector("textarea");
    const words = field.value.trim();
    if (!words) return;
    await keepNote(form.dataset.note, {
      words
    });
    field.value = "";
    form.querySelector("output").textContent = `Noted: ${words}`;
  });
}

startCard();
startNotes();
