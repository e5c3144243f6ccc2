// The drain job on a device. Every tap is an entry with its own id; entries wait here until the server has
// them, and what follows from them is worked out here too, so that a lost connection stops nobody.
// The arithmetic and the reading of numbers are in job_rules.js.
"use strict";

(() => {
const root = document.getElementById("job");
if (!root) return;
const one = (s, r = root) => r.querySelector(s);
const all = (s, r = root) => [...r.querySelectorAll(s)];
const J = JSON.parse(root.dataset.job);
const skew = Date.now() - J.now;
const KEY = `vornet-job-${J.id}`;
const newId = () => (crypto.randomUUID ? crypto.randomUUID()
  : "10000000-1000-4000-8000-100000000000".replace(/[018]/g, (c) => (+c ^ (crypto.getRandomValues(new Uint8Array(1))[0] & (15 >> (+c / 4)))).toString(16)));

let queue = [];
try { queue = JSON.parse(localStorage.getItem(KEY) || "[]"); } catch { queue = []; }
let known = J.entries, parts = J.parts_now, refused = [], sending = false;
const specs = J.specs;
const ran = {};

function keep() { localStorage.setItem(KEY, JSON.stringify(queue)); }

function say(part, key, value) {
  const entry = { id: newId(), part, key, value, at: Date.now(), skew, by: J.me };
  queue.push(entry);
  keep();
  refresh();
  send();
  return entry;
}

const fold = () => JobRules.fold([...known.map((e) => ({ ...e, clock: e.at })), ...queue.map((e) => ({ ...e, clock: e.at - e.skew }))]);
let said = fold();
const of = (part) => said.get(part ?? 0) ?? JobRules.nothing();

// ---- what follows: job_rules.js, in this page's words ----
function figures(part) {
  const f = JobRules.figures(specs[part], of(part), J.rules), out = of(part).now.out_l;
  const wrong = f.wrong && (f.wrong.field === "pour" ? `${shown(f.poured)} poured is more than the ${shown(f.wrong.fits)} that fits`
    : `${shown(out)} came out, but only ${shown(f.wrong.held)} was in it`);
  return { ...f, wrong, assumed: f.assumed.map((key) => J.assumed[key].replace(/^./, (c) => c.toUpperCase())) };
}
const wanting = (part) => JobRules.wanting(specs[part], of(part), of(null));
const stopSuggested = (part) => JobRules.stopSuggested(of(part));

// ---- numbers as people type and read them ----
const format = (x, digits = 1) => (x == null || Number.isNaN(x) ? "–" : x.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits }));
const shown = (litres) => `${format(litres * J.volume_factor)} ${J.volume}`;
const kindOf = (kind, part) => (kind === "meter" ? specs[part]?.meter_kind ?? "hours" : kind);
const typed = (text, kind, part) => JobRules.typed(text, kindOf(kind, part), J.hand);
function inField(value, kind, part) {
  if (kind === "volume") return JobRules.plain(+(value * J.volume_factor).toFixed(3));
  if (kind === "meter") return String(+(value * (specs[part]?.meter_factor ?? 1)).toFixed(1));
  if (kind === "temperature" && J.volume === "qt") return String(+(value * 1.8 + 32).toFixed(1));
  return JobRules.plain(value);
}

// ---- steps ----
const steps = all(".step");
let at = Math.min(Number(sessionStorage.getItem(`${KEY}-at`)) || 0, steps.length - 1);
const partOf = (step) => (step.dataset.part ? Number(step.dataset.part) : null);
const closed = (step) => { const p = partOf(step); return p != null && (parts[p]?.state ?? "open") !== "open" && !["end", "item"].includes(step.dataset.step); };

