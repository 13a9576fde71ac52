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
  const chosens = new Map();

  const hex = () => {
    let text = "";
    for (let at = 0; at < bits.length; at += 4) text += parseInt(bits.slice(at, at + 4).join(""), 2).toString(16).toUpperCase();
    return item.kind === "register" ? "0x" + text : text.replace(/..(?=.)/g, "$& ");
  };
  // Other frames keep their last value, or their first.
  const kept = new Map(items.filter(one => one.kind === "frame").map(one => [one.name, Array.from(one.start, Number)]));
  const codeOf = id => {
    const chosen = chosens.get(id);
    const text = chosen ? chosen.value.trim() : "";
    return /^-?\d+$/.test(text) ? BigInt(text) : text !== "" && Number.isFinite(Number(text)) ? Number(text) : null;
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
    for (const code of item.codes) {
      const number = Compute.read(code.bits.map(at => bits[at]), code.form);
      const text = number === null ? "invalid BCD" : String(number);
      const name = (code.values || {})[text];
      row([code.name, text, name === undefined ? (code.values && Object.keys(code.values).length ? "not in its table" : "") : name]);
    }
    if (item.kind !== "frame") return;
    kept.set(item.name, bits);
    Compute.readings(item, bits, name => kept.get(name), codeOf).forEach((got, at) => {
      const reading = item.readings[at];
      const text = got.value === null ? "–" : Compute.shown(reading.digits, got.value) + " " + reading.unit;
      const status = got.status === "ok" ? "" : got.status + (got.means ? ": " + got.means : "");
      row([reading.name, text.trim(), status], "reading");
    });
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
    chosens.clear();
    setting.replaceChildren();
    for (const field of item.settings || []) {
      const label = document.createElement("label");
      let input;
      if (field.values.length) {
        input = document.createElement("select");
        if (field.reset === null) input.append(new Option("unknown", ""));
        input.append(...field.values.map(([code, text]) => new Option(text, code)));
        input.value = field.reset === null ? "" : field.reset;
      } else {
        input = document.createElement("input");
        input.size = 8;
        input.placeholder = "unknown";
        input.value = field.reset === null ? "" : field.reset;
      }
      input.addEventListener("change", follow);
      chosens.set(field.id, input);
      label.append(field.name + " ", input);
      setting.append(label, " ");
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
