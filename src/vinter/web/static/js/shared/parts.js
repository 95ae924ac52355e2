// Sends a file in parts, and goes on where a connection broke, even after a reload.
import {
  token
} from "./token.js";

const PART = 4 * 1024 * 1024,
  WHOLE = 128 * 1024 * 1024, // a digest needs the whole file in memory
  TRIES = 6;
const hex = (buffer) => [...new Uint8Array(buffer)].map((b) => b.toString(16).padStart(2, "0")).join("");
const pause = (ms) => new Promise((go) => setTimeout(go, ms));

// The same file gets the same id, so that an upload broken off goes on where it broke.
async function idOf(file) {
  const text = new TextEncoder().encode(`${file.name}|${file.size}|${file.lastModified}`);
  if (crypto.subtle) return hex(await crypto.subtle.digest("SHA-256", text)).slice(0, 32);
  return [...text].reduce((h, c) => (Math.imul(h, 31) + c) >>> 0, 7).toString(16).padStart(8, "0");
}

// What arrives is compared with what was sent, where the browser can say what that is.
async function digestOf(file) {
  if (!crypto.subtle || file.size > WHOLE) return "";
  return hex(await crypto.subtle.digest("SHA-256", await file.arrayBuffer()));
}

// Send a file to an address; resolves to its last answer, which has no `offset` or has an `error`. `say` is told
// how it goes on.
export async function sendInParts(url, file, say) {
  if (!file.size) return { error: `${file.name}: the file is empty` };
  const id = await idOf(file),
    digest = await digestOf(file);
  let offset = 0,
    failures = 0,
    asked = false;
  while (true) {
    const share = () => Math.round((100 * offset) / file.size);
    try {
      if (!asked) {
        offset = (await (await fetch(`${url}?id=${id}`)).json()).offset || 0;
        asked = true;
      }
      const query = new URLSearchParams({ id, name: file.name, size: file.size, offset, digest });
      const response = await fetch(`${url}?${query}`, {
        method: "POST",
        headers: { "X-CSRFToken": token() },
        body: file.slice(offset, offset + PART)
      });
      const answer = await response.json();
      if (answer.error || !("offset" in answer)) return answer;
      offset = answer.offset;
      failures = 0;
      say(`${file.name}: ${share()} %`);
    } catch (error) {
      failures += 1;
      asked = false;
      if (failures > TRIES) {
        return { error: `${file.name}: the connection broke; choose it again and it goes on at ${share()} %` };
      }
      say(`${file.name}: the connection broke, trying again`);
      await pause(500 * failures);
    }
  }
}