function show(to, direction = 1) {
  at = Math.max(0, Math.min(to, steps.length - 1));
  while (closed(steps[at]) && at + direction >= 0 && at + direction < steps.length) at += direction;
  sessionStorage.setItem(`${KEY}-at`, at);
  steps.forEach((s, i) => { s.hidden = i !== at; });
  one("#job-progress").value = at + 1;
  one("#job-part").textContent = steps[at].dataset.title ?? "";
  one("#job-next").hidden = at === steps.length - 1;
  one("#job-back").disabled = at === 0;
  refresh();
  one("h1", steps[at]).focus({ preventScroll: true });
  scrollTo(0, 0);
}
const STEP_OF = { leaks: "prove", parts_in: "shut" };
const goTo = (part, wanted) => { const key = STEP_OF[wanted] ?? wanted, i = steps.findIndex((s) => s.dataset.step === key && (partOf(s) === part || ["meter", "safe"].includes(key))); if (i >= 0) show(i); };

function refresh() {
  said = fold();
  const waiting = queue.length;
  const net = one("#job-net");
  net.textContent = waiting ? `${waiting} ${waiting === 1 ? "entry waits" : "entries wait"} on this phone` : "all sent";
  net.classList.toggle("late", Boolean(waiting) && !navigator.onLine);
  const step = steps[at], part = partOf(step), { now, lists } = of(part), visit = of(null).now;
  const value = (key) => (["meter", "meter_2", "ambient_c"].includes(key) ? visit[key] : ["kit", "safe"].includes(key) ? visit[key] : now[key]);
  for (const b of all("[data-set]", step)) b.setAttribute("aria-pressed", now[b.dataset.set] === b.dataset.value);
  for (const b of all("[data-many]", step)) b.setAttribute("aria-pressed", (now[b.dataset.many] ?? []).includes(b.dataset.value));
  for (const b of all("[data-grade]", step)) b.setAttribute("aria-pressed", (now.magnets ?? {})[b.dataset.name] === Number(b.dataset.value));
  for (const b of all("[data-shut]", step)) b.setAttribute("aria-pressed", Boolean(now.shut?.[b.dataset.shut]));
  for (const b of all("[data-torque]", step)) b.setAttribute("aria-pressed", (now.torque ?? {})[b.dataset.torque] === b.dataset.value);
  for (const b of all("[data-level-set]", step)) b.setAttribute("aria-pressed", now[b.dataset.levelSet] === Number(b.dataset.value));
  for (const b of all("[data-ran]", step)) b.setAttribute("aria-pressed", ran[part] === b.dataset.ran);
  for (const c of all("[data-tick]", step)) c.checked = Boolean(visit[c.dataset.tick]?.[c.dataset.name]);
  for (const i of all("[data-number]", step)) if (i !== document.activeElement && value(i.dataset.number) != null) i.value = inField(value(i.dataset.number), i.dataset.kind, part);
  for (const i of all("[data-words]", step)) if (i !== document.activeElement && now[i.dataset.words] != null) i.value = now[i.dataset.words];
  for (const r of all("[data-level]", step)) if (now[r.dataset.level] != null) { r.value = now[r.dataset.level]; drawLevel(r); } else if (!r.dataset.drawn) { r.dataset.drawn = "1"; drawLevel(r, "not read"); }
  for (const r of all("[data-level-read]", step)) if (!r.dataset.drawn) { r.dataset.drawn = "1"; drawLevel(r, "move it"); }
  if (part == null || !specs[part]) return;
  const f = figures(part), d = specs[part];
  const meter = visit[JobRules.meterKey(d)];
  const texts = { missing: format(f.missing == null ? null : f.missing * J.volume_factor), residual: format(f.residual == null ? null : f.residual * J.volume_factor),
    share: format(f.share == null ? null : f.share * 100), target: format(f.target == null ? null : f.target * J.volume_factor),
    first: format(f.first == null ? null : Math.max(f.first, 0) * J.volume_factor), poured: format(f.poured * J.volume_factor),
    add: format(f.add == null ? null : f.add * J.volume_factor), assumed: f.wrong || f.assumed.join(". "),
    due: meter != null && d.interval ? format((meter + d.interval) * (d.meter_factor ?? 1), 0) : "–",
    level_before: now.level_before == null ? "not read" : levelWord(now.level_before) };
  const weighed = JobRules.weigh(now.gross_kg, now.tare_kg, now.oil_c, d.weigh ?? {});
  texts.weighed = format(weighed && weighed.cold * J.volume_factor, 2);
  texts.weighed_hot = weighed ? `${format(weighed.litres * J.volume_factor, 2)} ${J.volume} as warm as it is; capacities are cold figures` : now.tare_kg > now.gross_kg ? "Empty is more than full: read the scales again" : "";
  for (const o of all("[data-out]", step)) { o.textContent = texts[o.dataset.out] ?? "–"; o.classList.toggle("late", o.dataset.out === "assumed" && Boolean(f.wrong)); }
  for (const o of all("[data-out-html]", step)) {
    o.textContent = f.share == null || !d.starts.length ? "" : "The next charge starts with " + d.starts.map((s) => `${s.name.toLowerCase()} ${format(JobRules.startValue(f.share, s.old, s.new))} ${s.unit} (of ${format(s.old)})`).join(", ");
  }
  for (const list of all("[data-pours]", step)) {
    list.replaceChildren(...(lists.pour ?? []).map((p) => {
      const row = document.createElement("li");
      row.textContent = `${shown(p.litres)}${p.point ? ` at ${p.point}` : ""} `;
      const undo = document.createElement("button");
      undo.type = "button"; undo.className = "quiet"; undo.textContent = "take back";
      undo.addEventListener("click", () => say(part, "pour", { taken_back: p.id }));
      row.append(undo);
      return row;
    }));
  }
  drawDrip(step, part, lists.drip ?? []);
  const left = d.drains.filter((p) => !now.shut?.[p]);
  for (const note of all("[data-shut-left]", step)) { note.hidden = !left.length; note.textContent = left.length ? `Not confirmed shut: ${left.join(", ")}. Nothing is poured before every drain is.` : ""; }
  for (const b of all("[data-pour]", step)) b.disabled = Boolean(left.length);
  for (const note of all("[data-fall]", step)) { note.hidden = !(ran[part] === "no" && f.fall > 0.05); note.textContent = `The filter is empty still: the level will fall by about ${shown(f.fall)} when it fills.`; }
  for (const note of all("[data-too-full]", step)) { note.hidden = !(f.level != null && f.level > J.rules.full_to); note.textContent = "Too full: take some out. Overfilled oil foams and pushes out of the vents."; }
  for (const note of all("[data-leaks]", step)) {
    note.hidden = now.leaks == null || now.leaks === "none";
    note.textContent = now.defer ? "Put off, with its owner. The drain may be finished." : "Not finished while it leaks: shut it down, tighten or renew and look again; or put it off with an owner and a day, or stop (below).";
  }
  const stop = stopSuggested(part);
  for (const note of all("[data-suggest-stop]", step)) { note.hidden = !stop; note.textContent = stop ? `Stop and look into it. ${J.stops[stop]}` : ""; }
  for (const list of all("[data-wanting]", step)) {
    list.replaceChildren(...wanting(part).map(([key, why]) => {
      const row = document.createElement("li"), go = document.createElement("button");
      go.type = "button"; go.className = "quiet"; go.textContent = why;
      go.addEventListener("click", () => goTo(part, key));
      row.append(go);
      return row;
    }));
  }
  const state = parts[part];
  const done = one("[data-done]", step);
  if (done) done.hidden = Boolean(state && state.state !== "open");
  for (const r of all("[data-result]", step)) {
    r.hidden = !(state && state.state !== "open") && !queue.some((e) => e.part === part && ["done", "item"].includes(e.key));
    if (r.hidden) continue;
    if (!state || state.state === "open") r.textContent = "Kept on this phone; it goes out when there is a connection.";
    else if (state.state === "done" && state.figures?.next_due) {
      r.textContent = `Done. ${shown(state.figures.residual_l)} stayed behind, ${shown(state.figures.poured_l)} poured. Sticker: ${format(state.figures.next_due * (d.meter_factor ?? 1), 0)} ${d.meter_unit}.`;
    } else r.textContent = { done: "Done.", stopped: `Stopped: ${state.reason}.`, deferred: `Put off: ${state.reason}.` }[state.state];
  }
}

