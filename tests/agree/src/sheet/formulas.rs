//! Random formulas over what can be named, valid by construction.

use crate::choices::Choices;

/// Something that a formula can name.
#[derive(Clone, Debug)]
pub struct Input {
    /// Its name as typed.
    pub text: String,
    /// It is a real number.
    pub real: bool,
    /// The least and the greatest value, if it is an integer.
    pub bounds: (i128, i128),
}

impl Input {
    /// An integer.
    pub fn int(text: impl Into<String>, low: i128, high: i128) -> Self {
        Self { text: text.into(), real: false, bounds: (low, high) }
    }

    /// A real number.
    pub fn real(text: impl Into<String>) -> Self {
        Self { text: text.into(), real: true, bounds: (0, 0) }
    }
}

/// Formulas over some inputs.
pub struct Formulas<'f> {
    /// What can be named.
    pub inputs: &'f [Input],
    /// Names of curves.
    pub curves: &'f [String],
}

const SCALES: &[&str] = &["0.5", "0.01", "0.015625", "0.02", "2.5", "0.003", "1e-3", "7.0", "-0.25", "0.0009765625", "100.0 / 1048576.0"];
const FUNCTIONS: &[&str] = &["fabs", "floor", "ceil", "round", "trunc", "sqrt", "exp2", "log", "sin", "cbrt", "atan", "fabsf", "tanh"];

