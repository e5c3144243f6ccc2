// The interval in the hand: everything that depends on it is read off tables that came with the page; nothing is asked of the server.
"use strict";

(() => {
  const D = JSON.parse(document.getElementById("interval-data").textContent);
  const one = (s) => document.querySelector(s), all = (s) => [...document.querySelectorAll(s)];
  const range = one("#hand-range"), field = one("#hand-field"), hand = one("#hand"), drops = one("#trial-drops"), svg = one("#axis");
  const P = D.places;

  // a straight line between two lengths of a table
  const read = (table, h) => {
    const at = Math.min(Math.max(h / D.to, 0), 1) * (table.length - 1), i = Math.min(Math.floor(at), table.length - 2);
    return table[i] + (table[i + 1] - table[i]) * (at - i);
  };
  const SWAPPED = { ",": ".", ".": "," };
  const marked = (text) => (document.body.dataset.mark === "," ? text.replace(/[,.]/g, (c) => SWAPPED[c]) : text);
  const grouped = (x, digits = 0) => (x < 0 ? "−" : "") + marked(Math.abs(x).toLocaleString("en", { minimumFractionDigits: digits, maximumFractionDigits: digits }));
  const percent = (p) => p < 0.0005 ? `< ${grouped(0.1, 1)} %` : `${grouped(100 * p, p < 0.1 ? 1 : 0)} %`;
  const cost = (h) => {
    const t = D.cost.calendar === null ? h : Math.min(h, D.cost.calendar);
    return (D.cost.drain + read(D.act, t) * D.cost.risk) / t;
  };
  const put = (name, text) => { const el = one(`[data-${name}]`); if (el) el.textContent = text; };

  function show(h) {
    const x = P.left + (P.right - P.left) * h / D.to;
    hand.setAttribute("d", `M${x.toFixed(1)},${P.top} V${(P.bottom + 4).toFixed(1)}`);
    const shown = (D.today && h <= D.today ? [] : D.trial).filter((share) => share <= 1 || share * h <= D.caps).map((share) => share * h).filter((t) => t <= D.to);
    [...drops.querySelectorAll(".bottle")].forEach((el) => el.remove());
    for (const t of shown) {
      const drop = document.createElementNS("http://www.w3.org/2000/svg", "path"), at = P.left + (P.right - P.left) * t / D.to;
      drop.setAttribute("class", "bottle");
      drop.setAttribute("d", `M${at.toFixed(1)},${P.bottom + 26} q6,8 6,12 a6,6 0 0 1 -12,0 q0,-4 6,-12Z`);
      drops.append(drop);
    }
    put("hand", grouped(h * D.factor));
    put("any", percent(read(D.any, h)));
    if (D.asIs) put("asis", percent(read(D.asIs, h)));
    put("act", percent(read(D.act, h)));
    all("[data-of]").forEach((el) => { el.textContent = percent(read(D.properties[+el.dataset.of].chance, h)); });
    if (D.rate) {
      put("drains", D.today ? `${grouped(D.rate / D.today, 1)} → ${grouped(D.rate / h, 1)}` : grouped(D.rate / h, 1));
      if (D.litres && D.today) put("oil", `${grouped(D.litres * D.litreFactor * D.rate * (1 / h - 1 / D.today))} ${D.litreUnit}`);
    }
    if (D.cost) {
      put("cost", grouped(cost(h) / D.factor, 2));
      if (D.rate && D.today) {
        const saved = D.rate * (cost(D.today) - cost(h));
        put("saving", `${grouped(saved)} ± ${grouped(Math.abs(saved) * D.differ)} ${D.cost.currency}`);
      }
    }
    all("[data-school]").forEach((el) => {
      const over = h > +el.dataset.school * (1 + 1e-9);
      el.classList.toggle("over", over);
      el.querySelector(".verdict-words").textContent = over ? "too long" : "agrees";
    });
    all("[data-wall]").forEach((el) => el.classList.toggle("stands", h > +el.dataset.wall * (1 + 1e-9)));
    range.setAttribute("aria-valuetext", `${grouped(h * D.factor)} ${D.unit}, chance past the limit ${percent(read(D.any, h))}`);
  }
  let held = D.hand;
  const least = D.to / 240;
  function take(h, from) {
    held = Math.min(Math.max(h, least), D.to);
    if (from !== range) range.value = held;
    if (from !== field) field.value = grouped(held * D.factor);
    const approve = one("#approve-interval");
    if (approve && from) approve.value = String(Math.round(held * D.factor * 100) / 100);
    show(held);
  }
  const grid = D.step >= 500 ? 100 : 5;  // dragged to full hundreds of km or miles, to full fives of hours
  const rounded = (h) => Math.max(Math.round(h * D.factor / grid) * grid / D.factor, least);

  range.addEventListener("input", () => take(rounded(+range.value), range));
  range.addEventListener("keydown", (event) => {
    const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1, PageDown: -5, PageUp: 5 }[event.key];
    if (!way) return;
    event.preventDefault();
    take(held + way * (event.shiftKey ? 0.2 : 1) * D.step, "keys");
  });
  field.addEventListener("input", () => {
    const typed = Number(field.value.replace(/[\s,'’]/g, "").replace("−", "-"));
    if (Number.isFinite(typed) && typed > 0) take(typed / D.factor, field);
  });
  field.addEventListener("blur", () => { field.value = grouped(held * D.factor); });
  const at = (event) => {
    const box = svg.getBoundingClientRect();
    return ((event.clientX - box.left) * 900 / box.width - P.left) / (P.right - P.left) * D.to;
  };
  svg.addEventListener("pointerdown", (event) => { svg.setPointerCapture(event.pointerId); take(rounded(at(event)), svg); });
  svg.addEventListener("pointermove", (event) => { if (svg.hasPointerCapture(event.pointerId)) take(rounded(at(event)), svg); });
  all("[data-go]").forEach((el) => el.addEventListener("click", () => take(+el.dataset.go, el)));
  document.addEventListener("keydown", (event) => {
    if (event.key !== "n" || event.target.matches("input, textarea, select") || event.metaKey || event.ctrlKey) return;
    const links = all("[data-property]"), here = links.findIndex((a) => a.getAttribute("aria-current"));
    if (links.length > 1) location.href = links[(here + 1) % links.length].href;
  });
  take(D.hand, null);
})();