// readings while it drips: listed, drawn, and what they say is still to come
function drawDrip(step, part, rows) {
  const list = one("[data-drips]", step);
  if (!list) return;
  list.replaceChildren(...[...rows].sort((a, b) => a.min - b.min).map((r) => {
    const row = document.createElement("li"), undo = document.createElement("button");
    row.textContent = `${format(r.min, 0)} min: ${shown(r.litres)} `;
    undo.type = "button"; undo.className = "quiet"; undo.textContent = "take back";
    undo.addEventListener("click", () => say(part, "drip", { taken_back: r.id }));
    row.append(undo);
    return row;
  }));
  const found = JobRules.drip(rows), curve = one("[data-drip-curve]", step), words = one("[data-drip-say]", step);
  curve.toggleAttribute("hidden", !found);
  words.hidden = !found;
  if (!found) return;
  const last = Math.max(...rows.map((r) => r.min)), to = last * 4, least = Math.min(found.at(Math.min(...rows.map((r) => r.min))), ...rows.map((r) => r.litres));
  const x = (m) => 10 + 300 * m / to, y = (l) => 92 - 74 * (l - least) / Math.max(found.final - least, 0.01);
  const shape = (name, attributes) => { const el = document.createElementNS("http://www.w3.org/2000/svg", name); for (const [k, v] of Object.entries(attributes)) el.setAttribute(k, v); return el; };
  const points = Array.from({ length: 60 }, (_, i) => last / 8 + (to - last / 8) * i / 59).filter((m) => found.at(m) >= least - 0.001).map((m) => `${x(m).toFixed(1)},${y(found.at(m)).toFixed(1)}`);
  curve.replaceChildren(shape("path", { class: "drip-end", d: `M10,${y(found.final).toFixed(1)} H310` }), shape("polyline", { class: "drip-line", points: points.join(" ") }),
    ...rows.map((r) => shape("circle", { class: "drip-dot", cx: x(r.min).toFixed(1), cy: y(r.litres).toFixed(1), r: 4 })));
  words.textContent = `${shown(found.final)} at the end: ${shown(Math.max(found.final - found.at(last), 0))} still to come. Stopping now leaves that behind; ${format(to, 0)} min would leave ${shown(Math.max(found.final - found.at(to), 0))}.`;
}

