// Quick notes wait on the phone where no signal is; each carries its own id, so that twice sent is once kept.
"use strict";

globalThis.Notes = (() => {
const Q = JobQueue, KEY = "vornet-notes", KEY_REFUSED = "vornet-notes-refused", body = document.body;
const waiting = () => Q.read(KEY, []);
const newId = () => crypto.randomUUID();
const clock = () => Date.now() - (Q.skew() ?? 0);
if (body.dataset.now && !body.hasAttribute("data-cached")) Q.clock(Number(body.dataset.now));

// a page kept since yesterday still says yesterday: the day goes on with the clock
function dayOf(on) {
  const start = (t) => new Date(t).setHours(0, 0, 0, 0), made = Number(body.dataset.now || clock());
  const days = Math.round((start(clock()) - start(made)) / 86400000), day = new Date(`${on}T12:00:00`);
  day.setDate(day.getDate() + Math.max(days, 0));
  return `${day.getFullYear()}-${String(day.getMonth() + 1).padStart(2, "0")}-${String(day.getDate()).padStart(2, "0")}`;
}

async function post(note) {
  const form = new FormData();
  for (const [name, value] of Object.entries(note.fields)) form.set(name, value);
  return fetch(note.path, { method: "POST", headers: { "X-Note": note.id, Accept: "application/json" }, body: form });
}
// "kept", "waits", or why it was refused
async function send(note) {
  let answer;
  try { answer = await post(note); } catch { return { waits: true }; }
  if (answer.status === 403) { // the page's seal is of an earlier sign-in: take a fresh one, once
    const seal = /name="csrf" value="([^"]+)"/.exec(await fetch(note.path).then((a) => a.text()).catch(() => ""));
    if (!seal || seal[1] === note.fields.csrf) return { waits: true };
    note.fields.csrf = seal[1];
    answer = await post(note).catch(() => null);
  }
  if (!answer || answer.redirected || answer.status >= 500 || answer.status === 401) return { waits: true };
  const said = await answer.json().catch(() => ({}));
  return answer.ok ? { kept: said.said } : { refused: said.detail ?? "it was not taken" };
}
let busy = false;
async function flush() {
  if (busy) return;
  busy = true;
  for (const note of waiting()) {
    const { kept, refused } = await send(note);
    if (!kept && !refused) break;
    Q.write(KEY, waiting().filter((n) => n.id !== note.id));
    if (refused) Q.write(KEY_REFUSED, [...Q.read(KEY_REFUSED, []), `${note.words}: ${refused}`]);
    else say(`${note.words}: sent.`);
  }
  busy = false;
  list();
}
function say(words, bad = false) {
  const box = document.getElementById("note-say");
  if (!box) return;
  box.hidden = false;
  box.textContent = words;
  box.setAttribute("role", bad ? "alert" : "status");
  box.classList.toggle("good", !bad);
}
function list() {
  const told = document.getElementById("note-refused"), wrong = Q.read(KEY_REFUSED, []);
  if (told) {
    told.hidden = !wrong.length;
    told.replaceChildren(...wrong.map((text, i) => {
      const row = document.createElement("li"), seen = document.createElement("button");
      row.textContent = `Not kept: ${text}. `;
      seen.type = "button"; seen.className = "quiet"; seen.textContent = "Seen";
      seen.addEventListener("click", () => { Q.write(KEY_REFUSED, Q.read(KEY_REFUSED, []).filter((_, j) => j !== i)); list(); });
      row.append(seen);
      return row;
    }));
  }
  const box = document.getElementById("note-waits"), mine = waiting();
  if (!box) return;
  box.hidden = !mine.length;
  box.replaceChildren(...mine.map((n) => Object.assign(document.createElement("li"), { textContent: n.words })));
}

document.addEventListener("submit", async (event) => {
  const form = event.target.closest("form[data-note]");
  if (!form) return;
  event.preventDefault();
  const fields = Object.fromEntries([...new FormData(form, event.submitter)].filter(([, v]) => typeof v === "string"));
  if (fields.on) fields.on = dayOf(fields.on);
  const what = fields.what || event.submitter?.textContent?.trim() || "", title = form.closest("details")?.querySelector("summary")?.textContent ?? "Note";
  const note = { id: newId(), path: location.pathname, fields, words: `${body.dataset.place ?? ""} ${title}${what && !/keep/i.test(what) ? `, ${what}` : ""}`.trim() };
  const { kept, refused } = await send(note);
  if (kept) { location.href = `${location.pathname}?saved=${encodeURIComponent(kept)}`; return; }
  if (refused) return say(`Not kept: ${refused}`, true);
  if (!Q.write(KEY, [...waiting(), note])) return say("The phone has no room left: write it down, and find a signal.", true);
  say(`${note.words}: kept on this phone, it goes out when there is a signal.`);
  list();
});
list();
return { waiting, flush };
})();
