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
const Q = JobQueue, KEY = Q.key(J.id), cached = root.hasAttribute("data-cached");
const newId = () => (crypto.randomUUID ? crypto.randomUUID()
  : "10000000-1000-4000-8000-100000000000".replace(/[018]/g, (c) => (+c ^ (crypto.getRandomValues(new Uint8Array(1))[0] & (15 >> (+c / 4)))).toString(16)));

// a page from the server says what its clock shows and what is known; one kept on this phone says what was known then
if (!cached) Q.clock(J.now);
Q.write(Q.key(J.id, "-token"), J.token);
const later = cached ? Q.read(Q.key(J.id, "-known"), null) : null;
let queue = Q.read(KEY, []), known = later?.entries ?? J.entries, parts = later?.parts ?? J.parts_now;
let refused = Q.read(Q.key(J.id, "-refused"), []), sending = false, full = false, photosWaiting = 0;
Q.drop(Q.key(J.id, "-refused"));
const specs = J.specs;
const ran = {}, side = {}, itemValues = {}, bled = {};

function keep() {
  full = !Q.write(KEY, queue);
  one("#job-full").hidden = !full;
}

const CLOSING = { done: "finished", stop: "stopped", item: "closed", defer: "put off" };
let slip = null;
function say(part, key, value) {
  const entry = { id: newId(), part, key, value, at: Date.now(), skew: Q.skew(), by: J.me };
  queue.push(entry);
  if (part != null && CLOSING[key] && (key !== "defer" || value.instead)) slip = { part, words: CLOSING[key], at: Date.now() };
  keep();
  refresh();
  send();
  return entry;
}

const fold = () => JobRules.fold([...known.map((e) => ({ ...e, clock: e.at })), ...queue.map((e) => ({ ...e, clock: e.at - (e.skew ?? Q.skew() ?? 0) }))]);
let said = fold();
const of = (part) => said.get(part ?? 0) ?? JobRules.nothing();

// ---- what follows: job_rules.js, in this page's words ----
// how long the next charge runs: after a trial what ran before it, on another oil the register's
const nextInterval = (d, now) => (now.oil && d.oil && now.oil !== d.oil ? d.interval_other : d.interval);
function figures(part) {
  const f = JobRules.figures(specs[part], of(part), J.rules), out = of(part).now.out_l;
  const wrong = f.wrong && (f.wrong.field === "pour" ? `${shown(f.poured)} poured is more than the ${shown(f.wrong.fits)} that fits`
    : `${shown(out)} came out, but only ${shown(f.wrong.held)} was in it`);
  return { ...f, wrong, assumed: f.assumed.map((key) => J.assumed[key].replace(/^./, (c) => c.toUpperCase())) };
}
const wanting = (part) => JobRules.wanting(specs[part], of(part), of(null));
const stopSuggested = (part) => JobRules.stopSuggested(of(part));

// ---- numbers as people type and read them ----
const SWAPPED = { ",": ".", ".": "," };
const marked = (text) => (J.hand.mark === "," ? text.replace(/[,.]/g, (c) => SWAPPED[c]) : text);
const format = (x, digits = 1) => (x == null || Number.isNaN(x) ? "–" : marked(x.toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits })));
// a small volume keeps the digit that it would lose
const digits = (x) => (x != null && Math.abs(x) < 1 && Math.abs(Math.round(x * 10) / 10 - x) >= 0.005 ? 2 : 1);
const volume = (litres) => (litres == null ? "–" : format(litres * J.volume_factor, digits(litres * J.volume_factor)));
const shown = (litres) => `${volume(litres)} ${J.volume}`;
const kindOf = (kind, part) => (kind === "meter" ? specs[part]?.meter_kind ?? "hours" : kind);
const typed = (text, kind, part) => JobRules.typed(text, kindOf(kind, part), J.hand);
const inField = (value, kind, part) => marked(pointed(value, kind, part));
function pointed(value, kind, part) {
  if (kind === "volume") return JobRules.plain(+(value * J.volume_factor).toFixed(3));
  if (kind === "meter") return String(+(value * (specs[part]?.meter_factor ?? 1)).toFixed(1));
  if (kind === "mass") return JobRules.plain(+(value * J.mass_factor).toFixed(3));
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
  try { sessionStorage.setItem(`${KEY}-at`, at); } catch { /* no room: it opens at the first step */ }
  steps.forEach((s, i) => { s.hidden = i !== at; });
  one("#job-progress").value = at + 1;
  one("#job-part").textContent = steps[at].dataset.title ?? "";
  one("#job-next").hidden = at === steps.length - 1;
  one("#job-back").disabled = at === 0;
  refresh();
  one("h1", steps[at]).focus({ preventScroll: true });
  scrollTo(0, 0);
}
const STEP_OF = { leaks: "prove", parts_in: "shut", filter_part: "filter", meter_2: "meter" };
const goTo = (part, wanted) => { const key = wanted === "part_action" ? (specs[part]?.task === "breather" ? "breather" : "magnetic") : STEP_OF[wanted] ?? wanted, i = steps.findIndex((s) => s.dataset.step === key && (partOf(s) === part || ["meter", "safe"].includes(key))); if (i >= 0) show(i); };