const levelWord = (v) => (v > 1.02 ? `${Math.round((v - 1) * 100)} % over MAX` : v < -0.02 ? `${Math.round(-v * 100)} % under MIN` : Math.abs(v - 1) < 0.03 ? "at MAX" : Math.abs(v) < 0.03 ? "at MIN" : `${Math.round(v * 100)} % between MIN and MAX`);
function drawLevel(input, words) {
  const box = input.closest(".levelpick"), art = one(".level-art", box), line = one(".oil-line", box);
  const y = Number(art.dataset.from) + (Number(art.dataset.to) - Number(art.dataset.from)) * Number(input.value);
  line.setAttribute("y", y);
  line.setAttribute("height", Math.max(122 - y, 0));
  one("output", box).textContent = words ?? levelWord(Number(input.value));
}

// ---- taps ----
root.addEventListener("click", (event) => {
  const b = event.target.closest("button");
  if (!b) return;
  const step = steps[at], part = partOf(step), { now } = of(part);
  if (b.dataset.set) say(part, b.dataset.set, b.dataset.value);
  else if (b.dataset.many) {
    const have = new Set(now[b.dataset.many] ?? []);
    if (!have.delete(b.dataset.value)) have.add(b.dataset.value);
    say(part, b.dataset.many, [...have]);
  } else if (b.dataset.grade) say(part, "magnets", { ...(now.magnets ?? {}), [b.dataset.name]: Number(b.dataset.value) });
  else if (b.dataset.shut) say(part, "shut", { ...(now.shut ?? {}), [b.dataset.shut]: !now.shut?.[b.dataset.shut] });
  else if (b.dataset.torque) say(part, "torque", { ...(now.torque ?? {}), [b.dataset.torque]: b.dataset.value });
  else if (b.dataset.levelSet) say(part, b.dataset.levelSet, Number(b.dataset.value));
  else if (b.dataset.ran) { ran[part] = b.dataset.ran; refresh(); }
  else if (b.dataset.fill) { const input = one(`[data-words="${b.dataset.fill}"]`, step); input.value = b.dataset.value; say(part, b.dataset.fill, b.dataset.value); }
  else if ("pour" in b.dataset) {
    const input = one("[data-pour-in]", b.closest(".pourline")), { value: litres, why } = typed(input.value, "volume", part);
    if (litres == null || litres <= 0) return mark(input, input.value.trim() && why ? why : "how much was poured?");
    input.value = "";
    if (ran[part] === "yes") ran[part] = undefined; // what is poured now has not been through the filter
    say(part, "pour", { litres: +litres.toFixed(4), point: input.dataset.point ?? "" });
  } else if ("levelKeep" in b.dataset) {
    const asks = one("[data-ran]", step);
    if (asks && ran[part] == null) return mark(asks, "say first whether it has been run");
    say(part, "level_read", { reading: Number(one("[data-level-read]", step).value), run: !asks || ran[part] === "yes" });
  } else if ("drip" in b.dataset) {
    const [m, l] = ["[data-drip-min]", "[data-drip-out]"].map((s) => one(s, step)), min = typed(m.value, "plain", part), out = typed(l.value, "volume", part);
    if (!(min.value > 0)) return mark(m, min.why ?? "minutes since it began to run");
    if (out.value == null) return mark(l, out.why);
    const rows = of(part).lists.drip ?? [];
    if (rows.some((r) => r.min === min.value)) return mark(m, "read at that minute already");
    if (rows.some((r) => (r.min < min.value) === (r.litres > out.value) && r.litres !== out.value)) return mark(l, "what is out does not go back");
    m.value = l.value = "";
    say(part, "drip", { min: min.value, litres: +out.value.toFixed(4) });
  } else if (b.dataset.take) {
    const found = JobRules.weigh(now.gross_kg, now.tare_kg, now.oil_c, specs[part].weigh);
    if (!found) return mark(b, "full, empty and how warm it is");
    say(part, "out_l", +found.cold.toFixed(3));
    say(part, "out_kind", "measured");
  } else if (b.dataset.stop) askStop(b.dataset.stop);
  else if ("done" in b.dataset) { if (!wanting(part).length) say(part, "done", {}); }
  else if (b.dataset.item) item(step, part, b.dataset.item);
  else if (b.dataset.itemValue) all("[data-item-value]", step).forEach((x) => x.setAttribute("aria-pressed", x === b));
  else if (b.closest(".timer")) runTimer(b.closest(".timer"), part);
});
function mark(el, why) {
  let note = el.parentElement.querySelector(".error");
  if (!note) { note = document.createElement("small"); note.className = "error"; note.setAttribute("role", "alert"); el.parentElement.append(note); }
  note.textContent = why;
  setTimeout(() => note.remove(), 6000);
}
function item(step, part, outcome) {
  const note = one("[data-item-note]", step).value.trim();
  if (outcome === "not_done" && !note) return mark(one("[data-item-note]", step), "say why it was not done");
  const value = { outcome, note };
  const chosen = one('[data-item-value][aria-pressed="true"]', step), number = one("[data-item-number]", step), missed = one("[data-item-missed]", step);
  if (chosen) value.value = chosen.dataset.itemValue;
  if (number?.value) { const x = typed(number.value, "plain", part); if (x.value == null) return mark(number, x.why); value.value = x.value; }
  if (missed) { value.missed = Number(missed.value) || 0; }
  say(part, "item", value);
}
root.addEventListener("change", (event) => {
  const el = event.target, part = partOf(steps[at]);
  if (el.dataset.tick) { const name = el.dataset.tick, now = of(null).now[name] ?? {}; say(null, name, { ...now, [el.dataset.name]: el.checked }); }
  else if (el.dataset.number) {
    if (!el.value.trim()) return;
    const { value, why } = typed(el.value, el.dataset.kind, part);
    if (value == null) return mark(el, why);
    const whole = ["meter", "meter_2", "ambient_c"].includes(el.dataset.number) ? null : part;
    say(whole, el.dataset.number, +value.toFixed(4));
  } else if (el.dataset.words) say(part, el.dataset.words, el.value.trim());
  else if (el.dataset.level) { drawLevel(el); say(part, el.dataset.level, Number(el.value)); }
  else if (el.id === "job-photo" && el.files.length) { keepPhoto(el.files[0], part); el.value = ""; one("#job-menu").close(); }
});
root.addEventListener("input", (event) => { if (event.target.matches("[data-level], [data-level-read]")) drawLevel(event.target); });

