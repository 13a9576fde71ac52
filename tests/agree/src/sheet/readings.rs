//! Shared values, readings, quantities and derived quantities.

use super::formulas::{Formulas, Input};
use super::{FieldInfo, FrameInfo, Gen};
use crate::toml::{Table, Value};

const UNITS: &[&str] = &["°C", "%", "hPa", "lx", "m/s²", "1", "Pa", "K", "µT", "rad/s"];

impl Gen<'_, '_> {
    /// The codes of a frame as readings name them: with the frame's name if another frame has one of that name.
    fn codes_of(&self, frame: &FrameInfo) -> Vec<Input> {
        let twice = |text: &str| self.frames.iter().filter(|other| other.codes.iter().any(|code| code.text == text)).count() > 1;
        let is_field = |text: &str| {
            self.fields.iter().any(|field| text == field.name || text == field.text || text.starts_with(&format!("{}.", field.text)))
        };
        let own = |code: &&Input| !self.fields.iter().any(|field| field.name == code.text && field.text != field.name);
        frame
            .codes
            .iter()
            .filter(own)
            .map(|code| match twice(&code.text) && !is_field(&code.text) {
                true => Input { text: format!("{}.{}", frame.name, code.text), ..code.clone() },
                false => code.clone(),
            })
            .collect()
    }

    /// Inputs of a reading: mostly codes, sometimes settings.
    fn inputs_for(&mut self, frame: &FrameInfo) -> Vec<Input> {
        let mut inputs = self.codes_of(frame);
        if self.c.chance(45) {
            let settings: Vec<Input> = self.fields.iter().filter(|field| field.readable).flat_map(FieldInfo::inputs).collect();
            for _ in 0..2 {
                inputs.extend(self.c.any(&settings).cloned());
            }
        }
        if self.c.chance(30) {
            inputs.extend(self.c.any(&self.held).cloned());
        }
        inputs
    }

    pub(super) fn shared(&mut self) {
        for _ in 0..self.c.below(3) {
            let frame = self.c.pick(&self.frames).clone();
            let inputs = self.inputs_for(&frame);
            if inputs.is_empty() {
                continue;
            }
            let formulas = Formulas { inputs: &inputs, curves: &self.curves };
            let formula = if self.c.chance(50) { formulas.int(self.c, 2) } else { formulas.real(self.c, 1) };
            let uses = inputs.iter().any(|input| formula.contains(&input.text));
            if !uses {
                continue;
            }
            let name = self.names.small(self.c);
            let mut table = Table::new().with("formula", formula);
            self.notes(&mut table, true);
            self.root.table("shared").put(&name, table);
            self.held.push(Input::real(name.clone()));
            self.shared.push(name);
        }
    }

    pub(super) fn readings(&mut self) {
        let count = 1 + self.c.below(4);
        for _ in 0..count {
            let frame = self.c.pick(&self.frames).clone();
            if frame.codes.is_empty() {
                continue;
            }
            self.reading(&frame);
        }
        if self.readings.is_empty()
            && let Some(frame) = self.frames.iter().find(|frame| !frame.codes.is_empty()).cloned()
        {
            self.reading(&frame);
        }
    }

