//! Names of a sheet as identifiers of C, C++, Rust and Python.

use std::collections::BTreeMap;

use super::code::Name;

/// Words that cannot be names of members, variables or functions: keywords of C11, C++20 and Rust 2024, and definitions of
/// the included headers.
const TAKEN: &[&str] = &[
    "abstract",
    "alignas",
    "alignof",
    "and",
    "and_eq",
    "as",
    "asm",
    "async",
    "auto",
    "await",
    "become",
    "bitand",
    "bitor",
    "bool",
    "box",
    "break",
    "case",
    "catch",
    "char",
    "class",
    "co_await",
    "co_return",
    "co_yield",
    "compl",
    "concept",
    "const",
    "const_cast",
    "consteval",
    "constexpr",
    "constinit",
    "continue",
    "crate",
    "decltype",
    "default",
    "delete",
    "do",
    "double",
    "dyn",
    "dynamic_cast",
    "else",
    "enum",
    "errno",
    "explicit",
    "export",
    "extern",
    "f32",
    "f64",
    "false",
    "far",
    "final",
    "float",
    "fn",
    "for",
    "friend",
    "gen",
    "goto",
    "huge",
    "i128",
    "i16",
    "i32",
    "i64",
    "i8",
    "if",
    "impl",
    "in",
    "inline",
    "int",
    "interrupt",
    "isize",
    "let",
    "long",
    "loop",
    "macro",
    "match",
    "mod",
    "move",
    "mut",
    "mutable",
    "namespace",
    "near",
    "new",
    "noexcept",
    "not",
    "not_eq",
    "null",
    "nullptr",
    "operator",
    "or",
    "or_eq",
    "override",
    "priv",
    "private",
    "protected",
    "pub",
    "public",
    "ref",
    "register",
    "reinterpret_cast",
    "requires",
    "restrict",
    "return",
    "self",
    "short",
    "signed",
    "sizeof",
    "static",
    "static_assert",
    "static_cast",
    "str",
    "struct",
    "super",
    "switch",
    "template",
    "this",
    "thread_local",
    "throw",
    "trait",
    "true",
    "try",
    "type",
    "typedef",
    "typeid",
    "typename",
    "typeof",
    "u128",
    "u16",
    "u32",
    "u64",
    "u8",
    "unix",
    "linux",
    "union",
    "unsafe",
    "unsigned",
    "unsized",
    "use",
    "using",
    "usize",
    "virtual",
    "void",
    "volatile",
    "wchar_t",
    "where",
    "while",
    "xor",
    "xor_eq",
    "yield",
];

/// Keywords of Python (3.9 to 3.14), and names that the output uses.
const PYTHON: &[&str] = &[
    "abs",
    "and",
    "as",
    "assert",
    "async",
    "asyncio",
    "await",
    "bool",
    "break",
    "bytearray",
    "bytes",
    "callable",
    "case",
    "class",
    "continue",
    "def",
    "del",
    "elif",
    "else",
    "except",
    "finally",
    "float",
    "for",
    "from",
    "getattr",
    "global",
    "hasattr",
    "i2c_transfer",
    "if",
    "import",
    "in",
    "int",
    "is",
    "isfinite",
    "isinstance",
    "lambda",
    "len",
    "list",
    "match",
    "math",
    "max",
    "memoryview",
    "min",
    "nonlocal",
    "not",
    "object",
    "or",
    "pass",
    "raise",
    "range",
    "return",
    "self",
    "spi_transfer",
    "str",
    "struct",
    "super",
    "sys",
    "time",
    "try",
    "type",
    "while",
    "with",
    "yield",
];

/// Letters that have a usual spelling without marks.
fn plain(c: char) -> &'static str {
    match c {
        'µ' | 'μ' => "u",
        'Ω' | '\u{2126}' => "ohm",
        '°' => "deg",
        '%' => "percent",
        '²' => "2",
        '³' => "3",
        '+' => "plus",
        'ä' => "ae",
        'ö' => "oe",
        'ü' => "ue",
        _ => "",
    }
}

