// Shared by all pages: dialogs, fields that send their form, and the list of keys.
import {
  followWidth
} from "./drawings.js";

followWidth();
document.addEventListener("click", (event) => {
  const opener = event.target.closest("[data-open]");
  if (event.target.closest("[data-print]")) window.print();
  const menu = event.target.closest("[data-menu]");
  if (menu) menu.setAttribute("aria-expanded", String(menu.getAttribute("aria-expanded") !== "true"));
  if (opener) document.getElementById(opener.dataset.open).showModal();
  if (event.target.tagName === "DIALOG") event.target.close();
});

document.addEventListener("change", (event) => {
  const choice = event.target.closest("[data-reload]");
  if (choice) {
    const kept = new URLSearchParams([...new FormData(event.target.form)].filter(([k, v]) => v && k !==
      "csrfmiddlewaretoken" && !k.startsWith("o_")));
    location.search = kept.toString();
  }
  if (event.target.matches("[data-submit]")) event.target.form.requestSubmit();
});

// On a phone a row of a wide table is read as lines: each cell carries the name of its column.
const COLUMNS_THAT_FIT = 3;

function nameCells(root) {
  for (const table of root.querySelectorAll("table")) {
    const names = [...table.querySelectorAll("thead tr:last-child th")];
    if (names.length <= COLUMNS_THAT_FIT || table.closest(".trailgrid")) continue;
    table.classList.add("lines");
    for (const row of table.querySelectorAll("tbody tr")) {
      let column = 0;
      for (const cell of row.cells) {
        const name = names[column];
        if (name && cell.colSpan === 1 && cell.textContent.trim() && !name.querySelector(".sr-only"))
          cell.dataset.column = name.textContent.trim();
        column += cell.colSpan;
      }
    }
  }
}
nameCells(document);
document.addEventListener("htmx:afterSwap", (event) => nameCells(event.target));

// A form that is on its way is not sent a second time by a double click; coming back to the page frees it.
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.dataset.sent) event.preventDefault();
  else if (form.method === "post" && !event.defaultPrevented && !form.hasAttribute("data-again")) form.dataset
    .sent = "yes";
});
window.addEventListener("pageshow", () => document.querySelectorAll("form[data-sent]").forEach((f) => delete f
  .dataset.sent));

document.addEventListener("keydown", (event) => {
  if (event.key === "?" && !event.target.matches("input, textarea, select")) {
    document.getElementById("shortcuts").showModal();
  }
});

// A form with a file is sent from where it stands: what was wrong with it is said at the form, and nothing that
// was typed or chosen is lost.
document.addEventListener("submit", async (event) => {
  const form = event.target;
  if (form.enctype !== "multipart/form-data" || event.defaultPrevented) return;
  event.preventDefault();
  form.querySelector("[data-wrong]")?.remove();
  const say = (words) => {
    const p = document.createElement("p");
    p.className = "wrong small";
    p.dataset.wrong = "";
    p.setAttribute("role", "alert");
    p.textContent = words;
    form.append(p);
    delete form.dataset.sent;
  };
  try {
    const answer = await fetch(form.action, {
      method: "POST",
      body: new FormData(form, event.submitter),
      headers: {
        Accept: "text/plain, text/html;q=0.9"
      }
    });
    const text = answer.redirected ? "" : await answer.text();
    if (answer.redirected) location.assign(answer.url);
    else if (answer.ok) {
      document.open();
      document.write(text);
      document.close();
    } else if (answer.headers.get("Content-Type")?.startsWith("text/plain")) say(text);
    else say("It could not be taken; try once more.");
  } catch {
    say("There is no connection; nothing was sent, and nothing here is lost.");
  }
});
