"use strict";
// The search: what does not have the words is hidden.
(() => {
  const box = document.getElementById("search");
  const found = document.getElementById("found");
  const texts = [...document.querySelectorAll("main article, main .fieldof, main .map tbody tr")].map(one => [one, one.textContent.toLowerCase()]);
  const search = () => {
    const words = box.value.toLowerCase().split(/\s+/).filter(word => word);
    let count = 0;
    for (const [one, text] of texts) {
      one.hidden = !words.every(word => text.includes(word));
      if (!one.hidden && one.tagName === "ARTICLE") count += 1;
    }
    found.textContent = words.length ? `${count} found` : "";
  };
  box.addEventListener("input", search);
  document.addEventListener("keydown", event => {
    if (event.key === "/" && !["INPUT", "SELECT", "TEXTAREA"].includes(document.activeElement.tagName)) {
      event.preventDefault();
      box.focus();
    } else if (event.key === "Escape" && document.activeElement === box) {
      box.value = "";
      search();
    }
  });
  // A link leads to what may be hidden.
  addEventListener("hashchange", () => {
    const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    if (target && target.closest("[hidden]")) { box.value = ""; search(); target.scrollIntoView(); }
  });
  document.getElementById("searching").hidden = false;
})();

// The calculator: bits are clicked or a value is typed, and everything else follows.
(() => {
  const items = JSON.parse(document.getElementById("tables").textContent);
  const section = document.getElementById("calculator");
  if (!section || !items.length) return;
  const [choice, value, grid, out, setting, note] = ["choice", "value", "grid", "out", "setting", "note"].map(name => document.getElementById("calculator-" + name));
  let item = items[0], bits = [];
  const chosens = new Map(), group = reading => reading.curves.map(curve => curve.with).join();

  const hex = () => {
    let text = "";
    for (let at = 0; at < bits.length; at += 4) text += parseInt(bits.slice(at, at + 4).join(""), 2).toString(16).toUpperCase();
    return item.kind === "register" ? "0x" + text : text.replace(/..(?=.)/g, "$& ");
  };
  // Bits of a code, the most significant first, as the number that they stand for.
  const decode = (own, form) => {
    const all = own.map(at => bits[at]);
    const whole = own => own.reduce((sum, bit) => sum * 2n + BigInt(bit), 0n);
    const raw = whole(all), width = BigInt(all.length);
    const signed = () => all[0] ? raw - (1n << width) : raw;
    const fixed = /^(u?)q(\d+)\.(\d+)$/.exec(form);
    if (fixed) return Number(fixed[1] ? raw : signed()) / 2 ** Number(fixed[3]);
    switch (form) {
      case "signed": return signed();
      case "ones-complement": return all[0] ? raw - (1n << width) + 1n : raw;
      case "sign-magnitude": return all[0] ? -whole(all.slice(1)) : raw;
      case "offset-binary": return raw - (1n << (width - 1n));
      case "bcd": {
        let sum = 0n;
        for (let end = all.length, place = 1n; end > 0; end -= 4, place *= 10n) {
          const digit = whole(all.slice(Math.max(0, end - 4), end));
          if (digit > 9n) return null;
          sum += digit * place;
        }
        return sum;
      }
      case "float": {
        const view = new DataView(new ArrayBuffer(8));
        if (all.length === 64) { view.setBigUint64(0, raw); return view.getFloat64(0); }
        if (all.length === 32) { view.setUint32(0, Number(raw)); return view.getFloat32(0); }
        const exponent = Number(whole(all.slice(1, 6))), fraction = Number(whole(all.slice(6)));
        const size = exponent === 31 ? (fraction ? NaN : Infinity) : exponent ? (1 + fraction / 1024) * 2 ** (exponent - 15) : fraction * 2 ** -24;
        return all[0] ? -size : size;
      }
      case "text": {
        let text = "";
        for (let at = 0; at < all.length; at += 8) text += String.fromCharCode(Number(whole(all.slice(at, at + 8))));
        return text.replace(/[\0 ]+$/, "");
      }
      default: return raw;
    }
  };
  // A reading out of its table: points of code and value; between two of them lies a straight line.
  const read = (reading, code) => {
    const chosen = chosens.get(group(reading));
    const curve = reading.curves.find(curve => curve.with === (chosen ? chosen.value : reading.with)) || reading.curves[0];
    const points = curve.points;
    if (typeof code !== "bigint" || !points.length) return null;
    const at = Number(code);
    let low = 0, high = points.length - 1;
    if (at < points[0][0] || at > points[high][0]) return null;
    while (high - low > 1) { const middle = (low + high) >> 1; if (points[middle][0] <= at) low = middle; else high = middle; }
    if (points[high][0] === at) low = high;
    const [c0, v0, s0] = points[low], [c1, v1, s1] = points[high];
    if (c0 === at || low === high) return { value: v0, saturated: s0, exact: true };
    if (v0 === null || v1 === null) return null;
    return { value: v0 + (v1 - v0) * (at - c0) / (c1 - c0), saturated: s0 && s1, exact: curve.straight };
  };
  const row = (cells, kind) => {
    const line = document.createElement("tr");
    for (const text of cells) { const cell = document.createElement("td"); cell.textContent = text; line.append(cell); }
    if (kind) line.className = kind;
    out.append(line);
  };
  const follow = () => {
    value.value = hex();
    [...grid.querySelectorAll("button")].forEach((button, at) => {
      button.textContent = bits[at];
      button.setAttribute("aria-pressed", bits[at] === 1);
    });
    out.replaceChildren();
    const codes = {};
    for (const code of item.codes) {
      const number = decode(code.bits, code.form);
      codes[code.name] = number;
      const text = number === null ? "invalid BCD" : String(number);
      const name = (code.values || {})[text];
      row([code.name, text, name === undefined ? (code.values && Object.keys(code.values).length ? "not in its table" : "") : name]);
    }
    for (const reading of item.readings) {
      const got = read(reading, codes[reading.code]);
      const text = got === null || got.value === null ? "–" : (got.exact ? "" : "≈ ") + got.value.toFixed(reading.decimals) + " " + reading.unit;
      row([reading.name, text.trim(), got && got.saturated ? "saturated" : ""], "reading");
    }
  };
  const build = () => {
    bits = Array.from(item.start, Number);
    grid.replaceChildren();
    const per = 8, high = item.kind === "register";
    for (let at = 0; at < bits.length; at += per) {
      const group = document.createElement("div");
      const label = document.createElement("span");
      label.textContent = high ? `${bits.length - 1 - at}–${Math.max(0, bits.length - at - per)}` : `b${at / 8}`;
      group.append(label);
      for (let bit = at; bit < Math.min(at + per, bits.length); bit += 1) {
        const button = document.createElement("button");
        button.type = "button";
        const owner = item.codes.find(code => code.bits.includes(bit));
        button.title = owner ? owner.name : "";
        button.setAttribute("aria-label", `${high ? "bit " + (bits.length - 1 - bit) : "byte " + Math.floor(bit / 8) + " bit " + (7 - bit % 8)} ${button.title}`);
        button.addEventListener("click", () => { bits[bit] ^= 1; note.textContent = ""; follow(); });
        group.append(button);
      }
      grid.append(group);
    }
    // Readings that the same settings decide over have one choice.
    chosens.clear();
    setting.replaceChildren();
    for (const reading of item.readings) {
      if (reading.curves.length < 2 || chosens.has(group(reading))) continue;
      const select = document.createElement("select");
      select.setAttribute("aria-label", "settings of " + reading.name);
      select.append(...reading.curves.map(curve => new Option(curve.with, curve.with)));
      select.value = reading.with;
      select.addEventListener("change", follow);
      chosens.set(group(reading), select);
      setting.append(select, " ");
    }
    setting.parentElement.hidden = chosens.size === 0;
    note.textContent = "";
    follow();
  };
  const take = text => {
    const digits = text.replace(/0x|[\s,]/gi, "");
    if (!/^[0-9a-f]*$/i.test(digits)) { note.textContent = "hex digits are expected"; return; }
    const wanted = Math.ceil(bits.length / 4);
    if (digits.length > wanted) { note.textContent = `more than ${wanted} digits`; return; }
    // A value has its zeros before it, bytes behind them.
    const filled = item.kind === "register" ? digits.padStart(wanted, "0") : digits.padEnd(wanted, "0");
    const all = [...filled].flatMap(digit => [...parseInt(digit, 16).toString(2).padStart(4, "0")].map(Number));
    bits = all.slice(all.length - bits.length);
    note.textContent = "";
    follow();
  };
  items.forEach((one, at) => choice.append(new Option(`${one.kind} ${one.name}`, at)));
  choice.addEventListener("change", () => { item = items[choice.value]; build(); });
  value.addEventListener("change", () => take(value.value));
  value.addEventListener("keydown", event => { if (event.key === "Enter") take(value.value); });
  section.hidden = false;
  for (const link of document.querySelectorAll("nav a[hidden]")) link.hidden = false;
  build();
  // #calculate/AIR/89871C3E0C1224 is a link to a value.
  const linked = () => {
    const [what, name, typed] = decodeURIComponent(location.hash.slice(1)).split("/");
    const at = what === "calculate" ? items.findIndex(one => one.name === name) : -1;
    if (at < 0) return;
    choice.value = at;
    item = items[at];
    build();
    if (typed) take(typed);
    section.scrollIntoView();
  };
  addEventListener("hashchange", linked);
  linked();
})();
