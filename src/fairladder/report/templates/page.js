"use strict";
document.documentElement.classList.add("js");

// ------------------------------------------------------------------ charts: what a part says, by pointer and by keyboard
for (const figure of document.querySelectorAll("figure")) {
  const detail = figure.querySelector(".detail");
  for (const svg of figure.querySelectorAll("svg[role=img]")) {
    const parts = [...svg.querySelectorAll("[data-tip]")];
    let at = -1;
    const point = (i) => {
      parts.forEach((p) => p.classList.remove("pointed"));
      at = i;
      detail.textContent = i < 0 ? "" : parts[i].dataset.tip;
      if (i >= 0) parts[i].classList.add("pointed");
    };
    parts.forEach((part, i) => part.addEventListener("pointerenter", () => point(i)));
    svg.addEventListener("pointerleave", () => point(-1));
    svg.addEventListener("blur", () => point(-1));
    svg.addEventListener("keydown", (event) => {
      const step = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
      if (!step || !parts.length) return;
      event.preventDefault();
      point((at + step + parts.length) % parts.length);
    });
  }
}

// ------------------------------------------------------------------ the block of customers
const NULL = -2147483648;
const DAY = 86400000;
const DASH = "–";

async function unpacked() {
  const bytes = Uint8Array.from(atob(document.getElementById("block").textContent), (c) => c.charCodeAt(0));
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"));
  const whole = await new Response(stream).arrayBuffer();
  const length = new DataView(whole).getUint32(0, true);
  const head = JSON.parse(new TextDecoder().decode(new Uint8Array(whole, 4, length)));
  const base = 4 + length;
  for (const column of head.columns) {
    const at = base + column.at;
    if (column.stored === "text") Object.assign(column, texts(whole, at, column.bytes, head.rows));
    else if (column.stored === "i32") column.values = new Int32Array(whole, at, column.bytes / 4);
    else if (column.stored === "f64") column.values = new Float64Array(whole, at, column.bytes / 8);
    else column.values = new Uint16Array(whole, at, column.bytes / 2);
  }
  return head;
}

function texts(whole, at, bytes, rows) {
  const lengths = new Uint32Array(whole, at, rows);
  const starts = new Uint32Array(rows + 1);
  for (let i = 0; i < rows; i++) starts[i + 1] = starts[i] + (lengths[i] === 4294967295 ? 0 : lengths[i]);
  const data = new Uint8Array(whole, at + 4 * rows, bytes - 4 * rows);
  const decoder = new TextDecoder();
  const values = new Array(rows);
  for (let i = 0; i < rows; i++)
    values[i] = lengths[i] === 4294967295 ? null : decoder.decode(data.subarray(starts[i], starts[i + 1]));
  return { values };
}

const known = (column, i) => {
  const value = column.values[i];
  if (column.stored === "names") return value > 0;
  if (column.stored === "text") return value !== null;
  return column.stored === "f64" ? !Number.isNaN(value) : value !== NULL; // a float may equal NULL
};

const inWords = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric", timeZone: "UTC" });
const isoDay = (days) => new Date(days * DAY).toISOString().slice(0, 10);
const fixed = (units, decimals) => {
  const text = String(Math.abs(units)).padStart(decimals + 1, "0");
  const whole = text.slice(0, text.length - decimals);
  return (units < 0 ? "-" : "") + whole + (decimals ? "." + text.slice(text.length - decimals) : "");
};
const grouped = (text) => text.replace(/^-/, "−").replace(/^(−?\d+)/, (n) => n.replace(/\B(?=(\d{3})+$)/g, ","));

/** A cell as it is saved: plain numbers, ISO days, nothing for null. */
function plain(column, i) {
  if (!known(column, i)) return "";
  const value = column.values[i];
  if (column.stored === "text") return value;
  if (column.stored === "names") return column.names[value - 1];
  return column.kind === "day" ? isoDay(value) : fixed(value, column.decimals);
}

/** A share in percent: only a whole is 100.0 %, only nothing is 0.0 %. */
function percent(share) {
  if (share > 0 && share < 0.0005) return "under 0.1 %";
  return share >= 0.9995 && share < 1 - 1e-9 ? "over 99.9 %" : (100 * share).toFixed(1) + " %";
}

/** A cell as it is read: thousands marked, shares in percent. */
function cell(column, i) {
  if (!known(column, i)) return DASH;
  if (column.kind === "share") return percent(column.values[i] / 1e6);
  const text = plain(column, i);
  return column.stored === "i32" || column.stored === "f64" ? (column.kind === "day" ? text : grouped(text)) : text;
}

