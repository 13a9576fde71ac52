//! Names that trip printers: words of other languages, single letters, names of helpers, twins that differ in case.

use crate::choices::Choices;

/// Plain names first, since a simpler choice comes first.
const PLAIN: &[&str] = &[
    "ALPHA", "BRAVO", "CLEW", "DECK", "EDDY", "FLUKE", "GAFF", "HELM", "INLET", "JIB", "KEEL", "LUFF", "MAST", "NOCK", "OAKUM", "PINTLE",
    "QUAY", "RUDDER", "SPAR", "TILLER", "UPHAUL", "VANG", "WINCH", "YAWL",
];

const NASTY: &[&str] = &[
    // Words of Rust and Python that are none of C.
    "fn", "let", "match", "mod", "type", "impl", "move", "async", "await", "self", "Self", "crate", "super", "yield", "dyn", "loop", "ref",
    "where", "use", "unsafe", "box", "abstract", "become", "gen", "try", "None", "True", "lambda", "def", "class", "import", "pass", "and",
    "not", "is", "in", "with", "global", "nonlocal", "print", "len", // Single letters.
    "a", "b", "c", "d", "e", "f", "i", "n", "p", "r", "s", "t", "w", "x", "B", "E", "I", "N", "P", "T", "W", "X", "_x",
    // Names that generated code may use itself.
    "value", "values", "status", "settings", "Settings", "SETTINGS", "device", "Device", "driver", "read", "READ", "write", "bcd", "BCD",
    "has_data", "HAS_DATA", "code", "codes", "frame", "frames", "bytes", "data", "buffer", "length", "count", "Status", "OK", "ok",
    "error", "Error", "result", "Result", "Ok", "Err", "Some", "Option", "fault", "range", "low", "high", "state", "State", "step", "next",
    "now", "wait", "poll", "delay", "bus", "i2c", "I2C", "spi", "memcpy", "main", "errno", "NULL", "NAN", "INFINITY", "EOF", "stdin",
    "assert", "u8", "i32", "f64", "str", "String", "Vec", "usize", "core", "std", "part", "Part", "reset", "new", "default_", "init",
    "raw", "code_", "before_", "measured", "reading", "out", "got", "self_", "min", "max", "y", "z", "tmp", "unix", "linux", "near", "far",
    "signbit", "INT8_MIN", "int_", "byte", "word", "isnan", "math", "array", "struct_", "map", "set", "get",
];

/// Names of formulas' own.
const TAKEN: &[&str] = &["before", "elapsed", "t", "true", "false", "M_PI", "addr"];

/// Gives out names, none twice.
#[derive(Default)]
pub struct Names {
    used: Vec<String>,
}

impl Names {
    /// A name that was not given out before.
    pub fn fresh(&mut self, c: &mut Choices<'_>) -> String {
        let name = match c.below(20) {
            0..=13 => (*c.pick(PLAIN)).to_owned(),
            14..=17 => (*c.pick(NASTY)).to_owned(),
            _ => {
                // A twin of another name, in the other case.
                let other = c.any(&self.used).cloned().unwrap_or_else(|| "HALYARD".into());
                if other.chars().any(|letter| letter.is_ascii_lowercase()) {
                    other.to_ascii_uppercase()
                } else {
                    other.to_ascii_lowercase()
                }
            }
        };
        self.claim(name)
    }

    /// A name in small letters, as readings have.
    pub fn small(&mut self, c: &mut Choices<'_>) -> String {
        let name = self.fresh(c);
        if c.chance(90) && name != name.to_ascii_lowercase() {
            self.used.pop();
            return self.claim(name.to_ascii_lowercase());
        }
        name
    }

    fn claim(&mut self, name: String) -> String {
        let taken = |name: &String| self.used.contains(name) || TAKEN.contains(&name.as_str());
        let mut full = name.clone();
        for number in 2.. {
            if !taken(&full) {
                break;
            }
            full = format!("{name}{number}");
        }
        self.used.push(full.clone());
        full
    }
}

/// Names of values of a table.
pub const VALUES: &[&str] = &["low", "high", "fast", "slow", "x1", "x8", "half", "2", "off", "mK", "MK", "0x3", "1 mV", "on"];

/// Names of columns.
pub const COLUMNS: &[&str] = &["scale", "ms", "full", "step", "noise", "current", "type", "self", "shift", "baud"];