/// The words of a name: runs of letters and digits.
fn words(name: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    for c in name.chars() {
        match c {
            c if c.is_ascii_alphanumeric() => words.last_mut().into_iter().for_each(|word| word.push(c)),
            c if !plain(c).is_empty() => words.last_mut().into_iter().for_each(|word| word.push_str(plain(c))),
            _ => words.push(String::new()),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

/// As members, variables and functions are named: `low_limit`.
pub(super) fn snake(name: &str) -> String {
    let joined = words(name).join("_").to_ascii_lowercase();
    let joined = match joined.chars().next() {
        None => "unnamed".to_owned(),
        Some(first) if first.is_ascii_digit() => format!("n{joined}"),
        Some(_) => joined,
    };
    if TAKEN.binary_search(&joined.as_str()).is_ok() || TAKEN.contains(&joined.as_str()) { format!("{joined}_") } else { joined }
}

/// As constants are named: `LOW_LIMIT`. A digit may come first, since something always stands before it.
pub(super) fn upper(name: &str) -> String {
    words(name).join("_").to_ascii_uppercase()
}

/// A constant without a prefix.
fn constant(name: &str) -> String {
    let own = upper(name);
    if own.starts_with(|c: char| c.is_ascii_digit()) { format!("N{own}") } else { own }
}

/// A value of an enum. Words that begin with a digit go last.
fn value_name(name: &str) -> String {
    let digit = |word: &String| word.starts_with(|c: char| c.is_ascii_digit());
    let (numbers, letters): (Vec<String>, Vec<String>) = words(name).into_iter().partition(digit);
    match words(name).first() {
        Some(first) if digit(first) && !letters.is_empty() => upper(&[letters, numbers].concat().join(" ")),
        _ => constant(name),
    }
}

/// A function, variable or member in Python: keywords and names of the output get a `_`.
pub(super) fn python(name: &str) -> String {
    let name = if name.starts_with(|c: char| c.is_ascii_digit()) { format!("n{name}") } else { name.to_owned() };
    if PYTHON.contains(&name.as_str()) { format!("{name}_") } else { name }
}

/// A class in Python.
fn python_type(name: &str) -> String {
    if matches!(name, "None" | "True" | "False" | "Any" | "Failure" | "OSError" | "Exception" | "ValueError" | "ImportError") {
        format!("{name}_")
    } else {
        name.to_owned()
    }
}

/// The name of a type in Rust: `LowLimit`.
fn type_of(name: &str) -> String {
    let own = camel(name);
    // These names belong to the prelude.
    if matches!(own.as_str(), "Result" | "Option" | "Default" | "Self") { format!("{own}Value") } else { own }
}

/// As types and values are named in Rust: `LowLimit`. Words that begin with a digit go last.
pub(super) fn camel(name: &str) -> String {
    let (numbers, letters): (Vec<String>, Vec<String>) =
        words(name).into_iter().partition(|word| word.starts_with(|c: char| c.is_ascii_digit()));
    let starts_well = words(name).first().is_some_and(|word| !word.starts_with(|c: char| c.is_ascii_digit()));
    let all: Vec<String> = if starts_well { words(name) } else { letters.into_iter().chain(numbers).collect() };
    let mut joined = String::new();
    for word in all {
        // Two numbers side by side stay two.
        if joined.ends_with(|c: char| c.is_ascii_digit()) && word.starts_with(|c: char| c.is_ascii_digit()) {
            joined.push('_');
        }
        let mut chars = word.chars();
        joined.extend(chars.next().map(|c| c.to_ascii_uppercase()));
        joined.extend(chars.map(|c| c.to_ascii_lowercase()));
    }
    if joined.is_empty() {
        return "Unnamed".into();
    }
    if joined.starts_with(|c: char| c.is_ascii_digit()) {
        joined.insert(0, 'N');
    }
    if joined == "Self" { "Self_".into() } else { joined }
}

/// Two names of the sheet that become one in the output.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct NameClash {
    /// Common name.
    pub(crate) becomes: String,
    /// Items with this name.
    pub(crate) one: String,
    /// The other.
    pub(crate) other: String,
}

/// Names of a scope, each with its item.
#[derive(Clone, Debug, Default)]
pub(super) struct Scope {
    given: BTreeMap<String, String>,
}

impl Scope {
    /// Gives a name; the first one that is given twice for different things is remembered.
    pub(super) fn give(&mut self, name: &str, of: &str, clashes: &mut Vec<NameClash>) {
        match self.given.get(name) {
            Some(known) if known != of => clashes.push(NameClash { becomes: name.to_owned(), one: known.clone(), other: of.to_owned() }),
            Some(_) => {}
            None => {
                self.given.insert(name.to_owned(), of.to_owned());
            }
        }
    }

    /// An unused name similar to the wanted one, for local variables.
    pub(super) fn fresh(&mut self, wanted: &str) -> String {
        let mut name = wanted.to_owned();
        let mut number = 2;
        while self.given.contains_key(&name) {
            name = format!("{}_{number}", wanted.trim_end_matches('_'));
            number += 1;
        }
        self.given.insert(name.clone(), String::new());
        name
    }
}

/// Names of things of one part.
#[derive(Clone, Debug)]
pub(super) struct Prefix {
    pub(super) lower: String,
    pub(super) upper: String,
}

impl Prefix {
    pub(super) fn of(part: &str) -> Self {
        Self { lower: snake(part), upper: upper(&snake(part)) }
    }

    /// A type: `thole_9_frost_frame_t`, `FrostFrame`.
    pub(super) fn ty(&self, name: &str) -> Name {
        let rust = type_of(name);
        Name { c: format!("{}_{}_t", self.lower, words(name).join("_").to_ascii_lowercase()), python: python_type(&rust), rust }
    }

    /// A function: `thole_9_temperature`, `temperature`.
    pub(super) fn function(&self, name: &str) -> Name {
        let own = words(name).join("_").to_ascii_lowercase();
        Name { c: format!("{}_{own}", self.lower), rust: snake(name), python: python(&own) }
    }

    /// A function of a structure, whose name in Rust does not name the structure: `thole_9_frost_unpack`, `unpack`.
    pub(super) fn method(&self, of: &str, name: &str) -> Name {
        Name { rust: snake(name), ..self.function(&format!("{of}_{name}")) }
    }

    /// A constant: `THOLE_9_ADDRESS`, `ADDRESS`.
    pub(super) fn constant(&self, name: &str) -> Name {
        let own = constant(name);
        Name { c: format!("{}_{}", self.upper, upper(name)), rust: own.clone(), python: own }
    }

    /// A value of an enum: `THOLE_9_RUN_STOPPED`, `Stopped`.
    pub(super) fn value(&self, of: &str, name: &str) -> Name {
        Name { c: format!("{}_{}_{}", self.upper, upper(of), upper(name)), rust: camel(name), python: value_name(name) }
    }
}
