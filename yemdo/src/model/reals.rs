//! A part with another arithmetic for real numbers, as in firmware for small machines, and the reference for its tests.

use std::sync::Arc;

use super::frame::{Frame, Origin};
use super::input::Input;
use super::operation::{Action, Time};
use super::part::{Part, Sheet};
use super::reading::{Condition, End};
use crate::formula::narrow::single;
use crate::formula::typed::Formula;

impl Part {
    /// The part with every formula in single precision, as if each `double` had been typed `float`.
    ///
    /// ```
    /// let part = yemdo::Part::parse("lamp.toml", r#"
    /// part = "lamp-1"
    /// frame.LIGHT = { read = 2, code = { light = "b0 b1" } }
    /// reading.light = { unit = "lx", formula = "light * 0.1" }
    /// "#)?;
    /// let mut decoder = yemdo::Decoder::new(&part.in_single_precision());
    /// let decoded = decoder.decode(part.frame("LIGHT")?, &[0, 3])?;
    /// assert_eq!(decoded.reading("light")?.value, Some(f64::from(3.0f32 * 0.1f32)));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn in_single_precision(&self) -> Part {
        let mut sheet: Sheet = (**self).clone();
        let narrow = |formula: &mut Formula| *formula = single(formula, &|key| comes_narrowed(Input::of(key)));
        each_formula(&mut sheet, &narrow);
        sheet.leave_out_derived();
        Part::from_sheet(Arc::new(sheet))
    }
}

/// Whether what gives an input is narrowed itself.
fn comes_narrowed(input: Input) -> bool {
    matches!(input, Input::Reading(_) | Input::Came(_) | Input::Before(_) | Input::Elapsed)
}

/// Does something to every formula of a part.
fn each_formula(sheet: &mut Sheet, change: &dyn Fn(&mut Formula)) {
    let conditions = |list: &mut [Condition]| list.iter_mut().for_each(|condition| change(&mut condition.formula));
    let time = |time: &mut Time| {
        if let Time::Formula(formula) = time {
            change(formula)
        }
    };
    for reading in sheet.readings.iter_mut() {
        change(&mut reading.formula);
        conditions(&mut reading.status);
        for end in reading.range.iter_mut().flat_map(|range| [&mut range.low, &mut range.high]) {
            if let End::Formula(formula) = end {
                change(formula);
            }
        }
    }
    for Frame { status, counted, origin, .. } in sheet.frames.iter_mut() {
        conditions(status);
        counted.iter_mut().for_each(change);
        let exchanges = match origin {
            Origin::Read(exchange) => std::slice::from_mut(exchange),
            Origin::Transfers(all) => all.as_mut_slice(),
            Origin::Registers(_) | Origin::Modbus(_) => &mut [],
        };
        for exchange in exchanges {
            exchange.command.formulas_mut().for_each(change);
            exchange.wait.iter_mut().for_each(time);
        }
    }
    sheet.fields.iter_mut().for_each(|field| field.computed.iter_mut().for_each(change));
    sheet.quantities.iter_mut().for_each(|quantity| change(&mut quantity.formula));
    for step in sheet.routines.iter_mut().flat_map(|routine| &mut routine.steps) {
        step.when.iter_mut().for_each(change);
        time(&mut step.every);
        match &mut step.action {
            Action::Write(command) => command.formulas_mut().for_each(change),
            Action::Wait { time: wait, .. } => time(wait),
            Action::Poll { condition, within } => {
                change(condition);
                time(within);
            }
            Action::Line { within, .. } => time(within),
            Action::Expect(condition) => change(condition),
            Action::WriteRegisters(_) | Action::Set { .. } | Action::ReadFrame(_) | Action::ReadRegisters(_) | Action::Run(_) => {}
        }
    }
}