// ---- a label's code, where the browser can read one ----
if ("BarcodeDetector" in window) {
  const reader = new BarcodeDetector({ formats: ["qr_code", "code_128", "code_39", "ean_13"] });
  for (const label of all("[data-scan]")) {
    label.hidden = false;
    one("input", label).addEventListener("change", async (event) => {
      const [code] = await reader.detect(await createImageBitmap(event.target.files[0])).catch(() => []);
      event.target.value = "";
      if (!code) return mark(label, "no code to be read there: come closer, or type the number");
      const input = one(`[data-words="${label.dataset.scan}"]`, label.closest(".step"));
      input.value = code.rawValue.trim();
      say(partOf(steps[at]), label.dataset.scan, input.value);
    });
  }
}

// ---- timers ----
function runTimer(box, part) {
  if (box.dataset.started) {
    const minutes = (Date.now() - Number(box.dataset.started)) / 60000;
    delete box.dataset.started;
    one("button", box).textContent = `${Math.max(1, Math.round(minutes))} min noted`;
    if (box.dataset.timer !== "settled") say(part, box.dataset.timer, +minutes.toFixed(1));
    return;
  }
  box.dataset.started = Date.now();
  one("button", box).textContent = "Stop the clock";
}
setInterval(() => {
  for (const box of all(".timer[data-started]")) {
    const left = Number(box.dataset.minutes) * 60 - (Date.now() - Number(box.dataset.started)) / 1000;
    const s = Math.abs(Math.round(left));
    one("b", box).textContent = `${left < 0 ? "+" : ""}${Math.floor(s / 60)}:${String(s % 60).padStart(2, "0")}`;
    if (left <= 0 && !box.dataset.rung) { box.dataset.rung = "1"; navigator.vibrate?.([200, 100, 200]); }
  }
}, 500);