    fn reading(&mut self, frame: &FrameInfo) {
        let mut inputs = self.inputs_for(frame);
        let array = self.c.any(&frame.arrays).cloned().filter(|_| self.c.chance(60));
        let mut elsewhere = false;
        if self.c.chance(12) {
            // Another frame's code, as of calibration words.
            let other = self.c.pick(&self.frames).clone();
            let others = self.codes_of(&other);
            inputs.extend(self.c.any(&others).cloned());
            elsewhere = other.name != frame.name;
        }
        if self.c.chance(20)
            && let Some((name, _)) = self.c.any(&self.readings)
        {
            inputs.push(Input::real(name));
            // It may come with another frame.
            elsewhere = true;
        }
        let codes: Vec<Input> = self.codes_of(frame);
        // A field that several frames hold does not say with which of them the reading comes, and a column is no code.
        let holding = |text: &str| self.frames.iter().filter(|other| other.codes.iter().any(|known| known.text == text)).count();
        let is_column = |text: &str| self.fields.iter().any(|field| text.starts_with(&format!("{}.", field.text)));
        let is_field = |text: &str| self.fields.iter().any(|field| field.text == text || field.name == text);
        let is_sure = |text: &str| !is_column(text) && (holding(text) == 1 || text.contains('.') && !is_field(text));
        // A field comes with another frame if that is the only one of the formula.
        let is_sure = |text: &str| is_sure(text) && !(elsewhere && is_field(text));
        let sure: Vec<Input> = codes.iter().filter(|code| is_sure(&code.text)).cloned().collect();
        let Some(code) = self.c.any(&sure).cloned() else { return };
        let formula = match &array {
            Some((array, _)) => format!("{array} * 0.5 + {}", code.text),
            None => {
                let formula = Formulas { inputs: &inputs, curves: &self.curves }.reading(self.c);
                // At least one code, or there is nothing that it comes with.
                let named = sure.iter().any(|code| names(&formula, &code.text));
                if named { formula } else { format!("{} * 0.5", code.text) }
            }
        };
        // A field that another frame alone holds may bring the reading with that one.
        let of_others = self.frames.iter().flat_map(|other| &other.codes).filter(|code| is_field(&code.text));
        let foreign = of_others.filter(|code| !codes.iter().any(|own| own.text == code.text)).any(|code| names(&formula, &code.text));
        let name = self.names.small(self.c);
        let unit = *self.c.pick(UNITS);
        let mut table = Table::new().with("unit", unit).with("formula", formula);
        if self.c.chance(40) {
            let range = self.stated();
            table.put("range", range);
        }
        if self.c.chance(15) {
            table.put("decimals", self.c.within(0, 5));
        }
        if self.c.chance(35) {
            let itself = self.c.chance(30) || foreign;
            let own = if itself && array.is_none() { vec![Input::real(name.clone())] } else { codes };
            let status = self.statuses(&own);
            table.put("status", status);
        }
        self.valid_while(&name, &mut table);
        self.notes(&mut table, true);
        self.root.table("reading").put(&name, table);
        if array.is_none() {
            self.readings.push((name, unit.to_owned()));
        }
    }

    fn stated(&mut self) -> Value {
        let (low, high) = *self.c.pick(&[(-40.0, 125.0), (0.0, 100.0), (-1000.0, 1000.0), (5.0, 6.0)]);
        let columns: Vec<String> = self
            .fields
            .iter()
            .filter(|field| field.readable)
            .flat_map(|field| field.columns.iter().map(|(column, _)| format!("{}.{column}", field.text)))
            .collect();
        match self.c.any(&columns) {
            Some(column) if self.c.chance(40) => vec![Value::Text(format!("-{column}")), Value::Text(format!("{column} * 2"))].into(),
            _ => vec![low, high].into(),
        }
    }

    fn movable(&self) -> Vec<FieldInfo> {
        let fits =
            |field: &&FieldInfo| field.plain && field.writable && !field.computed && !field.real && !field.action && field.width <= 16;
        self.fields.iter().filter(fits).cloned().collect()
    }

    /// Quantities that readings may use.
    pub(super) fn early_quantities(&mut self) {
        let fields = self.movable();
        if !self.c.chance(25) {
            return;
        }
        let Some(field) = self.c.any(&fields).cloned() else { return };
        let name = self.names.small(self.c);
        let unit = *self.c.pick(UNITS);
        let scale = *self.c.pick(&["0.5", "0.01", "3"]);
        let mut formula = format!("{} * {scale}", field.text);
        let other = self.c.any(&fields).filter(|other| other.name != field.name && other.width + field.width <= 10).cloned();
        if let Some(other) = other.filter(|_| self.c.chance(40)) {
            formula = format!("({}) * (1 << ({} & 7))", field.text, other.text);
        } else if let Some((parameter, _)) = self.c.any(&self.numbers).filter(|_| self.c.chance(30)) {
            formula = format!("{formula} + {parameter}");
        }
        let mut table = Table::new().with("unit", unit).with("formula", formula);
        if self.c.chance(20) {
            table.put("moves", vec![field.name.as_str()]);
        }
        self.notes(&mut table, true);
        self.root.table("quantity").put(&name, table);
        self.held.push(Input::real(name.clone()));
        self.quantities.push((name, unit.to_owned()));
    }

