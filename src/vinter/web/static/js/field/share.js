// Sends the pictures that were shared and wait on this phone, in parts, and forgets each once it has arrived.
const SHARED = "vinter-shared";
const PART_BYTES = 120 * 2 ** 20; // of pictures that go in one request
const words = document.getElementById("shared");
const again = document.getElementById("again");

function say(text) {
  words.textContent = text;
}

// The pictures that wait, as parts that are not too large for one request.
async function parts() {
  const cache = await caches.open(SHARED);
  const out = [];
  let bytes = Infinity;
  for (const key of await cache.keys()) {
    const kept = await cache.match(key);
    const file = new File([await kept.blob()], decodeURIComponent(kept.headers.get("X-Name") || "picture.jpg"), {
      type: kept.headers.get("Content-Type") || ""
    });
    if (bytes + file.size > PART_BYTES) {
      out.push([]);
      bytes = 0;
    }
    out[out.length - 1].push([key, file]);
    bytes += file.size;
  }
  return out;
}

async function forget(part) {
  const cache = await caches.open(SHARED);
  for (const [key] of part) await cache.delete(key);
}

// One part; where it led. Null when it has to wait.
async function sent(part, take) {
  const form = new FormData();
  for (const [, file] of part) form.append("files", file);
  const answer = await fetch(location.pathname + (take ? `?take=${take}` : ""), {
    method: "POST",
    body: form,
    credentials: "same-origin"
  });
  const led = new URL(answer.url);
  if (answer.ok && led.pathname.startsWith("/takes/")) {
    await forget(part);
    return led;
  }
  if (answer.ok && answer.redirected) { // the session ended: back here after signing in
    location.assign(answer.url);
    return null;
  }
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const reason = (page.querySelector("main") || page.body).textContent.replace(/\s+/g, " ").trim();
  if (answer.status >= 400 && answer.status < 500 && answer.status !== 403 && answer.status !== 429) await forget(part);
  throw new Error(reason || `the answer was ${answer.status}`);
}

async function sendAll() {
  again.hidden = true;
  const waiting = await parts();
  const count = waiting.reduce((n, part) => n + part.length, 0);
  if (!count) {
    say("No picture waits on this phone. Share pictures from its gallery with Vinter, and they become a take.");
    return;
  }
  let done = 0;
  let take = null;
  let led = null;
  for (const part of waiting) {
    say(`Sending ${done + 1} to ${done + part.length} of ${count} pictures. Keep this page open.`);
    try {
      led = await sent(part, take);
    } catch (error) {
      const left = (await (await caches.open(SHARED)).keys()).length;
      say(error instanceof TypeError ?
        `${left} ${left > 1 ? "pictures wait" : "picture waits"} on this phone: Vinter cannot be reached now. They are sent once it can.` :
        error.message);
      again.hidden = false;
      return;
    }
    if (!led) return;
    done += part.length;
    take = led.pathname.match(/\d+/)[0];
  }
  location.replace(led.href);
}

if ("caches" in window) {
  addEventListener("online", sendAll);
  again.addEventListener("click", sendAll);
  sendAll();
} else say("This browser keeps no pictures for Vinter. Add them on the page of takes.");
