// Sends an archive of any size in parts; without this script the form sends it whole, up to its limit.
import {
  sendInParts
} from "./parts.js";

const form = document.getElementById("bring-in"),
  told = document.getElementById("sent");

form?.addEventListener("submit", async (event) => {
  event.preventDefault();
  const button = form.querySelector("button"),
    say = (text) => {
      told.textContent = text;
    };
  button.disabled = true;
  const answer = await sendInParts(form.dataset.parts, form.elements.file.files[0], say);
  button.disabled = false;
  if (answer.error) say(answer.error);
  else location.assign(answer.led);
});