function refresh() {
  said = fold();
  const waiting = queue.length;
  const net = one("#job-net");
  const held = [waiting ? `${waiting} ${waiting === 1 ? "entry" : "entries"}` : "", photosWaiting ? `${photosWaiting} ${photosWaiting === 1 ? "photo" : "photos"}` : ""].filter(Boolean).join(", ");
  net.textContent = held ? `${held} ${waiting + photosWaiting === 1 ? "waits" : "wait"} on this phone` : "all sent";
  net.classList.toggle("late", Boolean(held) && !navigator.onLine);
  drawSlip();
  const step = steps[at], part = partOf(step), { now, lists } = of(part), visit = of(null).now;
  const value = (key) => (["meter", "meter_2", "ambient_c"].includes(key) ? visit[key] : ["kit", "safe"].includes(key) ? visit[key] : now[key]);
  for (const b of all("[data-set]", step)) b.setAttribute("aria-pressed", now[b.dataset.set] === b.dataset.value);
  for (const b of all("[data-many]", step)) b.setAttribute("aria-pressed", (now[b.dataset.many] ?? []).includes(b.dataset.value));
  for (const b of all("[data-grade]", step)) b.setAttribute("aria-pressed", (now.magnets ?? {})[b.dataset.name] === Number(b.dataset.value));
  for (const b of all("[data-shut]", step)) b.setAttribute("aria-pressed", Boolean(now.shut?.[b.dataset.shut]));
  for (const b of all("[data-torque]", step)) b.setAttribute("aria-pressed", (now.torque ?? {})[b.dataset.torque] === b.dataset.value);
  for (const b of all("[data-level-set]", step)) b.setAttribute("aria-pressed", now[b.dataset.levelSet] === Number(b.dataset.value));
  for (const b of all("[data-set-number]", step)) b.setAttribute("aria-pressed", now[b.dataset.setNumber] === Number(b.dataset.value));
  for (const b of all("[data-side]", step)) b.setAttribute("aria-pressed", (side[part] ?? "left") === b.dataset.side);
  for (const b of all("[data-item-bled]", step)) b.setAttribute("aria-pressed", bled[part] === b.dataset.itemBled);
  for (const c of all("[data-part-tick]", step)) c.checked = Boolean(now[c.dataset.partTick]?.[c.dataset.name]);
  for (const b of all("[data-ran]", step)) b.setAttribute("aria-pressed", ran[part] === b.dataset.ran);
  for (const c of all("[data-tick]", step)) c.checked = Boolean(visit[c.dataset.tick]?.[c.dataset.name]);
  for (const i of all("[data-number]", step)) if (i !== document.activeElement && value(i.dataset.number) != null) i.value = inField(value(i.dataset.number), i.dataset.kind, part);
  for (const i of all("[data-words]", step)) if (i !== document.activeElement && now[i.dataset.words] != null) i.value = now[i.dataset.words];
  for (const r of all("[data-level]", step)) if (now[r.dataset.level] != null) { r.value = now[r.dataset.level]; drawLevel(r); } else if (!r.dataset.drawn) { r.dataset.drawn = "1"; drawLevel(r, "not read"); }
  for (const r of all("[data-level-read]", step)) if (!r.dataset.drawn) { r.dataset.drawn = "1"; drawLevel(r, "move it"); }
  drawResult(step, part);
  drawOver(step);
  if (part == null || !specs[part]) return;
  const f = figures(part), d = specs[part];
  const meter = visit[JobRules.meterKey(d)];
  const before = JobRules.levelBefore(now);
  const texts = { missing: volume(f.missing), residual: volume(f.residual), share: format(f.share == null ? null : f.share * 100), target: volume(f.target),
    first: volume(f.first == null ? null : Math.max(f.first, 0)), poured: volume(f.poured), add: volume(f.add), assumed: f.wrong || f.assumed.join(". "),
    due: meter != null && nextInterval(d, now) ? format((meter + nextInterval(d, now)) * (d.meter_factor ?? 1), 0) : "–",
    level_before: before === Infinity ? "not read" : levelWord(before) };
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
  const shutOut = d.gate && now.fill_open !== "yes";
  for (const note of all("[data-gate]", step)) {
    note.hidden = !shutOut;
    note.replaceChildren("Prove first that the fill plug opens: a drained box that cannot be filled is stranded. ");
    const go = document.createElement("button");
    go.type = "button"; go.className = "quiet"; go.textContent = "Go there";
    go.addEventListener("click", () => goTo(part, "fill_open"));
    note.append(go);
    for (const el of all("button, input", step)) if (!note.contains(el) && !el.matches(".stopper, [data-photo]")) el.disabled = shutOut;
  }
  const barred = JobRules.fitted(d, now);
  for (const note of all("[data-barred]", step)) { note.hidden = !barred; note.textContent = barred ? `${barred}. It comes off again.` : ""; }
  for (const note of all("[data-packs]", step)) note.textContent = packsSay(d, f, lists.pour ?? []);
  const left = d.drains.filter((p) => !now.shut?.[p]);
  for (const note of all("[data-shut-left]", step)) { note.hidden = !left.length; note.textContent = left.length ? `Not confirmed shut: ${left.join(", ")}. Nothing is poured before every drain is.` : ""; }
  for (const b of all("[data-pour], [data-pour-pack]", step)) b.disabled = Boolean(left.length);
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
  drawPhotos(step, part);
}

