// Sends the pictures that were shared and wait on this phone, in parts, and forgets each once it has arrived.
const SHARED = "vinter-shared";
const PART_BYTES = 120 * 2 ** 20; // of pictures that go in one request
const words = document.getElementById("shared");
const again = document.getElementById("again");
const onward = document.getElementById("onward");
const reasons = document.getElementById("reasons");

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

// Forget the pictures that arrived, or that will never be kept; those without room there wait on.
async function forget(part, refused) {
  const cache = await caches.open(SHARED);
  for (const [i, [key]] of part.entries()) {
    if (!refused[i] || !refused[i].later) await cache.delete(key);
  }
}

// One part; what became of it. Null when the session ended, and this page is left for the sign-in.
async function sent(part, take) {
  const form = new FormData();
  for (const [, file] of part) form.append("files", file);
  const answer = await fetch(location.pathname + (take ? `?take=${take}` : ""), {
    method: "POST",
    body: form,
    headers: { Accept: "application/json" },
    credentials: "same-origin"
  });
  if (answer.ok && answer.headers.get("Content-Type").startsWith("application/json")) {
    const told = await answer.json();
    await forget(part, told.refused);
    return told;
  }
  if (answer.ok && answer.redirected) { // the session ended: back here after signing in
    location.assign(answer.url);
    return null;
  }
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  const reason = (page.querySelector("main") || page.body).textContent.replace(/\s+/g, " ").trim();
  throw new Error(reason || `the answer was ${answer.status}`);
}

async function waitWords(error) {
  const left = (await (await caches.open(SHARED)).keys()).length;
  return error instanceof TypeError ?
    `${left} ${left > 1 ? "pictures wait" : "picture waits"} on this phone: Vinter cannot be reached now. They are sent once it can.` :
    error.message;
}

// What was not kept and why, and the way on to the take that the others are in.
function show(words, led, why) {
  say(words);
  for (const line of why) reasons.append(Object.assign(document.createElement("li"), { textContent: line }));
  onward.hidden = !led;
  if (led) onward.href = led;
}

async function sendAll() {
  again.hidden = true;
  onward.hidden = true;
  reasons.replaceChildren();
  const waiting = await parts();
  const count = waiting.reduce((n, part) => n + part.length, 0);
  if (!count) {
    say("No picture waits on this phone. Share pictures from its gallery with Vinter, and they become a take.");
    return;
  }
  let done = 0;
  let take = null;
  let led = null;
  const why = [];
  for (const part of waiting) {
    say(`Sending ${done + 1} to ${done + part.length} of ${count} pictures. Keep this page open.`);
    let told;
    try {
      told = await sent(part, take);
    } catch (error) {
      show(await waitWords(error), led, why);
      again.hidden = false;
      return;
    }
    if (!told) return;
    done += part.length;
    take = told.take || take;
    led = told.led || led;
    why.push(...told.refused.filter(Boolean).map((one) => one.why));
    if (told.refused.some((one) => one && one.later)) again.hidden = false;
  }
  if (!why.length) location.replace(led);
  else show(`${why.length} of the shared pictures ${why.length > 1 ? "were" : "was"} not kept:`, led, why);
}

if ("caches" in window) {
  addEventListener("online", sendAll);
  again.addEventListener("click", sendAll);
  sendAll();
} else say("This browser keeps no pictures for Vinter. Add them on the page of takes.");
