// Whoever is signed out leaves nothing behind on a shared phone: kept field pages, ticks and numbers.
if ("caches" in window) caches.keys().then((names) => {
  for (const name of names)
    if (name.startsWith("vinter-field")) caches.delete(name);
});
try {
  for (const key of Object.keys(localStorage))
    if (key.startsWith("vinter-card") || key === "vinter-timer") localStorage.removeItem(key);
} catch (error) {
  /* nothing was kept */
}
