//! Random formulas, evaluated by us and by a real C compiler with its undefined-behaviour sanitizer: the same
//! number bit for bit, or both a fault.
//!
//! `YEMDO_ORACLE_FORMULAS` and `YEMDO_ORACLE_SEED` make the run longer or another one (`tools/oracle`).

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)] // tests end where something is wrong

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::PathBuf;
use std::process::Command;

use yemdo::FrameId;
use yemdo::emit::{FirmwareOptions, Language, Reals, firmware, vectors};
use yemdo::part::Id;
use yemdo::review::Extent;
use yemdo::{Columns, FrameValues};
use yemdo::{Decoder, Part, Status};

/// Inputs for each formula.
const VECTORS: usize = 256;
/// The codes of the frame: name, layout, type in C.
const CODES: [(&str, &str, &str); 9] = [
    ("i", "signed b0..b3", "int32_t"),
    ("u", "b4..b7", "uint32_t"),
    ("l", "signed b8..b15", "int64_t"),
    ("q", "b16..b23", "uint64_t"),
    ("f", "float b24..b27", "float"),
    ("d", "float b28..b35", "double"),
    ("s", "signed b36 b37", "int32_t"),
    ("b", "b38", "int32_t"),
    ("n", "signed b39[3:0]", "int32_t"),
];
const LENGTH: usize = 40;

/// A small generator of random numbers (xorshift64*), the same at every run.
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }

    fn below(&mut self, n: usize) -> usize {
        (self.next() >> 33) as usize % n
    }

    fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }
}

/// A piece of program in our language and in C; they differ in `<<`, which C leaves undefined for what we define.
#[derive(Clone)]
struct Piece {
    ours: String,
    c: String,
}

impl Piece {
    fn same(text: impl Into<String>) -> Self {
        let ours = text.into();
        Piece { c: ours.clone(), ours }
    }

    fn map(&self, f: impl Fn(&str) -> String) -> Self {
        Piece { ours: f(&self.ours), c: f(&self.c) }
    }

    /// Keeps the compiler from folding an operation away together with its fault.
    fn opaque(self) -> Self {
        Piece { c: format!("ID({})", self.c), ours: self.ours }
    }

    fn join(&self, other: &Piece, f: impl Fn(&str, &str) -> String) -> Self {
        Piece { ours: f(&self.ours, &other.ours), c: f(&self.c, &other.c) }
    }
}

/// A local variable: its name, and whether it is real.
type Local = (String, bool);

struct Generator {
    dice: Dice,
    locals: Vec<Local>,
    next_local: usize,
}

const INTEGERS: [&str; 10] = ["int8_t", "uint8_t", "int16_t", "uint16_t", "int32_t", "uint32_t", "int64_t", "uint64_t", "int", "unsigned"];
const REALS: [&str; 2] = ["float", "double"];

impl Generator {
    fn integer_leaf(&mut self) -> Piece {
        let locals: Vec<String> = self.locals.iter().filter(|(_, real)| !real).map(|(name, _)| name.clone()).collect();
        match self.dice.below(8) {
            0 | 1 if !locals.is_empty() => Piece::same(self.dice.pick(&locals).clone()),
            2..=5 => Piece::same(*self.dice.pick(&["i", "u", "l", "q", "s", "b", "n", "s", "b"])),
            6 => {
                let text = *self.dice.pick(&[
                    "0",
                    "1",
                    "2",
                    "7",
                    "31",
                    "100",
                    "255",
                    "32768",
                    "65535u",
                    "0x7FFFFFFF",
                    "0x80000000",
                    "2147483647",
                    "1u",
                    "4096ll",
                    "0xFFFFFFFFFFFFFFFFull",
                    "1000000000000ll",
                ]);
                Piece::same(text).opaque()
            }
            _ => Piece::same(format!("{}", self.dice.below(3000))).opaque(),
        }
    }

