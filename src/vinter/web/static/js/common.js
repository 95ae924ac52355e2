// Shared by all pages: dialogs, fields that send their form, and the list of keys.
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
