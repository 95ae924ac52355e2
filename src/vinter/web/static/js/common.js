// Shared by all pages: dialogs, fields that send their form, and the list of keys.
"use strict";

document.addEventListener("click", (event) => {
  const opener = event.target.closest("[data-open]");
  if (opener) document.getElementById(opener.dataset.open).showModal();
  if (event.target.tagName === "DIALOG") event.target.close();
});

document.addEventListener("change", (event) => {
  if (event.target.matches("[data-submit]")) event.target.form.requestSubmit();
});

document.addEventListener("keydown", (event) => {
  if (event.key === "?" && !event.target.matches("input, textarea, select")) {
    document.getElementById("shortcuts").showModal();
  }
});

// The token of Django's cross-site protection, for requests made by scripts.
window.vinterToken = () => JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"];