    fn integer(&mut self, depth: usize) -> Piece {
        if depth == 0 {
            return self.integer_leaf();
        }
        match self.dice.below(16) {
            0..=4 => {
                let op = *self.dice.pick(&["+", "-", "*", "+", "-", "*", "/", "%"]);
                let (x, y) = (self.integer(depth - 1), self.integer(depth - 1));
                x.join(&y, |x, y| format!("({x} {op} {y})")).opaque()
            }
            5 | 6 => {
                let op = *self.dice.pick(&["&", "|"]);
                let (x, y) = (self.integer(depth - 1), self.integer(depth - 1));
                x.join(&y, |x, y| format!("({x} {op} {y})"))
            }
            // A decimal number beside ^ is refused: a power is meant.
            7 => {
                let x = self.integer(depth - 1);
                let name = *self.dice.pick(&["i", "u", "q", "b"]);
                x.map(|x| format!("({name} ^ (+({x})))"))
            }
            8 => {
                let (x, n) = (self.integer(depth - 1), self.shift_count(depth - 1));
                Piece { ours: format!("({} << {})", x.ours, n.ours), c: format!("SHL({}, {})", x.c, n.c) }
            }
            9 => {
                let (x, n) = (self.integer(depth - 1), self.shift_count(depth - 1));
                x.join(&n, |x, n| format!("({x} >> {n})")).opaque()
            }
            10 => {
                let ty = *self.dice.pick(&INTEGERS);
                self.integer(depth - 1).map(|x| format!("({ty})({x})"))
            }
            11 => {
                let ty = *self.dice.pick(&INTEGERS);
                self.real(depth - 1).map(|x| format!("({ty})({x})")).opaque()
            }
            12 => {
                let op = *self.dice.pick(&["-", "~", "!", "+"]);
                self.integer(depth - 1).map(|x| format!("({op} {x})")).opaque()
            }
            13 => self.condition(depth - 1),
            14 => {
                let (c, x, y) = (self.condition(depth - 1), self.integer(depth - 1), self.integer(depth - 1));
                let both = x.join(&y, |x, y| format!("{x} : {y}"));
                c.join(&both, |c, both| format!("({c} ? {both})"))
            }
            _ => {
                let x = self.integer(depth - 1);
                Piece { ours: format!("abs({})", x.ours), c: format!("ABS({})", x.c) }
            }
        }
    }

    /// Mostly in range.
    fn shift_count(&mut self, depth: usize) -> Piece {
        match self.dice.below(6) {
            0 => self.integer(depth),
            1 => Piece::same("(b & 31)"),
            _ => Piece::same(format!("{}", self.dice.below(20))),
        }
    }

    fn condition(&mut self, depth: usize) -> Piece {
        let op = *self.dice.pick(&["<", "<=", ">", ">=", "==", "!=", "&&", "||"]);
        let (x, y) =
            if self.dice.below(3) == 0 { (self.real(depth), self.real(depth)) } else { (self.integer(depth), self.integer(depth)) };
        x.join(&y, |x, y| format!("({x} {op} {y})"))
    }

    fn real(&mut self, depth: usize) -> Piece {
        let locals: Vec<String> = self.locals.iter().filter(|(_, real)| *real).map(|(name, _)| name.clone()).collect();
        if depth == 0 {
            return match self.dice.below(4) {
                0 if !locals.is_empty() => Piece::same(self.dice.pick(&locals).clone()),
                0 | 1 => Piece::same(*self.dice.pick(&["f", "d"])),
                2 => {
                    Piece::same(*self.dice.pick(&["0.5", "1.0f", "3.25", "1e-3", "100.0", "0.1f", "2147483648.0", "1e10f", "0.0"])).opaque()
                }
                _ => Piece::same(format!("{}.{}", self.dice.below(500), self.dice.below(100))).opaque(),
            };
        }
        match self.dice.below(8) {
            0..=2 => {
                let op = *self.dice.pick(&["+", "-", "*", "/"]);
                let mixed = self.dice.below(2) == 0;
                let x = self.real(depth - 1);
                let y = if mixed { self.integer(depth - 1) } else { self.real(depth - 1) };
                x.join(&y, |x, y| format!("({x} {op} {y})")).opaque()
            }
            3 => {
                let ty = *self.dice.pick(&REALS);
                self.integer(depth - 1).map(|x| format!("({ty})({x})"))
            }
            4 => {
                // No cbrt: C leaves its last digit open, and libraries differ in it.
                let name = *self.dice.pick(&[
                    "sqrt", "fabs", "floor", "ceil", "trunc", "round", "exp", "log", "sin", "cos", "atan", "sqrtf", "floorf", "fabsf",
                    "expf", "log2", "log10", "tanh", "held", "extended", "bounded",
                ]);
                self.real(depth - 1).map(|x| format!("{name}({x})"))
            }
            5 => {
                let name = *self.dice.pick(&["pow", "fmod", "atan2", "hypot", "powf", "fmodf"]);
                let (x, y) = (self.real(depth - 1), self.real(depth - 1));
                x.join(&y, |x, y| format!("{name}({x}, {y})"))
            }
            6 => self.real(depth - 1).map(|x| format!("(-{x})")),
            _ => {
                let (c, x, y) = (self.condition(depth - 1), self.real(depth - 1), self.real(depth - 1));
                let both = x.join(&y, |x, y| format!("{x} : {y}"));
                c.join(&both, |c, both| format!("({c} ? {both})"))
            }
        }
    }