// how a part ended, and what a finished one says
function drawResult(step, part) {
  const state = parts[part], d = specs[part], done = one("[data-done]", step), closed = Boolean(state && state.state !== "open");
  if (done) done.hidden = closed;
  for (const r of all("[data-result]", step)) {
    r.hidden = !closed && !queue.some((e) => e.part === part && ["done", "item"].includes(e.key));
    if (r.hidden) continue;
    if (!closed) r.textContent = "Kept on this phone; it goes out when there is a connection.";
    else if (state.state === "done" && state.figures?.next_due) {
      r.textContent = `Done. ${shown(state.figures.residual_l)} stayed behind, ${shown(state.figures.poured_l)} poured. Sticker: ${format(state.figures.next_due * (d.meter_factor ?? 1), 0)} ${d.meter_unit}.`;
    } else r.textContent = { done: "Done.", stopped: `Stopped: ${state.reason}.`, deferred: `Put off: ${state.reason}.` }[state.state];
  }
}

// a slip can be taken back for a minute, wherever the page has gone on to
function drawSlip() {
  const box = one("#job-slip"), open = slip && Date.now() - slip.at < 60000;
  box.hidden = !open;
  if (open) one("span", box).textContent = `${specs[slip.part]?.title ?? one(`[data-part="${slip.part}"] h1`)?.textContent ?? "This part"}: ${slip.words}.`;
}

// over only when every part is closed, and what was closed here is with the server
function drawOver(step) {
  if (step.dataset.step !== "over") return;
  const open = Object.entries(parts).filter(([, p]) => p.state === "open").map(([id]) => Number(id));
  const ending = new Set(queue.filter((e) => e.key in CLOSING).map((e) => e.part)), left = open.filter((id) => !ending.has(id));
  one("[data-over-title]", step).textContent = !open.length ? "The visit is over" : left.length ? "Not over yet" : "Done here, not sent yet";
  one("[data-over]", step).textContent = !open.length ? "Everything on this card is closed." : left.length ? "Open still: finish it, put it off or stop it." : "It is kept on this phone and closes when there is a connection.";
  one("[data-open-parts]", step).replaceChildren(...left.map((id) => {
    const row = document.createElement("li"), go = document.createElement("button"), at = steps.findIndex((s) => partOf(s) === id);
    go.type = "button"; go.className = "quiet"; go.textContent = specs[id]?.title ?? one("h1", steps[at])?.textContent ?? "a part";
    go.addEventListener("click", () => { const end = steps.findIndex((s) => partOf(s) === id && ["end", "item"].includes(s.dataset.step)); show(end < 0 ? at : end); });
    row.append(go);
    return row;
  }));
}