    /// Quantities that go through readings.
    pub(super) fn late_quantities(&mut self) {
        let fields = self.movable();
        let Some((reading, code)) = self.one_code() else { return };
        let count = self.c.below(3);
        let mut before: Option<String> = None;
        for _ in 0..count {
            let Some(field) = self.c.any(&fields).cloned() else { return };
            let unit = self.readings.iter().find(|(name, _)| *name == reading).map_or("1".to_owned(), |(_, unit)| unit.clone());
            let name = self.names.small(self.c);
            let formula = if field.width < code && self.c.chance(60) {
                format!("{} << {}", field.text, (code - field.width).min(16))
            } else {
                field.text.clone()
            };
            let mut table = Table::new().with("unit", unit.as_str()).with("reading", reading.as_str()).with("code", formula);
            if self.c.chance(40) {
                table.put("alert", *self.c.pick(&["above", "below"]));
                let bit = |code: &&Input| code.bounds == (0, 1) && !code.real && !code.text.contains('.');
                let codes = || self.frames.iter().flat_map(|frame| &frame.codes);
                let is_unique = |code: &&Input| codes().filter(|other| other.text == code.text).count() == 1;
                let mut bits = codes().filter(bit).filter(is_unique);
                if let Some(bit) = bits.next_back().filter(|_| name.len().is_multiple_of(2)) {
                    table.put("flag", bit.text.as_str());
                }
            } else if self.c.chance(20) {
                table.put("difference", true);
            }
            if let Some(other) = before.take().filter(|_| self.c.chance(50)) {
                table.put("not_below", other);
            }
            self.root.table("quantity").put(&name, table);
            self.quantities.push((name.clone(), unit));
            before = Some(name);
        }
    }

    /// A reading of one code alone, with the code's width.
    fn one_code(&mut self) -> Option<(String, u32)> {
        let part = yemdo::Part::parse("sheet.toml", &self.root.sheet()).ok()?;
        let fits = |name: &str| {
            let reading = part.readings().get(part.reading(name).ok()?)?;
            let [code] = reading.codes() else { return None };
            let code = part.codes().get(*code)?;
            (!code.ty().is_real() && code.name() != name).then(|| (name.to_owned(), code.layout().width()))
        };
        let all: Vec<(String, u32)> = self.readings.iter().filter_map(|(name, _)| fits(name)).collect();
        let found = self.c.any(&all).cloned()?;
        // A formula of columns, or of shared values, has a code and no way back.
        let mut tried = self.root.clone();
        let field = self.movable().into_iter().next()?;
        tried.table("quantity").put("tried_", Table::new().with("unit", "1").with("reading", found.0.as_str()).with("code", field.text));
        yemdo::Part::parse("sheet.toml", &tried.sheet()).is_ok().then_some(found)
    }

    pub(super) fn derived(&mut self) {
        for _ in 0..self.c.below(3) {
            let Some((reading, unit)) = self.c.any(&self.readings).cloned() else { return };
            let name = self.names.small(self.c);
            let mut table = Table::new();
            let (formula, gap) = match self.c.below(5) {
                0 => (format!("{reading} * 2 + 1"), false),
                1 => {
                    if self.c.chance(60) {
                        table.put("start", 0i128);
                    } else {
                        table.put("start", reading.as_str());
                    }
                    (format!("before.{name} + {reading} * elapsed"), true)
                }
                2 => (format!("({reading} - before.{reading}) / elapsed"), true),
                3 => {
                    table.put("start", reading.as_str());
                    (format!("before.{name} * 0.75 + {reading} * 0.25"), true)
                }
                _ => match self.c.any(&self.numbers) {
                    Some((number, _)) => (format!("{reading} / {number}"), false),
                    None => (format!("exp({reading} * 0.01)"), false),
                },
            };
            if gap {
                table.put("gap", *self.c.pick(&["15 min", "20 s", "90 ms"]));
            }
            table.put("unit", unit);
            table.put("formula", formula);
            if self.c.chance(20) {
                table.put("decimals", 2i128);
            }
            self.notes(&mut table, true);
            self.root.table("derived").put(&name, table);
        }
    }
}

/// Whether a formula names something.
fn names(formula: &str, text: &str) -> bool {
    formula.split(|c: char| !(c.is_ascii_alphanumeric() || c == '_' || c == '.')).any(|word| word == text)
}
