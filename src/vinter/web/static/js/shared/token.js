// The token of Django's cross-site protection, for requests made by scripts.
export function token() {
  return JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"];
}
