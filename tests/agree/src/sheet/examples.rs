//! Worked examples: the results of the library for random frames and settings, typed into the sheet.

use yemdo::configure::{Wish, WriteScope, configure};
use yemdo::part::CodeContent;
use yemdo::{Decoder, FrameId, Part, State, Status, to_hex};

use super::Gen;
use crate::cases;
use crate::toml::{Table, Value};

impl Gen<'_, '_> {
    /// The sheet with worked examples.
    pub(super) fn examples(&mut self) -> Table {
        let mut root = self.root.clone();
        if !self.c.chance(50) {
            return root;
        }
        let Ok(part) = Part::parse("sheet.toml", &root.sheet()) else { return root };
        let mut all = Vec::new();
        if let Some(example) = self.of_frame(&part) {
            all.push(example);
        }
        if let Some(example) = self.of_settings(&part) {
            all.push(example);
        }
        match all.len() {
            0 => {}
            1 => root.put("example", all.into_iter().next().unwrap_or_default()),
            _ => root.put("example", all),
        }
        root
    }

    fn of_frame(&mut self, part: &Part) -> Option<Table> {
        let frames: Vec<FrameId> = part.frames().ids().collect();
        let frame = *self.c.any(&frames)?;
        let name = part.frames().get(frame)?.name();
        let bytes = cases::frame(self.c, part, frame);
        let mut example = Table::new();
        if self.c.chance(30) {
            example.put("source", "table 3");
        }
        let mut decoder = Decoder::new(part);
        decoder.measured_at(&[0.0]);
        let Ok(decoded) = decoder.decode(frame, &bytes) else {
            let mut short = bytes.clone();
            short.pop();
            let cause = decoder.decode(frame, &short).err()?.cause();
            let typed = ["check failed", "too short", "too long", "blank", "exception", "foreign"].contains(&cause);
            return typed.then(|| example.with(name, to_hex(&short)).with("refused", cause));
        };
        let mut gives = Table::new();
        for reading in &decoded.readings {
            let text = match (&reading.value, reading.status) {
                (Some(value), _) if value.abs() < 1e12 => reading.value_text()?,
                (None, Status::FormulaFault) => reading.fault.as_ref()?.kind.describe().to_owned(),
                (None, status) => status.as_str().to_owned(),
                _ => continue,
            };
            gives.put(&reading.name, text);
        }
        for code in decoded.codes.iter().take(1) {
            if let CodeContent::Number(number) = &code.value
                && part.reading_or_derived(&code.name).is_err()
                && part.quantity(&code.name).is_err()
                && number.to_f64().is_finite()
                && !part.readings().iter().any(|reading| reading.name() == code.name)
            {
                gives.put(&code.name, number.to_string());
            }
        }
        if gives.0.is_empty() {
            return None;
        }
        example.put(name, to_hex(&bytes));
        if self.c.chance(20) {
            example.put(name, vec![to_hex(&bytes)]);
            example.put("every", "100 ms");
        }
        Some(example.with("gives", gives))
    }

    fn of_settings(&mut self, part: &Part) -> Option<Table> {
        let wishes = cases::wishes(self.c, part, 2);
        let typed = |wish: &String| {
            let (name, value) = wish.split_once('=')?;
            Some((name.to_owned(), value.to_owned()))
        };
        let parsed: Vec<Wish> = wishes.iter().map(|wish| Wish::parse(part, wish)).collect::<Result<_, _>>().ok()?;
        let done = configure(part, &State::reset(part), &parsed, WriteScope::Changed).ok()?;
        let mut set = Table::new();
        for (name, value) in wishes.iter().filter_map(typed) {
            set.put(&name, Value::Text(value));
        }
        if set.0.is_empty() || done.writes.is_empty() {
            return None;
        }
        let mut writes = Table::new();
        for write in &done.writes {
            let register = part.registers().get(write.register)?;
            writes.put(register.name(), Value::Hex(write.value));
        }
        let mut example = Table::new().with("set", set).with("writes", writes);
        let bus = part.buses().all().next()?;
        let sends: Option<Vec<String>> = done
            .writes
            .iter()
            .map(|write| {
                let register = part.registers().get(write.register)?;
                Some(to_hex(&yemdo::configure::write_register(part, bus, register, write.value)?.send))
            })
            .collect();
        if self.c.chance(50) {
            example.put("sends", sends?);
        }
        Some(example)
    }
}
