// A form with one file: dropped on it, or chosen, it is sent at once.
for (const form of document.querySelectorAll("[data-drop-file]")) {
  const input = form.querySelector("input[type=file]");
  for (const kind of ["dragover", "dragleave", "drop"]) {
    form.addEventListener(kind, (e) => {
      e.preventDefault();
      form.classList.toggle("over", kind === "dragover");
    });
  }
  form.addEventListener("drop", (e) => {
    if (!e.dataTransfer.files.length) return;
    input.files = e.dataTransfer.files;
    form.requestSubmit();
  });
}
