"use strict";
// Runs the program of a frame like the decoder. Integers are BigInt of 32 or 64 bits, reals are numbers.
const Compute = (() => {
  const isReal = kind => kind[0] === "f";
  const width = kind => Number(kind.slice(1));
  const fit = (kind, x) => kind[0] === "i" ? BigInt.asIntN(width(kind), x) : BigInt.asUintN(width(kind), x);
  const real = (kind, x) => kind === "f32" ? Math.fround(x) : x;

  // Decodes bits, most significant first, to a number or text; null if invalid.
  const read = (all, form) => {
    const whole = own => own.reduce((sum, bit) => sum * 2n + BigInt(bit), 0n);
    const raw = whole(all), wide = BigInt(all.length);
    const signed = () => all[0] ? raw - (1n << wide) : raw;
    const fixed = /^(u?)q(\d+)\.(\d+)$/.exec(form);
    if (fixed) return Number(fixed[1] ? raw : signed()) / 2 ** Number(fixed[3]);
    switch (form) {
      case "signed": return signed();
      case "ones-complement": return all[0] ? raw - (1n << wide) + 1n : raw;
      case "sign-magnitude": return all[0] ? -whole(all.slice(1)) : raw;
      case "offset-binary": return raw - (1n << (wide - 1n));
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

  const functions = {
    fabs: Math.abs, sqrt: Math.sqrt, cbrt: Math.cbrt, exp: Math.exp, exp2: x => 2 ** x, expm1: Math.expm1, log: Math.log, log2: Math.log2,
    log10: Math.log10, log1p: Math.log1p, sin: Math.sin, cos: Math.cos, tan: Math.tan, asin: Math.asin, acos: Math.acos, atan: Math.atan,
    sinh: Math.sinh, cosh: Math.cosh, tanh: Math.tanh, floor: Math.floor, ceil: Math.ceil, trunc: Math.trunc, atan2: Math.atan2, hypot: Math.hypot,
    round: x => { const cut = Math.trunc(x); return Math.abs(x - cut) >= 0.5 ? cut + Math.sign(x) : cut; },
    // C defines 1 here, JavaScript NaN.
    pow: (x, y) => x === 1 || (x === -1 && Math.abs(y) === Infinity) ? 1 : x ** y,
    fmod: (x, y) => x % y,
    fmin: (x, y) => Number.isNaN(x) ? y : Number.isNaN(y) ? x : Math.min(x, y),
    fmax: (x, y) => Number.isNaN(x) ? y : Number.isNaN(y) ? x : Math.max(x, y),
  };

  // The value of a curve; null outside it.
  const along = (curve, kind, x) => {
    const points = curve.points.map(([px, py]) => isReal(kind) ? [real(kind, px), real(kind, py)] : [px, py]);
    const at = Number(x), first = points[0], last = points[points.length - 1];
    const back = y => isReal(kind) ? y : BigInt(y);
    if (Number.isNaN(at)) return null;
    if (at < first[0] || at > last[0]) {
      if (curve.outside === "fault") return null;
      if (curve.outside === "hold") return back(at < first[0] ? first[1] : last[1]);
    }
    let above = points.findIndex(point => point[0] > at);
    above = Math.min(Math.max(above < 0 ? points.length : above, 1), points.length - 1);
    const [[x0, y0], [x1, y1]] = [points[above - 1], points[above]];
    if (!isReal(kind)) return BigInt(y0) + (x - BigInt(x0)) * BigInt(y1 - y0) / BigInt(x1 - x0);
    const r = value => real(kind, value);
    return r(y0 + r(r(r(x - x0) * r(y1 - y0)) / r(x1 - x0)));
  };

  // An operation on integers: its value, and true if undefined in C.
  const integer = (what, kind, x, y, count) => {
    const lies = exact => [fit(kind, exact), kind[0] === "i" && fit(kind, exact) !== exact];
    switch (what) {
      case "add": return lies(x + y);
      case "sub": return lies(x - y);
      case "mul": return lies(x * y);
      case "neg": return lies(-x);
      case "abs": return lies(x < 0n ? -x : x);
      case "div": return y === 0n ? [0n, true] : lies(x / y);
      case "rem": return y === 0n ? [0n, true] : [x % y, lies(x / y)[1]];
      case "and": return [x & y, false];
      case "or": return [x | y, false];
      case "xor": return [fit(kind, x ^ y), false];
      case "not": return [fit(kind, ~x), false];
      case "shl": case "shr": {
        if (count < 0n || count >= BigInt(width(kind))) return [0n, true];
        if (what === "shr") return [x >> count, false];
        const value = fit(kind, x << count);
        return [value, kind[0] === "i" && value >> count !== x];
      }
    }
  };
  const arithmetic = (what, x, y) => ({ add: x + y, sub: x - y, mul: x * y, div: x / y, neg: -x })[what];

  const converted = (kind, to, x) => {
    if (to === "bool") return [isReal(kind) ? BigInt(x !== 0) : BigInt(x !== 0n), false];
    if (isReal(to)) return [real(to, Number(x)), false];
    if (!isReal(kind)) return [fit(to, x), false];
    const cut = Math.trunc(x), bits = width(to);
    const [low, beyond] = to[0] === "i" ? [-(2 ** (bits - 1)), 2 ** (bits - 1)] : [0, 2 ** bits];
    return cut >= low && cut < beyond ? [BigInt(cut), false] : [0n, true];
  };

  const step = (program, cells, [what, kind, more, , a, b, c]) => {
    const int = (slot, own = kind) => fit(own, cells[slot]), truth = slot => int(slot, "i32") !== 0n;
    const [x, y] = isReal(kind) ? [cells[a], cells[b]] : [null, null];
    switch (what) {
      case "less": return [BigInt(isReal(kind) ? x < y : int(a) < int(b)), false];
      case "lessEqual": return [BigInt(isReal(kind) ? x <= y : int(a) <= int(b)), false];
      case "equal": return [BigInt(isReal(kind) ? x === y : int(a) === int(b)), false];
      case "truth": return [BigInt(isReal(kind) ? x !== 0 : int(a) !== 0n), false];
      case "zero": return [BigInt(isReal(kind) ? x === 0 : int(a) === 0n), false];
      case "select": return [cells[truth(a) ? b : c], false];
      case "both": return [BigInt(truth(a) && truth(b)), false];
      case "without": return [BigInt(truth(a) && !truth(b)), false];
      case "either": return [BigInt(truth(a) || truth(b)), false];
      case "convert": return converted(kind, more, isReal(kind) ? x : int(a));
      case "curve": {
        const value = along(program.curves[Number(more)], kind, isReal(kind) ? x : int(a));
        return value === null ? [isReal(kind) ? 0 : 0n, true] : [value, false];
      }
      case "call": return isReal(kind) ? [real(kind, (functions[more] || Math.abs)(x, y)), false] : integer("abs", kind, int(a));
    }
    if (isReal(kind)) return [real(kind, arithmetic(what, x, y)), what === "div" && y === 0];
    const count = what === "shl" || what === "shr" ? int(b, more) : 0n;
    return integer(what, kind, int(a), typeof cells[b] === "bigint" ? int(b) : 0n, count);
  };

  // The value of an input; null if missing. `bitsOf` gives the bits of a frame, `codeOf` the code of a setting.
  const taken = (input, own, bitsOf, codeOf) => {
    if ("number" in input) return Number(input.number);
    let code = null;
    if (input.field !== undefined) code = codeOf(input.field);
    else if (input.bits) {
      const bits = input.frame === undefined ? own : bitsOf(input.frame);
      code = bits ? read(input.bits.map(at => bits[at]), input.form) : null;
    }
    if (code === null || code === undefined || typeof code === "string") return null;
    if (input.rows) {
      const row = input.rows.find(([known]) => known === String(code));
      return row ? Number(row[1]) : null;
    }
    if (input.range && typeof code === "bigint" && (code < BigInt(input.range[0]) || code > BigInt(input.range[1]))) return null;
    return code;
  };

  const put = (kind, value) => {
    if (isReal(kind)) return real(kind, Number(value));
    return fit(kind, typeof value === "bigint" ? value : Number.isFinite(value) ? BigInt(Math.trunc(value)) : 0n);
  };

  // The outputs of a program: numbers, null for faults.
  const run = (program, own, bitsOf, codeOf) => {
    const cells = program.slots.map(kind => isReal(kind) ? 0 : 0n), faults = program.outputs.map(() => false);
    for (const [slot, value] of program.constants) cells[slot] = put(program.slots[slot], isReal(program.slots[slot]) ? Number(value) : BigInt(value));
    const missing = [];
    for (const input of program.inputs) {
      const value = taken(input, own, bitsOf, codeOf);
      if (value === null) missing.push(...input.users);
      else cells[input.slot] = put(program.slots[input.slot], value);
    }
    const holds = slot => slot < 0 || BigInt.asIntN(32, cells[slot]) !== 0n;
    for (const op of program.ops) {
      const [, , , to, , , , guard, owner, safe] = op;
      const [value, fault] = step(program, cells, op);
      cells[to] = isReal(program.slots[to]) ? value : fit(program.slots[to], value);
      if (fault && !safe && holds(guard)) faults[owner] = true;
    }
    // A missing input is a fault in the branches that run.
    const runs = branch => {
      if (branch < 0) return true;
      const [kind, one, other, wanted] = program.branches[branch];
      return kind === "if" ? holds(other) === wanted && runs(one) : runs(one) || runs(other);
    };
    for (const [output, branch] of missing) if (runs(branch)) faults[output] = true;
    program.outputs.forEach(([slot, type, finite], at) => { if (isReal(type) && !finite && !Number.isFinite(cells[slot])) faults[at] = true; });
    program.needs.forEach((needs, at) => { if (needs.some(([output, guard]) => faults[output] && holds(guard))) faults[at] = true; });
    return program.outputs.map(([slot, type], at) => faults[at] ? null : isReal(type) ? cells[slot] : Number(type === "bool" ? cells[slot] : fit(type, cells[slot])));
  };

  // Statuses with a value, by increasing severity.
  const KEEP = ["ok", "alert", "out of range", "saturated"];
  const judged = (holding, outside) => holding.reduceRight((later, earlier) => {
    const [one, other] = [KEEP.indexOf(earlier[0]), KEEP.indexOf(later[0])];
    return one < 0 || (other >= 0 && one > other) ? earlier : later[0] === earlier[0] ? earlier : later;
  }, [outside ? "out of range" : "ok", ""]);

  // All readings of a frame: value or null, status, and its meaning in the sheet.
  const readings = (item, own, bitsOf, codeOf) => {
    const outputs = run(item.program, own, bitsOf, codeOf);
    return item.readings.map(reading => {
      if (reading.needs.some(frame => !bitsOf(frame))) return { value: null, status: "waiting", means: "" };
      const value = outputs[reading.output];
      const holding = reading.conditions.filter(([output]) => outputs[output] !== null && outputs[output] !== 0).map(([, status, means]) => [status, means]);
      let outside = false;
      if (value !== null && reading.range) {
        const [low, high] = (reading.range.outputs ? reading.range.outputs.map(output => outputs[output]) : reading.range).map(end => end === null ? NaN : Number(end));
        outside = !(value >= low && value <= high);
      }
      const [status, means] = judged(holding, outside);
      if (KEEP.indexOf(status) < 0) return { value: null, status, means };
      // A condition with a fault is a fault of the reading.
      return value === null || reading.conditions.some(([output]) => outputs[output] === null) ? { value: null, status: "formula fault", means: "" } : { value, status, means };
    });
  };

  // A number with fixed decimals; halves round to even.
  const fixed = (value, decimals) => {
    const [sign, size] = [value < 0 ? "-" : "", Math.abs(value)];
    const long = size.toFixed(Math.min(100, decimals + 60)), point = long.indexOf(".");
    if (size >= 1e21) return sign + BigInt(size) + (decimals > 0 ? "." + "0".repeat(decimals) : "");
    const [head, rest] = [long.slice(0, point + 1 + decimals), long.slice(point + 1 + decimals)];
    const text = /^50*$/.test(rest) && /[02468]\.?$/.test(head) ? head.replace(/\.$/, "") : size.toFixed(decimals);
    return (/[1-9]/.test(text) ? sign : "") + text;
  };
  // The digits shown: fixed decimals, or six significant digits with a minimum of decimals.
  const shown = ({ decimals, least }, value) => {
    if (decimals !== undefined) return fixed(value, decimals);
    if (value === 0 || !Number.isFinite(value)) return fixed(value, least);
    const magnitude = Math.floor(Math.log10(Math.abs(value)));
    if (magnitude < -9 || magnitude >= 15) return value.toExponential(5).replace("e+", "e");
    return fixed(value, Math.max(least, Math.max(5 - magnitude, 0)));
  };
  return { read, readings, shown };
})();