function element(tag, attributes = {}, ...children) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  made.append(...children);
  return made;
}

// ------------------------------------------------------------------ the table
const ROW = 35;
const ASIDE = 12;

function tableOf(head) {
  const columns = head.columns.filter((c) => !c.name.startsWith("#"));
  const byName = Object.fromEntries(head.columns.map((c) => [c.name, c]));
  const scroll = document.getElementById("scroll");
  const sizer = document.getElementById("sizer");
  const table = document.getElementById("rows");
  const sums = document.getElementById("sums");
  const search = document.getElementById("search");
  const one = document.getElementById("one");
  const text = columns.filter((c) => c.stored === "text");
  const folded = text.map((c) => c.values.map((v) => (v === null ? "" : v.toLowerCase())));
  const filters = new Map();
  let order = Uint32Array.from({ length: head.rows }, (_, i) => i);
  let rows = order;
  let sorted = { name: "spend", down: true };
  let drawn = "";
  let focusAt = -1;

  // the order of texts is worked out once for each column
  const ranks = new Map();
  const rankOf = (column) => {
    if (!ranks.has(column.name)) {
      const collator = new Intl.Collator("en", { numeric: true });
      const places = Array.from({ length: head.rows }, (_, i) => i).sort((a, b) => collator.compare(column.values[a] ?? "", column.values[b] ?? ""));
      const rank = new Uint32Array(head.rows);
      places.forEach((row, place) => { rank[row] = place; });
      ranks.set(column.name, rank);
    }
    return ranks.get(column.name);
  };

  function sort() {
    const column = byName[sorted.name];
    const keys = column.stored === "text" ? rankOf(column) : column.values;
    const sign = sorted.down ? -1 : 1;
    order = Uint32Array.from({ length: head.rows }, (_, i) => i).sort((a, b) => {
      const ka = known(column, a), kb = known(column, b);
      if (ka !== kb) return ka ? -1 : 1; // nulls last, whichever way
      return (ka && keys[a] !== keys[b] ? sign * (keys[a] < keys[b] ? -1 : 1) : 0) || a - b;
    });
  }

  function filter() {
    const wanted = search.value.trim().toLowerCase();
    const chosen = [...filters].filter(([, v]) => v !== "").map(([name, v]) => [byName[name].values, Number(v)]);
    rows = order.filter((i) => chosen.every(([values, v]) => values[i] === v) && (wanted === "" || folded.some((f) => f[i].includes(wanted))));
    total();
    remember();
    scroll.scrollTop = 0;
    draw(true);
  }

  // the address names the filters or the customer that is shown, so that others can open the same
  let opened = null;
  function remember() {
    const parts = new URLSearchParams();
    if (search.value.trim()) parts.set("search", search.value.trim());
    for (const [name, v] of filters) if (v !== "") parts.set(name, v === "0" ? "" : byName[name].names[v - 1]);
    if (opened !== null) parts.set("customer", byName.customer.values[opened]);
    const text = parts.toString();
    if (text || location.hash.includes("=")) history.replaceState(null, "", text ? "#" + text : location.pathname + location.search);
  }

  function recall() {
    if (!location.hash.includes("=")) return;
    const parts = new URLSearchParams(location.hash.slice(1));
    search.value = parts.get("search") ?? "";
    for (const select of document.querySelectorAll("#filters select")) {
      const wanted = parts.get(select.dataset.column);
      const code = wanted === null ? "" : wanted === "" ? "0" : String(byName[select.dataset.column].names.indexOf(wanted) + 1);
      if (code !== "" && !(code === "0" && wanted !== "")) { select.value = code; filters.set(select.dataset.column, code); }
    }
    filter();
    document.getElementById("customers-part").scrollIntoView();
    const place = parts.has("customer") ? byName.customer.values.indexOf(parts.get("customer")) : -1;
    if (place >= 0) open(place);
  }

  function total() {
    const words = [`${grouped(String(rows.length))} of ${grouped(String(head.rows))} customers`];
    for (const [name, label] of [["orders", "orders"], ["spend", "spend"], ["expected_value", `expected in ${head.horizon} days`]]) {
      const column = byName[name];
      if (!column) continue;
      let sum = 0;
      for (const i of rows) if (known(column, i)) sum += column.values[i];
      words.push(`${grouped(fixed(Math.round(sum), column.decimals))} ${label}`);
    }
    sums.textContent = words.join(" · ");
  }

  function headRow() {
    const line = element("tr", { "aria-rowindex": 1 });
    for (const column of columns) {
      const here = sorted.name === column.name;
      const mark = here ? (sorted.down ? " ▼" : " ▲") : "";
      const button = element("button", { type: "button" }, column.label + mark);
      button.addEventListener("click", () => {
        sorted = { name: column.name, down: here ? !sorted.down : column.stored !== "text" && column.stored !== "names" };
        sort();
        filter();
        headAgain(column.name);
      });
      const attributes = { scope: "col", "aria-sort": here ? (sorted.down ? "descending" : "ascending") : "none" };
      if (numeric(column)) attributes.class = "n";
      line.append(element("th", attributes, button));
    }
    return element("thead", {}, line);
  }

  function headAgain(name) {
    table.tHead.replaceWith(headRow());
    const place = columns.findIndex((c) => c.name === name);
    table.tHead.rows[0].cells[place].firstChild.focus();
  }

  const numeric = (column) => column.stored === "i32" || column.stored === "f64";

  function rowOf(place) {
    const i = rows[place];
    const line = element("tr", { "aria-rowindex": place + 2 });
    columns.forEach((column, n) => {
      if (n === 0) {
        const open = element("button", { type: "button", "data-place": place }, cell(column, i));
        line.append(element("th", { scope: "row" }, open));
      } else {
        const shown = column.name === "segment" && known(column, i)
          ? [element("span", { class: "stance " + head.segments[column.values[i] - 1].stance }), cell(column, i)] : [cell(column, i)];
        line.append(element("td", numeric(column) ? { class: "n" } : {}, ...shown));
      }
    });
    return line;
  }

  function draw(anew = false) {
    const first = Math.max(Math.floor(scroll.scrollTop / ROW) - ASIDE, 0);
    const last = Math.min(Math.ceil((scroll.scrollTop + scroll.clientHeight) / ROW) + ASIDE, rows.length);
    const key = `${first} ${last}`;
    if (!anew && key === drawn) return;
    drawn = key;
    sizer.style.height = `${(rows.length + 1) * ROW + 2}px`;
    table.style.top = `${first * ROW}px`;
    table.setAttribute("aria-rowcount", rows.length + 1);
    const body = element("tbody");
    for (let place = first; place < last; place++) body.append(rowOf(place));
    const old = table.tBodies[0], kept = focusAt; // rows that are taken away lose the focus
    if (old) old.replaceWith(body); else table.append(body);
    focusAt = kept;
    if (focusAt >= first && focusAt < last) body.querySelector(`[data-place="${focusAt}"]`).focus({ preventScroll: true });
  }

  function go(place) {
    focusAt = Math.min(Math.max(place, 0), rows.length - 1);
    const top = focusAt * ROW;
    if (top < scroll.scrollTop) scroll.scrollTop = top;
    else if (top + 2 * ROW > scroll.scrollTop + scroll.clientHeight) scroll.scrollTop = top + 2 * ROW - scroll.clientHeight;
    draw(true);
  }

  // ---------------------------------------------------------------- one customer
  const starts = new Uint32Array(head.rows + 1);
  byName["#strip"].values.forEach((n, i) => { starts[i + 1] = starts[i] + n; });

  function monthsOf(i) {
    const { first, months } = byName["#strip"];
    const counts = new Array(months).fill(0);
    for (let k = starts[i]; k < starts[i + 1]; k++) {
      const month = byName["#month"].values[k];
      if (month < months) counts[month] += byName["#count"].values[k];
    }
    return counts.map((n, k) => [`${Math.floor((first + k) / 12)}-${String(((first + k) % 12) + 1).padStart(2, "0")}`, n]);
  }

  function strip(i) {
    const counts = monthsOf(i);
    const most = Math.max(...counts.map(([, n]) => n), 1);
    const space = "http://www.w3.org/2000/svg";
    const svg = document.createElementNS(space, "svg");
    const width = 560, high = 60, step = width / counts.length;
    svg.setAttribute("viewBox", `0 0 ${width} ${high + 20}`);
    svg.setAttribute("role", "img");
    const there = counts.filter(([, n]) => n);
    svg.setAttribute("aria-label", "Orders by month: " + (there.map(([m, n]) => `${m} ${n}`).join(", ") || "none"));
    const add = (tag, attributes, words) => {
      const made = document.createElementNS(space, tag);
      for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
      if (words) made.textContent = words;
      svg.append(made);
      return made;
    };
    add("path", { class: "axis", d: `M0 ${high}H${width}` });
    counts.forEach(([month, n], k) => {
      if (!n) return;
      const bar = add("rect", { class: "keep", x: k * step + step * 0.12, y: high - (high - 4) * n / most, width: step * 0.76, height: (high - 4) * n / most });
      const tip = document.createElementNS(space, "title");
      tip.textContent = `${month}: ${n} ${n === 1 ? "order" : "orders"}`;
      bar.append(tip);
    });
    add("text", { class: "small faint", x: 0, y: high + 16 }, counts[0][0]);
    add("text", { class: "small faint", x: width, y: high + 16, "text-anchor": "end" }, counts[counts.length - 1][0]);
    return svg;
  }

  function open(i) {
    const list = element("dl");
    const pair = (name, ...words) => list.append(element("div", {}, element("dt", {}, name), element("dd", {}, ...words)));
    for (const column of columns.slice(1)) {
      const ladder = head.ladders[column.name];
      const day = column.kind === "day" && known(column, i);
      const rung = ladder && known(column, i) ? `rung ${cell(column, i)} of ${ladder.rungs.length}: ${ladder.rungs[column.values[i] - 1]} (${ladder.of.replaceAll("_", " ")})` : day ? inWords.format(column.values[i] * DAY) : cell(column, i);
      pair(column.label, rung);
    }
    const segment = byName.segment;
    if (known(segment, i)) {
      const placed = head.segments[segment.values[i] - 1];
      pair("placed by", element("code", {}, placed.rule));
      pair("what to do", placed.stance);
    }
    document.getElementById("one-title").textContent = cell(columns[0], i) + (byName.name && known(byName.name, i) ? `, ${cell(byName.name, i)}` : "");
    document.getElementById("one-body").replaceChildren(element("p", { class: "sub" }, "Orders by month"), strip(i), list);
    opened = i;
    remember();
    one.showModal();
  }

  // ---------------------------------------------------------------- saving
  const guarded = (words) => (/^[=+\-@\t\r]/.test(words) ? "'" + words : words);
  const quoted = (words) => (/[",\n\r]/.test(words) ? '"' + words.replaceAll('"', '""') + '"' : words);
  const csvCell = (column, i) => quoted(numeric(column) ? plain(column, i) : guarded(plain(column, i)));

  function save(some, name) {
    const lines = [columns.map((c) => quoted(guarded(c.name))).join(",")];
    for (const i of some) lines.push(columns.map((c) => csvCell(c, i)).join(","));
    // the mark at the beginning tells spreadsheets that the file is UTF-8
    const address = URL.createObjectURL(new Blob(["\ufeff" + lines.join("\n") + "\n"], { type: "text/csv" }));
    const link = element("a", { href: address, download: `${name}-${head.asOf}.csv` });
    link.click();
    setTimeout(() => URL.revokeObjectURL(address), 10000);
  }

  // ---------------------------------------------------------------- what people do
  for (const column of columns.filter((c) => c.stored === "names")) {
    const select = element("select", { "data-column": column.name }, element("option", { value: "" }, "all"));
    column.names.forEach((name, n) => select.append(element("option", { value: n + 1 }, name)));
    if (column.values.includes(0)) select.append(element("option", { value: 0 }, "none"));
    select.addEventListener("change", () => { filters.set(column.name, select.value); filter(); });
    document.getElementById("filters").append(element("label", {}, column.label, select));
  }
  search.addEventListener("input", filter);
  scroll.addEventListener("scroll", () => draw());
  new ResizeObserver(() => draw(true)).observe(scroll);
  document.getElementById("save").addEventListener("click", () => save(rows, "customers"));
  const action = byName["#action"];
  for (const button of document.querySelectorAll("[data-action]")) {
    const code = action.names.indexOf(button.dataset.action) + 1;
    button.addEventListener("click", () => save(order.filter((i) => action.values[i] === code), button.dataset.action));
  }
  document.getElementById("close").addEventListener("click", () => one.close());
  one.addEventListener("close", () => { opened = null; remember(); });
  table.addEventListener("click", (event) => {
    const place = event.target.dataset?.place;
    if (place !== undefined) { focusAt = Number(place); open(rows[focusAt]); }
  });
  table.addEventListener("focusin", (event) => { if (event.target.dataset.place !== undefined) focusAt = Number(event.target.dataset.place); });
  table.addEventListener("focusout", () => { focusAt = -1; });
  table.addEventListener("keydown", (event) => {
    const here = event.target.dataset?.place;
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (here === undefined || !step) return;
    event.preventDefault();
    go(Number(here) + step);
  });

  table.append(headRow());
  const wanted = location.hash; // filters write the address
  sort();
  filter();
  if (wanted.includes("=")) { history.replaceState(null, "", wanted); recall(); }
  document.documentElement.dataset.ready = "yes";
}

unpacked().then(tableOf, () => {
  document.documentElement.classList.remove("js");
});