// ---- stop, put off ----
let stopping = null;
function askStop(key) {
  stopping = key;
  one("#job-menu").close();
  one("#job-stop-do").textContent = J.stops[key];
  one("#job-stop").showModal();
}
one("#job-stop-keep").addEventListener("click", () => {
  const step = steps[at], part = partOf(step) ?? Number(Object.keys(specs)[0]);
  say(part, "stop", { reason: stopping, note: one("#job-stop-note").value.trim(), owner: one("#job-stop-owner").value.trim() });
  one("#job-stop").close();
  parts[part] = { ...(parts[part] ?? {}), state: "stopped", reason: "kept on this phone" };
  const next = steps.findIndex((s, i) => i > at && partOf(s) !== part);
  show(next < 0 ? steps.length - 1 : next);
});
one("#job-stop-close").addEventListener("click", () => one("#job-stop").close());
one("#job-more").addEventListener("click", () => one("#job-menu").showModal());
one("#job-menu-close").addEventListener("click", () => one("#job-menu").close());
one("#defer-keep").addEventListener("click", () => {
  const part = partOf(steps[at]), what = one("#defer-what").value.trim(), instead = one("#defer-instead").checked;
  if (!what) return mark(one("#defer-what"), "say what was seen");
  say(part, "defer", { kind: one("#defer-kind").value, what, part: one("#defer-part").value.trim(), owner: one("#defer-owner").value.trim(),
    due_on: one("#defer-due").value || null, instead: instead && part != null });
  for (const id of ["#defer-what", "#defer-part"]) one(id).value = "";
  one("#job-menu").close();
});
one("#job-back").addEventListener("click", () => show(at - 1, -1));
one("#job-next").addEventListener("click", () => show(at + 1));