impl Formulas<'_> {
    fn integers(&self) -> Vec<&Input> {
        self.inputs.iter().filter(|input| !input.real).collect()
    }

    fn int_leaf(&self, c: &mut Choices<'_>) -> String {
        let integers = self.integers();
        match c.any(&integers) {
            Some(input) if c.below(5) < 4 => input.text.clone(),
            _ => (*c.pick(&["1", "3", "10", "255", "4096", "100000", "0x7F", "7u", "9ll"])).to_owned(),
        }
    }

    /// An integer expression.
    pub fn int(&self, c: &mut Choices<'_>, depth: u32) -> String {
        if depth == 0 {
            return self.int_leaf(c);
        }
        match c.below(14) {
            0..=2 => self.int_leaf(c),
            3 | 4 => format!("({} {} {})", self.int(c, depth - 1), c.pick(&["+", "-"]), self.int(c, depth - 1)),
            5 => format!("({} * {})", self.int(c, depth - 1), c.pick(&["3", "25", "-7", "1000", "65536"])),
            6 => format!("({} {} {})", self.int(c, depth - 1), c.pick(&["/", "%"]), c.pick(&["10", "3", "256", "-4"])),
            7 => format!("({} {} {})", self.int(c, depth - 1), c.pick(&["&", "|"]), c.pick(&["0xF", "0xFF0", "1"])),
            8 => format!("({} {} {})", self.int(c, depth - 1), c.pick(&[">>", "<<"]), c.pick(&["1", "3", "8"])),
            9 => format!("({} {} {})", self.int(c, depth - 1), c.pick(&["/", "%", ">>", "*"]), self.int_leaf(c)),
            10 => {
                let ty = c.pick(&["int32_t", "int64_t", "uint16_t", "uint8_t", "int8_t", "uint32_t"]);
                format!("({ty})({})", self.int(c, depth - 1))
            }
            11 => format!("({} ? {} : {})", self.truth(c, depth - 1), self.int(c, depth - 1), self.int(c, depth - 1)),
            12 => format!("({}{})", c.pick(&["-", "~", "!"]), self.int(c, depth - 1)),
            _ => format!("abs({})", self.int(c, depth - 1)),
        }
    }

    fn real_leaf(&self, c: &mut Choices<'_>) -> String {
        let reals: Vec<&Input> = self.inputs.iter().filter(|input| input.real).collect();
        match c.below(4) {
            0 | 1 if !reals.is_empty() => c.pick(&reals).text.clone(),
            0..=2 if !self.integers().is_empty() => format!("{} * {}", self.int_leaf(c), c.pick(SCALES)),
            _ => (*c.pick(SCALES)).to_owned(),
        }
    }

    /// An expression of a real number.
    pub fn real(&self, c: &mut Choices<'_>, depth: u32) -> String {
        if depth == 0 {
            return self.real_leaf(c);
        }
        match c.below(12) {
            0..=3 => format!("({} {} {})", self.real(c, depth - 1), c.pick(&["+", "-"]), self.real(c, depth - 1)),
            4 | 5 => format!("({} * {})", self.real(c, depth - 1), self.real_leaf(c)),
            6 => format!("({} / {})", self.real(c, depth - 1), c.pick(&["3.0", "1024.0", "0.07", "-12.5"])),
            7 => format!("({} / ({}))", self.real(c, depth - 1), self.real_leaf(c)),
            8 => format!("{}({})", c.pick(FUNCTIONS), self.real(c, depth - 1)),
            9 => match c.any(self.curves) {
                Some(curve) => format!("{curve}({})", self.real(c, depth - 1)),
                None => format!("(double)({})", self.int(c, depth - 1)),
            },
            10 => format!("({} ? {} : {})", self.truth(c, depth - 1), self.real(c, depth - 1), self.real(c, depth - 1)),
            _ => format!("(float)({})", self.real(c, depth - 1)),
        }
    }

    /// A condition.
    pub fn truth(&self, c: &mut Choices<'_>, depth: u32) -> String {
        let integers = self.integers();
        match (c.below(8), c.any(&integers)) {
            (0..=3, Some(input)) => {
                let (low, high) = input.bounds;
                let wide = high - low > 1 << 30;
                let edge = if c.chance(50) { c.within(low, high) } else { *c.pick(&[low, high, low + (high - low) / 2]) };
                let edge = if wide { edge.clamp(-1_000_000, 1_000_000) } else { edge };
                format!("{} {} {edge}", input.text, c.pick(&["==", ">=", "<", "!=", ">", "<="]))
            }
            (4, Some(input)) => input.text.clone(),
            (5, _) if depth > 0 => format!("({} {} {})", self.truth(c, depth - 1), c.pick(&["&&", "||"]), self.truth(c, depth - 1)),
            (6, _) => format!("{} {} {}", self.real(c, 0), c.pick(&[">", "<="]), c.pick(SCALES)),
            _ => format!("{} {} {}", self.int(c, depth.min(1)), c.pick(&[">", "<", "=="]), c.pick(&["3", "100", "0"])),
        }
    }

    /// A formula for a reading: mostly a line, as datasheets have, otherwise statements.
    pub fn reading(&self, c: &mut Choices<'_>) -> String {
        let leaf = match c.any(self.inputs) {
            Some(input) => input.text.clone(),
            None => return self.real(c, 1),
        };
        match c.below(10) {
            0 | 1 => format!("{leaf} * {}", c.pick(SCALES)),
            2 => format!("{leaf} * {} - {}", c.pick(SCALES), c.pick(&["40", "12.5", "273.15"])),
            3 => leaf,
            4 => format!("{leaf} / {}", c.pick(&["16.0", "10.0", "3.0", "10", "1048576.0"])),
            5 => self.int(c, 2),
            6 | 7 => self.real(c, 2),
            _ => self.statements(c, &leaf),
        }
    }

    /// Statements with local variables and branches.
    fn statements(&self, c: &mut Choices<'_>, leaf: &str) -> String {
        let mut inputs = self.inputs.to_vec();
        let ty = *c.pick(&["int32_t", "int64_t", "double", "float", "uint32_t"]);
        let real = matches!(ty, "double" | "float");
        let first = if real { self.real(c, 1) } else { self.int(c, 1) };
        let local = format!("v_{}", c.below(3));
        inputs.push(Input { text: local.clone(), real, bounds: (-1000, 1000) });
        let inner = Formulas { inputs: &inputs, curves: self.curves };
        let mut text = format!("{ty} {local} = {first};\n");
        if c.chance(60) {
            let change = if real { inner.real(c, 1) } else { inner.int(c, 1) };
            let body = if c.chance(40) { format!("return {};", inner.real(c, 1)) } else { format!("{local} = {change};") };
            text += &format!("if ({}) {{ {body} }}\n", inner.truth(c, 1));
        }
        let result = if c.chance(50) { inner.real(c, 1) } else { format!("{local} + {leaf} * {}", c.pick(SCALES)) };
        text + &format!("return {result};")
    }
}