    fn any(&mut self, depth: usize, real: bool) -> Piece {
        if real { self.real(depth) } else { self.integer(depth) }
    }

    fn assignment(&mut self) -> Piece {
        let (name, real) = self.dice.pick(&self.locals.clone()).clone();
        let value_real = real && self.dice.below(2) == 0;
        let value = self.any(2, value_real).opaque();
        let ops: &[&str] = if real { &["=", "+=", "-=", "*="] } else { &["=", "+=", "-=", "*=", "&=", "|=", "^=", ">>=", "<<="] };
        match *self.dice.pick(ops) {
            "<<=" => {
                let n = self.shift_count(1);
                Piece { ours: format!("{name} <<= {};", n.ours), c: format!("{name} = SHL({name}, {});", n.c) }
            }
            ">>=" => self.shift_count(1).map(|n| format!("{name} >>= {n};")),
            // Written out for the compiler: it would do the narrow sum at once, and not see the wide one overflow.
            op => {
                let c = op.strip_suffix('=').filter(|op| !op.is_empty()).map(|op| format!("{name} = ID({name} {op} {});", value.c));
                Piece { ours: format!("{name} {op} {};", value.ours), c: c.unwrap_or_else(|| format!("{name} = {};", value.c)) }
            }
        }
    }

    /// A whole formula of a result type.
    fn formula(&mut self, ty: &str) -> Piece {
        self.locals.clear();
        let mut body = Piece::same("  int32_t used = b;\n");
        let mut add = |line: Piece| body = body.join(&line, |body, line| format!("{body}  {line}\n"));
        for _ in 0..1 + self.dice.below(3) {
            let real = self.dice.below(3) == 0;
            let local_ty = if real { *self.dice.pick(&REALS) } else { *self.dice.pick(&INTEGERS) };
            let from_real = self.dice.below(4) == 0;
            let value = self.any(2, from_real);
            let name = format!("v{}", self.next_local);
            self.next_local += 1;
            // Volatile, so that a fault in a value nobody needs stays one.
            let declared = value.map(|value| format!("{local_ty} {name} = {value};"));
            add(Piece { c: format!("volatile {}", declared.c), ..declared });
            self.locals.push((name, real));
        }
        for _ in 0..self.dice.below(3) {
            if self.dice.below(2) == 0 {
                add(self.assignment());
                continue;
            }
            let (condition, then, otherwise) = (self.condition(1), self.assignment(), self.assignment());
            let returns = self.dice.below(4) == 0;
            let then = if returns { self.any(1, false).map(|x| format!("return ({ty})({x});")) } else { then };
            let branches = then.join(&otherwise, |then, otherwise| format!("{{ {then} }} else {{ {otherwise} }}"));
            add(condition.join(&branches, |condition, branches| format!("if ({condition}) {branches}")));
        }
        let real = matches!(ty, "float" | "double") || self.dice.below(4) == 0;
        let value = self.any(4, real);
        add(value.map(|value| format!("return ({ty})({value});")));
        body
    }
}

/// Inputs with a taste for the ends of ranges.
fn inputs(dice: &mut Dice) -> Vec<u8> {
    let mut bytes = Vec::new();
    for _ in 0..VECTORS {
        let word = |dice: &mut Dice, bits: u32| match dice.below(5) {
            0 => dice.next() & 15,
            1 => (1u64 << (bits - 1)).wrapping_sub(dice.next() & 1),
            2 => u64::MAX.wrapping_sub(dice.next() & 7),
            3 => dice.next() >> (dice.next() % 60),
            _ => dice.next(),
        };
        bytes.extend((word(dice, 32) as u32).to_be_bytes());
        bytes.extend((word(dice, 32) as u32).to_be_bytes());
        bytes.extend(word(dice, 64).to_be_bytes());
        bytes.extend(word(dice, 64).to_be_bytes());
        let real = |dice: &mut Dice| (dice.next() as i32 as f64) / [1.0, 7.0, 1e3, 1e7, 2147483648.0][dice.below(5)];
        bytes.extend((real(dice) as f32).to_be_bytes());
        bytes.extend(real(dice).to_be_bytes());
        bytes.extend((word(dice, 16) as u16).to_be_bytes());
        bytes.extend([word(dice, 8) as u8, (word(dice, 4) & 15) as u8]);
    }
    bytes
}