// whole packs poured, of how many, and what comes from the next one
function packsSay(d, f, pours) {
  if (!d.pack) return "";
  const whole = pours.filter((p) => Math.abs(p.litres - d.pack) < 0.005 * d.pack).length, target = f.target;
  if (target == null) return `${whole} whole packs of ${shown(d.pack)} poured`;
  const all = Math.floor(target / d.pack + 1e-6), rest = target - all * d.pack;
  return `${whole} of ${all} whole ${all === 1 ? "pack" : "packs"}${rest > 0.02 ? `, then ${shown(rest)} from the next` : ""}`;
}

// pictures of this step: the last one before this job, and what was taken here
async function drawPhotos(step, part) {
  for (const strip of all("[data-photos]", step)) {
    const place = strip.dataset.photos, last = J.last_photos[`${part}|${place}`];
    const mine = (await Q.photos(J.id).catch(() => [])).filter((p) => p.part === part && p.place === place);
    const words = [last ? "last time" : "", mine.length ? `${mine.length} here, not sent yet` : ""].filter(Boolean).join("; ");
    if (strip.dataset.drawn === words) continue;
    strip.dataset.drawn = words;
    strip.replaceChildren(words);
    if (!last) continue;
    const picture = document.createElement("img");
    picture.src = `/jobs/photos/${last.id}`; picture.alt = `${last.about}, ${last.on}`; picture.width = 84; picture.height = 63;
    strip.prepend(picture);
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
  else if (b.dataset.setNumber) say(part, b.dataset.setNumber, Number(b.dataset.value));
  else if (b.dataset.side) { side[part] = b.dataset.side; refresh(); }
  else if (b.dataset.pourPack) { if (ran[part] === "yes") ran[part] = undefined; say(part, "pour", { litres: +Number(b.dataset.pourPack).toFixed(4), point: "" }); }
  else if (b.dataset.itemBled) { bled[part] = b.dataset.itemBled; refresh(); }
  else if ("itemMore" in b.dataset) anotherReading(step, part, b);
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
    say(part, "level_read", { reading: Number(one("[data-level-read]", step).value), run: !asks || ran[part] === "yes", ...(one("[data-side]", step) ? { side: side[part] ?? "left" } : {}) });
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
// what an item's step shows as read: {value}, {why}, or null for nothing
function reading(step, part) {
  const chosen = one('[data-item-value][aria-pressed="true"]', step), number = one("[data-item-number]", step);
  if (chosen) return { value: chosen.dataset.itemValue };
  if (!number?.value.trim()) return null;
  const x = typed(number.value, number.dataset.kind, part);
  return x.value == null ? { why: x.why } : { value: x.value };
}
// each plug, each belt for itself
function anotherReading(step, part, b) {
  const read = reading(step, part), number = one("[data-item-number]", step);
  if (!read || read.why) return mark(b, read?.why ?? "read one first");
  (itemValues[part] ??= []).push(read.value);
  if (number) { number.value = ""; number.focus(); }
  all("[data-item-value]", step).forEach((x) => x.setAttribute("aria-pressed", "false"));
  one("[data-item-values]", step).replaceChildren(...itemValues[part].map((v) => Object.assign(document.createElement("li"), { textContent: v })));
}
function item(step, part, outcome) {
  const note = one("[data-item-note]", step).value.trim();
  if (outcome === "not_done" && !note) return mark(one("[data-item-note]", step), "say why it was not done");
  const value = { outcome, note }, missed = one("[data-item-missed]", step), read = reading(step, part);
  if (read?.why) return mark(one("[data-item-number]", step), read.why);
  const values = [...(itemValues[part] ?? []), ...(read ? [read.value] : [])];
  if (values.length) value.value = values.at(-1);
  if (values.length > 1) value.values = values;
  if (bled[part]) value.bled = bled[part];
  else if (outcome === "done" && one("[data-item-bled]", step)) return mark(one("[data-item-bled]", step), "say whether it was bled");
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
    const impossible = ["meter", "meter_2"].includes(el.dataset.number) ? JobRules.meterWrong(value, specs[part] ?? {}) : null;
    if (impossible) { el.select(); return mark(el, impossible); }
    const whole = ["meter", "meter_2", "ambient_c"].includes(el.dataset.number) ? null : part;
    say(whole, el.dataset.number, +value.toFixed(4));
  } else if (el.dataset.words) say(part, el.dataset.words, el.value.trim());
  else if (el.dataset.level) { drawLevel(el); say(part, el.dataset.level, Number(el.value)); }
  else if (el.dataset.partTick) { const name = el.dataset.partTick, now = of(part).now[name] ?? {}; say(part, name, { ...now, [el.dataset.name]: el.checked }); }
  else if (el.dataset.photo && el.files.length) { keepPhoto(el.files[0], part, el.dataset.photo); el.value = ""; }
  else if (el.id === "job-photo" && el.files.length) { keepPhoto(el.files[0], part, steps[at].dataset.step); el.value = ""; one("#job-menu").close(); }
});
root.addEventListener("input", (event) => { if (event.target.matches("[data-level], [data-level-read]")) drawLevel(event.target); });

