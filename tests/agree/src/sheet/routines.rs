//! Routines: writes, settings, polls, lines, conditions, repeats, and routines that run others.

use super::formulas::{Formulas, Input};
use super::{Bus, FieldInfo, Gen};
use crate::toml::{Table, Value};

impl Gen<'_, '_> {
    pub(super) fn routines(&mut self) {
        let count = self.c.below(4);
        for at in 0..count {
            let name = if at + 1 == count && self.c.chance(70) { "measure".to_owned() } else { self.names.small(self.c) };
            let mut steps = Vec::new();
            for _ in 0..1 + self.c.below(4) {
                steps.extend(self.step());
            }
            if name == "measure"
                && let Some(frame) = self.c.any(&self.frames).cloned()
            {
                steps.push(self.reads(&frame.name));
            }
            if steps.is_empty() {
                continue;
            }
            self.root.table("routine").put(&name, steps);
            self.routines.push(name);
        }
    }

    fn reads(&mut self, frame: &str) -> Table {
        let mut step = Table::new().with("read", frame);
        if self.c.chance(25) {
            step.put("retry", self.c.within(1, 4));
            if self.c.chance(50) {
                step.put("every", "2 ms");
            }
        }
        step
    }

    /// Fields that a routine may set: no bits of two fields at once.
    fn settable(&self) -> Vec<FieldInfo> {
        self.fields
            .iter()
            .filter(|field| {
                field.writable
                    && (field.plain || field.unstored || field.action)
                    && !field.computed
                    && !field.real
                    && field.text == field.name
                    && !field.name.contains('.')
            })
            .cloned()
            .collect()
    }

    fn choice(&mut self, field: &FieldInfo) -> Value {
        let code = if field.codes.is_empty() { self.c.within(field.bounds.0, field.bounds.1) } else { *self.c.pick(&field.codes) };
        field.typed(code)
    }

    fn condition(&mut self) -> Option<String> {
        let fits =
            |field: &&FieldInfo| field.readable && !field.unstored && !field.register.is_empty() && field.text == field.name && !field.real;
        let mut inputs: Vec<Input> =
            self.fields.iter().filter(fits).map(|field| Input::int(&field.text, field.bounds.0, field.bounds.1)).collect();
        if inputs.is_empty() || self.c.chance(30) {
            let frame = self.c.any(&self.frames)?;
            let twice = |text: &str| self.frames.iter().filter(|other| other.codes.iter().any(|code| code.text == text)).count() > 1;
            let is_field = |text: &str| self.fields.iter().any(|field| field.name == text);
            let codes =
                frame.codes.iter().filter(|code| !code.real && !code.text.contains('.') && !twice(&code.text) && !is_field(&code.text));
            inputs = codes.cloned().collect();
        }
        let input = self.c.any(&inputs)?.clone();
        // It names the input for sure.
        Some(match self.c.below(3) {
            0 => format!("{} == {}", input.text, input.bounds.0.clamp(-1000, 1000)),
            1 => input.text,
            _ => {
                format!("!({})", Formulas { inputs: std::slice::from_ref(&input), curves: &[] }.truth(self.c, 0).replace("0.", "1."))
                    + &format!(" || {} == 1", input.text)
            }
        })
    }

    fn step(&mut self) -> Option<Table> {
        let mut step = Table::new();
        let kind = self.c.below(10);
        match kind {
            0 | 1 => {
                let fields = self.settable();
                let field = self.c.any(&fields)?.clone();
                let choice = self.choice(&field);
                let mut set = Table::new().with(&field.name, choice);
                if self.c.chance(25)
                    && let Some(other) = self.c.any(&fields).cloned()
                    && other.name != field.name
                {
                    let choice = self.choice(&other);
                    set.put(&other.name, choice);
                }
                step.put("set", set);
                if self.c.chance(25) {
                    step.put("verify", true);
                }
            }
            2 if self.bus != Bus::Modbus => {
                let (first, second) = (0xF0 | self.c.bits(3), self.c.bits(8));
                let command = vec![Value::Hex(first), Value::Hex(second)];
                if second.is_multiple_of(5) {
                    step.put("may_nak", true);
                }
                if second.is_multiple_of(11) && self.bus == Bus::I2c {
                    // The choices of what follows stay those of a seed.
                    let _ = self.c.chance(50);
                    step.put("write", Vec::<Value>::new());
                } else if self.c.chance(50) {
                    step.put("write", command);
                } else {
                    let hex: Vec<String> = command
                        .iter()
                        .map(|byte| if let Value::Hex(byte) = byte { format!("{byte:02X}") } else { String::new() })
                        .collect();
                    step.put("write", hex.join(" "));
                }
            }
            3 => {
                let plain = |name: &String| self.fields.iter().any(|field| field.register == *name && field.plain && field.writable);
                let registers: Vec<String> = self
                    .registers
                    .iter()
                    .filter(|(name, .., access)| *access != "read-only" && plain(name))
                    .map(|(name, ..)| name.clone())
                    .collect();
                step.put("write", self.c.any(&registers)?.as_str());
            }
            4 => {
                let registers: Vec<String> =
                    self.registers.iter().filter(|(.., access)| *access != "write-only").map(|(name, ..)| name.clone()).collect();
                step.put("read", self.c.any(&registers)?.as_str());
            }
            5 => {
                step.put("wait", *self.c.pick(&["2 ms", "7.25 ms", "120 us"]));
                if self.c.chance(40) {
                    step.put("tolerance", 15i128);
                }
                let columns: Vec<String> = self
                    .fields
                    .iter()
                    .filter(|field| field.readable)
                    .flat_map(|field| {
                        field.columns.iter().filter(|(column, _)| column == "ms").map(|(column, _)| format!("{}.{column}", field.text))
                    })
                    .collect();
                if let Some(column) = self.c.any(&columns) {
                    step.put("wait", column.as_str());
                }
            }
            6 => {
                step.put("poll", self.condition()?);
                step.put("within", *self.c.pick(&["10 ms", "4 ms"]));
                if self.c.chance(60) {
                    step.put("every", "1 ms");
                }
            }
            7 => {
                step.put("line", *self.c.pick(&["high", "low"]));
                step.put("within", "20 ms");
            }
            8 => {
                step.put("do", self.c.any(&self.routines)?.as_str());
            }
            _ => {
                step.put("expect", self.condition()?);
            }
        }
        if self.c.chance(12)
            && let Some(when) = self.condition()
        {
            step.put("when", when);
        }
        if self.c.chance(8) {
            step.put("repeat", 2i128);
        }
        if self.c.chance(12) && matches!(kind, 0..=4 | 9) {
            step.put("retry", 2i128);
            step.put("every", "1 ms");
        }
        self.notes(&mut step, true);
        Some(step)
    }
}