const HARNESS: &str = r#"
#include <stdint.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <math.h>
#include <signal.h>
#include <setjmp.h>
static int32_t shl_i(int32_t a, long long n) { if (n < 0 || n > 31) __builtin_trap(); __int128 r = (__int128)a * ((__int128)1 << n); if (r != (int32_t)r) __builtin_trap(); return (int32_t)r; }
static int64_t shl_l(int64_t a, long long n) { if (n < 0 || n > 63) __builtin_trap(); __int128 r = (__int128)a * ((__int128)1 << n); if (r != (int64_t)r) __builtin_trap(); return (int64_t)r; }
static uint32_t shl_u(uint32_t a, long long n) { if (n < 0 || n > 31) __builtin_trap(); return a << n; }
static uint64_t shl_q(uint64_t a, long long n) { if (n < 0 || n > 63) __builtin_trap(); return a << n; }
#define SHL(a, n) _Generic((a) + 0, int: shl_i, unsigned: shl_u, long: shl_l, long long: shl_l, unsigned long: shl_q, unsigned long long: shl_q)((a), (long long)(n))
#define ID(x) ({ volatile __typeof__(x) value = (x); value; })
static int ABS(int a) { if (a == INT32_MIN) __builtin_trap(); return a < 0 ? -a : a; }
static double curve(const double (*p)[2], int n, int outside, double x) {
  if (isnan(x)) __builtin_trap();
  if (x < p[0][0] || x > p[n - 1][0]) {
    if (outside == 2) __builtin_trap();
    if (outside == 0) return x < p[0][0] ? p[0][1] : p[n - 1][1];
  }
  int k = 0;
  while (k < n - 2 && x >= p[k + 1][0]) k++;
  return p[k][1] + (x - p[k][0]) * (p[k + 1][1] - p[k][1]) / (p[k + 1][0] - p[k][0]);
}
static const double HELD[][2] = {{-3.5, 7.25}, {0, -2}, {0.1, 40}, {300, 41.7}};
static const double EXTENDED[][2] = {{-1000, 3}, {12.3, -3.3}, {70000, 1e6}};
static const double BOUNDED[][2] = {{-2147483648.0, -1}, {-7, 5}, {255, 5}, {1e10, 0.001}};
static double held(double x) { return curve(HELD, 4, 0, x); }
static double extended(double x) { return curve(EXTENDED, 3, 1, x); }
static double bounded(double x) { return curve(BOUNDED, 4, 2, x); }
static sigjmp_buf back;
static void trapped(int s) { (void)s; siglongjmp(back, 1); }
typedef struct { int32_t i; uint32_t u; int64_t l; uint64_t q; float f; double d; int32_t s, b, n; } In;
#define ARGS int32_t i, uint32_t u, int64_t l, uint64_t q, float f, double d, int32_t s, int32_t b, int32_t n
"#;

const MAIN: &str = r#"
static uint64_t be(const unsigned char *p, int n) { uint64_t v = 0; while (n--) v = v << 8 | *p++; return v; }
int main(void) {
  static unsigned char raw[VECTORS * LENGTH];
  if (fread(raw, 1, sizeof raw, stdin) != sizeof raw) return 2;
  signal(SIGILL, trapped); signal(SIGFPE, trapped);
  for (int k = 0; k < COUNT; k++) for (int j = 0; j < VECTORS; j++) {
    const unsigned char *p = raw + j * LENGTH;
    In in; uint32_t w; uint64_t x;
    in.i = (int32_t)be(p, 4); in.u = (uint32_t)be(p + 4, 4); in.l = (int64_t)be(p + 8, 8); in.q = be(p + 16, 8);
    w = (uint32_t)be(p + 24, 4); memcpy(&in.f, &w, 4); x = be(p + 28, 8); memcpy(&in.d, &x, 8);
    in.s = (int16_t)be(p + 36, 2); in.b = p[38]; in.n = (int8_t)(p[39] << 4) >> 4;
    volatile unsigned char fault = 1; volatile double r = 0;
    if (sigsetjmp(back, 1) == 0) { r = table[k](&in); fault = !isfinite(r); }
    double v = fault ? 0 : r; unsigned char f = fault;
    fwrite(&f, 1, 1, stdout); fwrite(&v, 8, 1, stdout);
  }
  return 0;
}
"#;