// ---- a label's code ----
for (const label of all("[data-scan]")) {
  label.hidden = false;
  one("input", label).addEventListener("change", async (event) => {
    const code = await JobScan.read(event.target.files[0]);
    event.target.value = "";
    if (!code) return mark(label, "no code to be read there: come closer, or type the number");
    const input = one(`[data-words="${label.dataset.scan}"]`, label.closest(".step"));
    input.value = code;
    say(partOf(steps[at]), label.dataset.scan, code);
  });
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
  const due = one("#defer-due").value.trim(), by = due ? JobRules.day(due, J.hand.day_first, J.hand.months) : { value: null };
  if (by.why) return mark(one("#defer-due"), by.why);
  say(part, "defer", { kind: one("#defer-kind").value, what, part: one("#defer-part").value.trim(), owner: one("#defer-owner").value.trim(),
    due_on: by.value, instead: instead && part != null });
  for (const id of ["#defer-what", "#defer-part"]) one(id).value = "";
  one("#job-menu").close();
});
one("#job-slip button").addEventListener("click", () => {
  const part = slip?.part;
  slip = null;
  if (part == null) return;
  parts[part] = { ...(parts[part] ?? {}), state: "open" };
  say(part, "undo", {});
});
one("#job-bright").addEventListener("click", () => {
  const bright = document.documentElement.toggleAttribute("data-bright");
  Q.write("vornet-bright", bright);
  one("#job-menu").close();
});
document.documentElement.toggleAttribute("data-bright", Q.read("vornet-bright", false));
one("#job-back").addEventListener("click", () => show(at - 1, -1));
one("#job-next").addEventListener("click", () => show(at + 1));

// ---- sending ----
async function send() {
  if (sending || !queue.length) return;
  sending = true;
  const answer = await Q.send(J.id, J.token, queue);
  sending = false;
  if (answer === "ended") one("#job-net").textContent = `${queue.length} wait: sign in again in another tab, they stay here`;
  else if (answer === "no connection") one("#job-net").textContent = `no connection: ${queue.length} ${queue.length === 1 ? "entry waits" : "entries wait"} on this phone`;
  else if (typeof answer !== "string") {
    take(answer);
    if (queue.length) setTimeout(send, 50);
  }
}
function take(answer) {
  const settled = new Set([...answer.kept, ...answer.refused.map((r) => r.id)]);
  for (const r of answer.refused) refused.push({ ...r, entry: queue.find((e) => e.id === r.id) });
  queue = queue.filter((e) => !settled.has(e.id));
  keep();
  known = answer.entries;
  parts = answer.parts;
  Q.write(Q.key(J.id, "-known"), { entries: known, parts });
  tellRefused();
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
async function keepPhoto(file, part, place) {
  try {
    await Q.keepPhoto({ id: newId(), job: J.id, part, place, about: one("h1", steps[at]).textContent }, file);
  } catch {
    refused.push({ why: "the phone has no room for the photo: send what waits, then take it again" });
    tellRefused();
    return;
  }
  await countPhotos();
  sendPhotos();
}
async function countPhotos() {
  photosWaiting = (await Q.photos(J.id).catch(() => [])).length;
  refresh();
}
let posting = false;
async function sendPhotos() {
  if (posting) return;
  posting = true;
  let sent = 0;
  await Q.sendPhotos(J.id, J.token, (photo, why) => { if (why) { refused.push({ why }); tellRefused(); } else sent += 1; }).catch(() => {});
  posting = false;
  await countPhotos();
  if (sent && !photosWaiting) one("#job-net").textContent = "photo sent"; // not where one was refused
}
addEventListener("online", () => { send(); sendPhotos(); });
setInterval(() => { send(); if (photosWaiting) sendPhotos(); drawSlip(); }, 3000);
addEventListener("beforeunload", (event) => { if (queue.length && !navigator.onLine) event.preventDefault(); });
show(at);
tellRefused();
send();
sendPhotos();
})();
