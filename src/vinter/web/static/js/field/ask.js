// The test shot without signal: what follows from the answers was worked out at home and lies in the page.
import {
  keepNote
} from "./waiting.js";

const ask = document.getElementById("ask");
const known = JSON.parse(document.getElementById("paths").textContent);
const place = document.getElementById("answer");
const questions = [...ask.querySelectorAll("fieldset")].map((f) => f.dataset.question);
let said = "";

// The one next change: of the camera first, then of where it points.
export function nextChange(paths, moves, answers) {
  const [sentence, change, good] = paths[answers.slice(0, -1).join("-")];
  const move = moves[answers[answers.length - 1]];
  if (!good) return `${sentence} Next: ${change}.`;
  return move ? `The settings are good. Next: ${move}.` : "Good, and it points where it should. Shoot the real frames.";
}

ask.addEventListener("change", () => {
  const answers = questions.map((q) => (ask.querySelector(`input[name="${q}"]:checked`) || {}).value);
  if (answers.some((a) => !a)) return;
  const words = nextChange(known.paths, known.moves, answers);
  place.textContent = words;
  place.hidden = false;
  place.scrollIntoView({
    block: "nearest"
  });
  if (words !== said) keepNote("answer", {
    words
  });
  said = words;
});