/// What the compiler makes of all formulas: fault, or value.
fn ask_the_compiler(formulas: &[(String, Piece)], bytes: &[u8]) -> Vec<Option<f64>> {
    let mut source = format!("#define VECTORS {VECTORS}\n#define LENGTH {LENGTH}\n#define COUNT {}\n{HARNESS}", formulas.len());
    for (index, (ty, piece)) in formulas.iter().enumerate() {
        let _ = write!(
            source,
            "static {ty} f{index}(ARGS) {{\n  (void)i; (void)u; (void)l; (void)q; (void)f; (void)d; (void)s; (void)b; (void)n;\n{}}}\n",
            piece.c
        );
        let _ = writeln!(
            source,
            "static double w{index}(const In *x) {{ return (double)f{index}(x->i, x->u, x->l, x->q, x->f, x->d, x->s, x->b, x->n); }}"
        );
    }
    let names: Vec<String> = (0..formulas.len()).map(|index| format!("w{index}")).collect();
    let _ = write!(source, "static double (*table[])(const In *) = {{ {} }};\n{MAIN}", names.join(", "));
    let folder: PathBuf = std::env::temp_dir().join(format!("yemdo-oracle-{}-{}", std::process::id(), formulas.len()));
    std::fs::create_dir_all(&folder).unwrap();
    let (c, exe, input) = (folder.join("o.c"), folder.join("o"), folder.join("in"));
    std::fs::write(&c, source).unwrap();
    std::fs::write(&input, bytes).unwrap();
    let sanitize = "-fsanitize=undefined,float-divide-by-zero,float-cast-overflow";
    let status = Command::new("cc")
        .args([
            "-std=gnu11",
            "-O1",
            "-w",
            "-fno-builtin",
            "-ffp-contract=off",
            sanitize,
            "-fno-sanitize=object-size",
            "-fsanitize-undefined-trap-on-error",
        ])
        .args([c.as_os_str(), "-o".as_ref(), exe.as_os_str(), "-lm".as_ref()])
        .status()
        .expect("a C compiler `cc` is needed");
    assert!(status.success(), "the compiler refuses {}", c.display());
    let output = Command::new(&exe).stdin(std::fs::File::open(&input).unwrap()).output().unwrap();
    assert!(output.status.success(), "{:?}", output.status);
    std::fs::remove_dir_all(&folder).unwrap();
    let result = |record: &[u8]| (record[0] == 0).then(|| f64::from_le_bytes(record[1..9].try_into().unwrap()));
    output.stdout.chunks_exact(9).map(result).collect()
}

