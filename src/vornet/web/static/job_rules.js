// What follows from a drain's entries, and how figures are read: pure, with nothing of the page. The same as core/drain.py,
// core/job.py and core/measures.py; one test runs the same cases through both languages.
"use strict";

globalThis.JobRules = (() => {
const LISTS = ["pour", "level_read", "photo", "drip"];
const nothing = () => ({ now: {}, lists: {} });

// entries as what holds now, by part (0 the visit): by clock, then by id
function fold(rows) {
  const out = new Map(), seen = new Set();
  for (const e of [...rows].sort((a, b) => a.clock - b.clock || (a.id < b.id ? -1 : 1))) {
    if (seen.has(e.id)) continue;
    seen.add(e.id);
    const at = e.part ?? 0;
    if (!out.has(at)) out.set(at, nothing());
    const said = out.get(at);
    if (LISTS.includes(e.key)) {
      const list = (said.lists[e.key] ??= []);
      if (e.value.taken_back) said.lists[e.key] = list.filter((v) => v.id !== e.value.taken_back);
      else list.push({ ...e.value, id: e.id });
    } else said.now[e.key] = e.value;
  }
  return out;
}

// of two sides the lower one counts, before and after
const levelBefore = (now) => [now.level_before, now.level_before_left, now.level_before_right].filter((v) => v != null).reduce((a, b) => Math.min(a, b), Infinity);
function levelAfter(lists) {
  const last = {};
  for (const v of lists.level_read ?? []) if (v.run) last[v.side ?? ""] = v.reading;
  const all = Object.values(last);
  return all.length ? Math.min(...all) : null;
}

// why the filter that was fitted may not stay: one that is barred here
function fitted(spec, now) {
  const part = String(now.filter_part ?? "").trim().toLowerCase();
  const barred = part && (spec.barred ?? []).find((b) => b.trim().toLowerCase() === part);
  return barred ? `${barred} is barred here: a look-alike that starves it` : null;
}

const startValue = (share, before, after) => share * before + (1 - share) * after;

// spec: system, capacity, without, marks (L, null unknown), filters; rules: the figures shared with core
function figures(spec, said, rules) {
  const { now, lists } = said;
  const holds = spec.system || (spec.capacity ? spec.capacity * rules.system_over_refill : null);
  const changed = (now.filter_changed ?? (spec.filters ? "yes" : "no")) === "yes";
  const capacity = !changed && spec.without ? spec.without : spec.capacity;
  const assumed = [];
  let missing = null, wrong = null;
  const found = levelBefore(now), read = found < Infinity;
  if (read && spec.marks) missing = (1 - found) * spec.marks;
  else assumed.push(read ? "marks_unknown" : "level_not_read");
  let residual = null;
  if (now.out_l != null && holds) {
    const held = holds - (missing ?? 0);
    const out = held < now.out_l && now.out_l <= held * (1 + rules.out_slack) ? held : now.out_l;
    const left = holds - (missing ?? 0) - out;
    if ((missing ?? 0) >= holds || left < -1e-9) wrong = { field: "out_l", held };
    else residual = Math.max(left, 0);
  } else if (holds && capacity) {
    residual = Math.max(holds - capacity, 0);
    assumed.push("out_not_measured");
  }
  let target = now.out_l != null && residual != null && holds ? holds - residual : capacity ?? null;
  if (target == null && spec.pour === "returned" && now.out_l != null) target = now.out_l + (missing ?? 0);
  const poured = (lists.pour ?? []).reduce((sum, p) => sum + p.litres, 0);
  if (!wrong && holds && residual != null && poured > (holds - residual) * rules.poured_share + rules.poured_l) wrong = { field: "pour", fits: holds - residual };
  const level = levelAfter(lists);
  let add = null;
  if (level != null && spec.marks) add = level < rules.full_from ? Math.max((1 - level) * spec.marks, 0) : 0;
  else if (target != null) add = Math.max(target - poured, 0);
  const dry = changed && now.prefilled !== "yes" && spec.capacity && spec.without;
  return { missing, residual, share: residual != null && holds ? residual / holds : null, target,
    first: target == null ? null : ((spec.pour ?? "approach") === "approach" ? rules.first_share : 1) * target, poured, level, add, fall: dry ? spec.capacity - spec.without : 0, assumed, wrong };
}

// litres of a weighed pan, at the oil's temperature and cold; null where it is not all said, or the empty pan is heavier
function weigh(gross, tare, temperature, w) {
  if (gross == null || tare == null || temperature == null || tare > gross) return null;
  const at = (t) => w.density * (1 - w.expansion * (t - 15));
  return at(temperature) > 0 ? { litres: (gross - tare) / at(temperature), cold: (gross - tare) / at(w.reference) } : null;
}

// what will have come out, from readings while it drips: litres(t) = final − k/√t; null where they do not tell it
function drip(readings) {
  const rows = [...readings].sort((a, b) => a.min - b.min);
  if (rows.length < 2 || rows.some((r, i) => !(r.min > 0) || (i && (r.min === rows[i - 1].min || r.litres < rows[i - 1].litres)))) return null;
  const x = rows.map((r) => 1 / Math.sqrt(r.min)), y = rows.map((r) => r.litres), n = rows.length;
  const sum = (a) => a.reduce((s, v) => s + v, 0), mx = sum(x) / n, my = sum(y) / n;
  const slope = sum(x.map((v, i) => (v - mx) * (y[i] - my))) / sum(x.map((v) => (v - mx) ** 2));
  let final = my - slope * mx, k = -slope;
  if (final < y[n - 1]) {
    final = y[n - 1];
    k = sum(x.map((v, i) => v * (final - y[i]))) / sum(x.map((v) => v * v));
  }
  return { final, k, at: (min) => final - k / Math.sqrt(min) };
}

const meterKey = (spec) => (spec.meter_no === 2 ? "meter_2" : "meter");

// what is still to be entered before a drain can be finished: [key, sentence]
function wanting(spec, said, visit) {
  const { now, lists } = said, out = [];
  if (visit.now[meterKey(spec)] == null) out.push(["meter", "the meter has not been read"]);
  if (spec.task === "sample") {
    if (!now.sample_no) out.push(["sample", "the bottle has no number"]);
    return out;
  }
  if (spec.task === "magnetic_filter" || spec.task === "breather") {
    if (!now.part_action) out.push(["part_action", "say what was done with it"]);
    return out;
  }
  const barred = fitted(spec, now);
  if (barred && now.filter_changed !== "no") out.push(["filter_part", barred]);
  if (spec.task === "filter") return [...out, ...leaking(now)];
  if (spec.gate && now.fill_open !== "yes") out.push(["fill_open", "the fill plug is not proven open"]);
  const left = spec.drains.filter((p) => !now.shut?.[p]);
  if (left.length) out.push(["shut", `not confirmed shut: ${left.join(", ")}`]);
  if (!(lists.pour ?? []).length) out.push(["pour", "nothing has been poured in"]);
  out.push(...leaking(now));
  if (now.parts_out && now.parts_in !== now.parts_out) out.push(["parts_in", `${now.parts_out} parts came out, ${now.parts_in ?? 0} went back`]);
  return out;
}

function leaking(now) {
  if (now.leaks == null) return [["leaks", "the leak check is missing"]];
  return now.leaks !== "none" && !now.defer ? [["leaks", "it leaks: put that off with an owner and a day, or stop"]] : [];
}

// a meter reading against what is known: why it cannot be, or null
function meterWrong(value, spec) {
  if (spec.least != null && value < spec.least - 0.05) return `the meter goes back: it read ${+(spec.least * (spec.meter_factor ?? 1)).toFixed(1)}`;
  if (spec.most != null && value > spec.most) return "so much more in so few days cannot be: read it again";
  return null;
}

function stopSuggested({ now }) {
  if (Object.values(now.magnets ?? {}).some((g) => g === 4)) return "chips";
  if ((now.oil_looks ?? []).includes("coolant")) return "coolant";
  if ((now.filter_looks ?? []).includes("collapsed")) return "filter";
  return null;
}

// ---- numbers as people write them ----
const grouped = (text, mark) => new RegExp(`^[+-]?\\d{1,3}(?:\\${mark}\\d{3})+$`).test(text);
const refused = (why) => ({ value: null, why });

// {value} or {why}: one mark with three digits behind it can mean two things, and the person's own mark says which
function number(text, mark) {
  const plain = text.replace(/[\s'’\u00a0\u202f\u2009]/g, "").replaceAll("−", "-");
  const no = () => refused(`'${text.trim().slice(0, 30)}' is not a number`);
  if (!/^[+-]?(?:\d[\d.,]*|[.,]\d+)(?:[eE][+-]?\d{1,3})?$/.test(plain)) return no();
  const marks = [...plain].filter((c) => c === "." || c === ",");
  let pointed = plain;
  if (marks.length) {
    const last = marks.at(-1), at = plain.lastIndexOf(last), head = plain.slice(0, at), tail = plain.slice(at + 1);
    if (new Set(marks).size === 2) {
      if (marks.filter((m) => m === last).length > 1 || !grouped(head, marks[0])) return no();
      pointed = `${head.replaceAll(marks[0], "")}.${tail}`;
    } else if (marks.length > 1) {
      if (!grouped(plain, last)) return no();
      pointed = plain.replaceAll(last, "");
    } else if (/^[+-]?[1-9]\d{0,2}$/.test(head) && /^\d{3}$/.test(tail)) {
      if (!mark) return refused(`'${text.trim()}' may mean ${head}${tail} or ${Number(`${head}.${tail}`)}: write ${head}${tail}, or ${head}${last}${tail}0`);
      pointed = mark === last ? `${head}.${tail}` : head + tail;
    } else pointed = `${head}.${tail}`;
  }
  const value = Number(pointed);
  return Number.isFinite(value) ? { value } : no();
}

// a quantity in its stored unit; hand: {mark, us, kinds: {kind: {written unit: [factor, offset]}}}
function typed(text, kind, hand) {
  const match = text.trim().match(/^([+\-−]?[\d.,'’\s]*\d[\d.,]*|[+\-−]?[.,]\d+)\s*([^\d\s].*)?$/);
  if (!match) return refused("is not a number, nor a number with a unit");
  const read = number(match[1], hand.mark), unit = (match[2] ?? "").trim().toLowerCase().replace(/\.+$/, "").replaceAll("⋅", "·");
  if (read.value == null) return read;
  if (kind === "plain") return unit ? refused("is a plain number") : read;
  const factors = hand.kinds[kind][unit || (hand.us ? "us" : "")];
  if (!factors || unit === "us") return refused(`${match[2]} is not a unit of it`);
  return { value: read.value * factors[0] + factors[1] };
}

// ---- days as people write them: the same day that the desk would read ----
const year = (text) => text.length === 4 ? Number(text) : Number(text) + (Number(text) < 70 ? 2000 : 1900);

// {value: iso} or {why}; dayFirst: whether 03/04/2026 is the third of April, null where nobody knows; months: {name: number}
function day(text, dayFirst, months) {
  const plain = text.trim().split(/\s+/).join(" "), no = () => refused(`'${plain.slice(0, 30)}' is not a date`);
  const made = (y, m, d) => {
    const at = new Date(Date.UTC(y, m - 1, d));
    at.setUTCFullYear(y);
    return at.getUTCMonth() === m - 1 && at.getUTCDate() === d && y > 0 ? { value: at.toISOString().slice(0, 10) } : no();
  };
  const iso = plain.match(/^(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})$/);
  if (iso) return made(Number(iso[1]), Number(iso[2]), Number(iso[3]));
  const dotted = plain.match(/^(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4}|\d\d)$/);
  if (dotted) return made(year(dotted[3]), Number(dotted[2]), Number(dotted[1]));
  const slashed = plain.match(/^(\d{1,2})[/-](\d{1,2})[/-](\d{4}|\d\d)$/);
  if (slashed) {
    const [one, two, y] = [Number(slashed[1]), Number(slashed[2]), year(slashed[3])];
    if (dayFirst == null && one !== two && one <= 12 && two <= 12) return refused(`'${plain}' may be two days: write it as ${y}-…, or name the month`);
    return dayFirst === false || (dayFirst == null && two > 12) ? made(y, one, two) : made(y, two, one);
  }
  const letters = plain.toLowerCase().normalize("NFKD").replace(/\p{M}/gu, "");
  if (!/^[a-z0-9., -]+$/.test(letters)) return no();
  const words = letters.match(/[a-z0-9]+/g) ?? [], named = words.filter((w) => w in months);
  const rest = words.filter((w) => !(w in months)).map((w) => w.replace(/^(\d+)(st|nd|rd|th)$/, "$1"));
  if (words.length !== 3 || named.length !== 1 || !rest.every((w) => /^\d+$/.test(w))) return no();
  const [d, y] = rest[0].length === 4 ? [rest[1], rest[0]] : rest;
  return y.length === 2 || y.length === 4 ? made(year(y), months[named[0]], Number(d)) : no();
}

// a number as anybody may type it again: never one that somebody would read as thousands
const plain = (value) => String(value).replace(/^(-?[1-9]\d{0,2}\.\d{3})$/, "$10");

return { fold, levelBefore, fitted, meterWrong, plain, figures, weigh, drip, wanting, stopSuggested, startValue, number, typed, day, nothing, meterKey };
})();