// ---- sending ----
async function send() {
  if (sending || !queue.length) return;
  sending = true;
  const batch = queue.slice(0, 200);
  try {
    const answer = await fetch(`/jobs/${J.id}/entries`, { method: "POST", headers: { "Content-Type": "application/json", "X-Job-Key": J.token },
      body: JSON.stringify({ entries: batch }) });
    if (answer.status === 401 || answer.status === 403) {
      one("#job-net").textContent = `${queue.length} wait: sign in again in another tab, they stay here`;
      return;
    }
    if (!answer.ok) return;
    take(await answer.json());
  } catch {
    one("#job-net").textContent = `no connection: ${queue.length} ${queue.length === 1 ? "entry waits" : "entries wait"} on this phone`;
  } finally {
    sending = false;
  }
  if (queue.length) setTimeout(send, 50);
}
function take(answer) {
  const settled = new Set([...answer.kept, ...answer.refused.map((r) => r.id)]);
  for (const r of answer.refused) refused.push({ ...r, entry: queue.find((e) => e.id === r.id) });
  queue = queue.filter((e) => !settled.has(e.id));
  keep();
  known = answer.entries;
  parts = answer.parts;
  tellRefused();
  const over = Object.values(parts).every((p) => p.state !== "open");
  one("[data-over]").textContent = over ? "Everything on this card is closed." : "Some parts of this card are open still: go back to finish or stop them.";
  refresh();
}
function tellRefused() {
  one("#job-refused").replaceChildren(...refused.map((r) => {
    const row = document.createElement("p"), hide = document.createElement("button");
    row.className = "banner";
    row.textContent = `Not taken: ${r.why} `;
    hide.type = "button"; hide.className = "quiet"; hide.textContent = "Seen";
    hide.addEventListener("click", () => { refused = refused.filter((x) => x !== r); tellRefused(); });
    row.append(hide);
    return row;
  }));
}
// ---- photos wait in the browser's database ----
const shelf = () => new Promise((yes, no) => {
  const open = indexedDB.open("vornet-photos", 1);
  open.onupgradeneeded = () => open.result.createObjectStore("photos", { keyPath: "id" });
  open.onsuccess = () => yes(open.result);
  open.onerror = () => no(open.error);
});
const inShelf = async (mode, work) => {
  const db = await shelf();
  return new Promise((yes, no) => {
    const request = work(db.transaction("photos", mode).objectStore("photos"));
    request.onsuccess = () => yes(request.result);
    request.onerror = () => no(request.error);
  });
};
async function keepPhoto(file, part) {
  await inShelf("readwrite", (s) => s.put({ id: newId(), job: J.id, part, about: one("h1", steps[at]).textContent, file }));
  sendPhotos();
}
let posting = false;
async function sendPhotos() {
  if (posting) return;
  posting = true;
  try {
    for (const photo of (await inShelf("readonly", (s) => s.getAll())).filter((p) => p.job === J.id)) {
      const form = new FormData();
      form.set("id", photo.id);
      if (photo.part != null) form.set("part", photo.part);
      form.set("about", photo.about);
      form.set("file", photo.file);
      const answer = await fetch(`/jobs/${J.id}/photos`, { method: "POST", headers: { "X-Job-Key": J.token }, body: form });
      if (answer.ok || answer.status === 422 || answer.status === 413) {
        await inShelf("readwrite", (s) => s.delete(photo.id));
        if (!answer.ok) { refused.push({ why: (await answer.json()).detail }); tellRefused(); }
        else one("#job-net").textContent = "photo sent";
      } else break;
    }
  } catch { /* no connection: they wait */ } finally { posting = false; }
}
addEventListener("online", () => { send(); sendPhotos(); });
setInterval(() => { send(); sendPhotos(); }, 3000);
addEventListener("beforeunload", (event) => { if (queue.length && !navigator.onLine) event.preventDefault(); });
show(at);
send();
sendPhotos();
})();