/// The same points as in the harness.
const CURVES: &str = "
table.held     = { points = [[-3.5, 7.25], [0, -2], [0.1, 40], [300, 41.7]], outside = \"hold\" }
table.extended = { points = [[-1000, 3], [12.3, -3.3], [70000, 1e6]], outside = \"extend\" }
table.bounded  = { points = [[-2147483648, -1], [-7, 5], [255, 5], [1e10, 0.001]], outside = \"fault\" }
";

fn sheet(formula: &str) -> String {
    let codes: Vec<String> = CODES.iter().map(|(name, layout, _)| format!("{name} = \"{layout}\"")).collect();
    format!(
        "part = \"oracle\"\nframe.F = {{ read = {LENGTH}, code = {{ {} }} }}\n{CURVES}[reading.r]\nunit = \"1\"\nformula = '''\n{formula}'''\n",
        codes.join(", ")
    )
}

/// Compares all formulas over all inputs; gives the numbers of values and of faults that agree.
fn compare(formulas: &[(String, Piece)], bytes: &[u8]) -> (usize, usize) {
    let theirs = ask_the_compiler(formulas, bytes);
    assert_eq!(theirs.len(), formulas.len() * VECTORS);
    let (mut values, mut faults) = (0, 0);
    let (mut columns, mut row) = (Columns::new(), FrameValues::new());
    for (index, (_, piece)) in formulas.iter().enumerate() {
        let text = sheet(&piece.ours);
        let part = Part::parse("oracle", &text).unwrap_or_else(|error| panic!("{error}"));
        let mut decoder = Decoder::new(&part);
        decoder.decode_many(FrameId::new(0), bytes, &mut columns).unwrap();
        // Where nothing ever comes out there are no bounds.
        let extent = yemdo::review::predict(&part, yemdo::ReadingId::new(0)).and_then(|outcome| outcome.extent).unwrap_or(Extent {
            low: 1.0,
            high: 0.0,
            exact: true,
        });
        for (_, value) in columns.values(0).iter().enumerate().filter(|(vector, _)| columns.status(0, *vector) == Status::Ok) {
            assert!((extent.low..=extent.high).contains(value), "{value} is outside {extent:?}\n{}", piece.ours);
        }
        for vector in 0..VECTORS {
            // Alone and among many, a frame gives the same.
            decoder.decode_into(FrameId::new(0), &bytes[vector * LENGTH..(vector + 1) * LENGTH], &mut row).unwrap();
            assert_eq!(row.status(0), columns.status(0, vector), "{}", piece.ours);
            let alone = row.value(0).unwrap_or(f64::NAN).to_bits();
            assert_eq!(alone, columns.values(0)[vector].to_bits(), "{}", piece.ours);
            let fault = columns.status(0, vector) == Status::FormulaFault;
            let ours = (!fault).then(|| columns.values(0)[vector]);
            let theirs = theirs[index * VECTORS + vector];
            if ours.map(f64::to_bits) != theirs.map(f64::to_bits) {
                let frame = &bytes[vector * LENGTH..(vector + 1) * LENGTH];
                let steps = decoder.steps(FrameId::new(0), frame).unwrap();
                let codes: Vec<String> = steps.codes.iter().map(|code| format!("{} = {}", code.value.name, code.value.value)).collect();
                panic!(
                    "ours {ours:?}, C {theirs:?}\n{}\nwith {}\n{:#?}",
                    piece.c,
                    codes.join(", "),
                    decoder.decode(FrameId::new(0), frame).unwrap().readings[0].fault
                );
            }
            if fault { faults += 1 } else { values += 1 }
        }
    }
    (values, faults)
}

fn setting(name: &str, default: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(default)
}

#[test]
fn random_formulas_agree_with_a_compiler() {
    let count = setting("YEMDO_ORACLE_FORMULAS", 480) as usize;
    let mut generator = Generator { dice: Dice(setting("YEMDO_ORACLE_SEED", 0x5EED) | 1), locals: Vec::new(), next_local: 0 };
    let bytes = inputs(&mut generator.dice);
    let types = ["int32_t", "uint32_t", "double", "float", "int32_t"];
    let mut formulas = Vec::new();
    for index in 0..count {
        let ty = types[index % types.len()].to_owned();
        let piece = generator.formula(&ty);
        formulas.push((ty, piece));
    }
    let (mut values, mut faults) = (0, 0);
    for chunk in formulas.chunks(480) {
        let (v, f) = compare(chunk, &bytes);
        values += v;
        faults += f;
    }
    let _ = writeln!(std::io::stdout(), "{} pairs: {values} values and {faults} faults agree", values + faults);
    assert!(values > count * VECTORS / 5 && faults > count * VECTORS / 50, "a lopsided sample: {values} values, {faults} faults");
}

/// What stands for the maths crate where there is a standard library.
const MATHS: &str = "
macro_rules! functions { ($($c:ident $single:ident $rust:ident ($($arg:ident),*);)*) => { $(
    pub fn $c(x: f64 $(, $arg: f64)*) -> f64 { x.$rust($($arg),*) }
    pub fn $single(x: f32 $(, $arg: f32)*) -> f32 { x.$rust($($arg),*) }
)* } }
functions! {
    fabs fabsf abs(); sqrt sqrtf sqrt(); cbrt cbrtf cbrt(); exp expf exp(); exp2 exp2f exp2(); expm1 expm1f exp_m1(); log logf ln();
    log2 log2f log2(); log10 log10f log10(); log1p log1pf ln_1p(); sin sinf sin(); cos cosf cos(); tan tanf tan(); asin asinf asin();
    acos acosf acos(); atan atanf atan(); sinh sinhf sinh(); cosh coshf cosh(); tanh tanhf tanh(); floor floorf floor(); ceil ceilf ceil();
    round roundf round(); trunc truncf trunc(); pow powf powf(y); atan2 atan2f atan2(y); hypot hypotf hypot(y); fmin fminf min(y); fmax fmaxf max(y);
}
pub fn fmod(x: f64, y: f64) -> f64 { x % y }
pub fn fmodf(x: f32, y: f32) -> f32 { x % y }
";

const STRICT_C: &[&str] = &[
    "-std=c99",
    "-O1",
    "-Wall",
    "-Wextra",
    "-Wconversion",
    // Random formulas compare what cannot differ; and gcc 12 sees a sign in `u ^ (uint32_t)narrow` that is not there.
    "-Wno-sign-conversion",
    "-Wdouble-promotion",
    "-pedantic",
    "-Werror",
    "-Wno-type-limits",
    "-Wno-bool-compare",
    "-Wno-tautological-compare",
    "-Wno-unused-but-set-variable",
    "-fsanitize=undefined",
    "-fno-sanitize-recover=undefined",
    "-o",
    "emitted",
    "main.c",
    "oracle.c",
    "oracle_vectors.c",
    "-lm",
];

/// The same formulas as firmware: emitted as C and as Rust, compiled, and held against the decoder.
#[test]
fn random_formulas_are_emitted_as_they_are_computed() {
    let count = setting("YEMDO_ORACLE_FORMULAS", 480) as usize / 8;
    let mut generator = Generator { dice: Dice(setting("YEMDO_ORACLE_SEED", 0xF1E) | 1), locals: Vec::new(), next_local: 0 };
    let types = ["int32_t", "uint32_t", "double", "float", "int32_t"];
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join("emitted");
    std::fs::create_dir_all(&folder).unwrap();
    let put = |name: &str, text: &str| std::fs::write(folder.join(name), text).unwrap();
    put("libm.rs", MATHS);
    put(
        "main.c",
        "#include \"oracle_vectors.h\"\nint main(void)\n{\n    uint32_t wrong = 0;\n    return (oracle_vectors(&wrong) >= 400U && wrong == UINT32_MAX) ? 0 : 1;\n}\n",
    );
    put(
        "main.rs",
        "#![allow(warnings)]\nmod oracle;\nmod oracle_vectors;\nfn main() { assert!(oracle_vectors::check(oracle_vectors::RECORDS).is_ok_and(|count| count >= 400)); }\n",
    );
    let run = |compiler: &str, args: &[&str], what: &str| {
        let done = Command::new(compiler).current_dir(&folder).args(args).output().unwrap();
        assert!(done.status.success(), "{what}: {}", String::from_utf8_lossy(&done.stderr));
    };
    run("rustc", &["--edition", "2024", "-O", "--crate-type", "rlib", "libm.rs"], "the maths");
    let has_python = Command::new("python3").arg("--version").output().is_ok();
    for (chunk, first) in (0..count).step_by(60).enumerate() {
        let codes: Vec<String> = CODES.iter().map(|(name, layout, _)| format!("{name} = \"{layout}\"")).collect();
        let mut text = format!("part = \"oracle\"\nframe.F = {{ read = {LENGTH}, code = {{ {} }} }}\n{CURVES}", codes.join(", "));
        for index in first..(first + 60).min(count) {
            generator.locals.clear();
            let formula = generator.formula(types[index % types.len()]).ours;
            let _ = write!(text, "[reading.r{index}]\nunit = \"1\"\nformula = '''\n{formula}'''\n");
        }
        let part = Part::parse("oracle", &text).unwrap_or_else(|error| panic!("{error}"));
        for reals in [Reals::Double, Reals::Single] {
            let options = FirmwareOptions::default().reals(reals);
            for language in [Language::C, Language::Rust, Language::Python] {
                let files = firmware(&part, language, &options).unwrap();
                let tests = vectors(&part, language, &options, chunk as u64, 400).unwrap();
                files.into_iter().chain(tests).for_each(|file| put(&file.name, &file.text));
            }
            if has_python {
                run(
                    "python3",
                    &["-B", "-c", "import oracle_vectors; oracle_vectors.check()"],
                    &format!("python3, {reals:?}, from r{first}"),
                );
            }
            let rust: &[&str] =
                &["--edition", "2024", "--extern", "libm=liblibm.rlib", "-C", "overflow-checks=on", "-o", "emitted", "main.rs"];
            for (compiler, args) in [("cc", STRICT_C), ("rustc", rust)] {
                let what = format!("{compiler}, {reals:?}, from r{first}");
                run(compiler, args, &what);
                run(&folder.join("emitted").display().to_string(), &[], &what);
            }
        }
    }
}

/// The corners of C's conversions, by name.
#[test]
fn corners_of_c_agree_with_a_compiler() {
    let corners: &[(&str, &str, &str)] = &[
        ("mixed sign comparison", "int32_t", "return i < u;"),
        ("mixed sign comparison, wide", "int32_t", "return (l < q) + 2 * (i < q) + 4 * (l < u);"),
        ("a negative number and an unsigned one", "uint32_t", "return i + u;"),
        ("division of a negative by an unsigned", "uint32_t", "return i / 1000u;"),
        ("promotion of narrow types", "int32_t", "uint8_t x = b; return ~x + (x << 3) - (uint8_t)~x;"),
        ("shift of a promoted type", "int32_t", "uint8_t x = b; return (x << 24) >> 24;"),
        ("shift count of another type", "int32_t", "return s >> (uint64_t)(b & 15);"),
        ("arithmetic shift of a negative", "int32_t", "return (i >> 7) + (int32_t)(l >> 40);"),
        ("logical shift of an unsigned", "uint32_t", "return (u >> 7) + (uint32_t)(q >> 40);"),
        ("int64 multiply", "uint32_t", "int64_t x = (int64_t)i * s; return (uint32_t)(x >> 16);"),
        ("int32 multiply overflows", "int32_t", "return i * s;"),
        ("division and remainder of negatives", "int32_t", "return i / 7 * 1000 + i % 7;"),
        ("the least integer divided by minus one", "int32_t", "return i / (n | -8);"),
        ("remainder by zero", "int32_t", "return s % n;"),
        ("float to int", "int32_t", "return (int32_t)d;"),
        ("float to unsigned", "uint32_t", "return (uint32_t)f;"),
        ("float to narrow", "int32_t", "return (int8_t)d + (uint16_t)f;"),
        ("float to int64", "uint32_t", "return (uint32_t)((int64_t)d >> 3);"),
        ("int to float rounds", "double", "return (float)i + (double)(float)l;"),
        ("unsigned 64 to float", "double", "return (float)q + (double)q;"),
        ("float arithmetic stays float", "double", "return f * 1.1f + f / 3.0f;"),
        ("float meets double", "double", "return f * 1.1 + d;"),
        ("narrowing keeps the low bits", "int32_t", "return (int8_t)i + (int16_t)(l >> 3) * 3 + (uint8_t)u;"),
        ("unsigned wraps", "uint32_t", "return u * u - 1u;"),
        ("negation", "int32_t", "return -i + -s;"),
        ("short circuit keeps a fault away", "int32_t", "return n != 0 && 100 / n > 10;"),
        ("the branch not taken cannot fault", "int32_t", "return n ? s / n : -1;"),
        (
            "early return guards what follows",
            "int32_t",
            "if (n == 0) { return 7; } int32_t x = s / n; if (x < 0) return x; return x + 100 % n;",
        ),
        ("compound assignment converts back", "int32_t", "int8_t x = s; x += 100; x *= 3; x >>= 1; return x;"),
        ("compound assignment with a real", "int32_t", "int16_t x = b; x *= 1.5; x -= 0.75f; return x;"),
        ("bool", "int32_t", "bool x = d; bool y = 0.5; return x + y * 2 + (bool)(i & 256) * 4;"),
        ("octal, hex and suffixes", "uint32_t", "return (b & 0) + 010 + 0x10u + 0b101 + (uint32_t)(3000000000 >> 3);"),
        ("literal types", "int32_t", "return (b & 0) + (-1 < 0x80000000) + 2 * (-1 < 2147483648) + 4 * (-1ll < 0xFFFFFFFF);"),
        ("increment", "int32_t", "uint8_t x = b; x++; x++; return x;"),
    ];
    let mut dice = Dice(77);
    let bytes = inputs(&mut dice);
    let formulas: Vec<(String, Piece)> = corners
        .iter()
        .map(|(_, ty, text)| {
            let c = if text.contains("<< 3") { text.replace("(x << 3)", "SHL(x, 3)") } else { text.replace("(x << 24)", "SHL(x, 24)") };
            ((*ty).to_owned(), Piece { ours: format!("  {text}\n"), c })
        })
        .collect();
    for ((name, ..), formula) in corners.iter().zip(&formulas) {
        let (values, _) = compare(std::slice::from_ref(formula), &bytes);
        assert!(values > 0, "{name}: nothing but faults");
    }
}
