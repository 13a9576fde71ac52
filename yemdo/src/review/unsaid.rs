//! Warnings for readings that stay ok although the part says otherwise, or was not asked.

use super::warnings::formulas;
use crate::bits::form::Form;
use crate::ground::diagnostic::Diagnostic;
use crate::ground::list::List;
use crate::model::frame::Code;
use crate::model::ids::{CodeId, FieldId, FrameId, ReadingId, RegisterId};
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;
use crate::model::reading::Reading;
use crate::model::registers::{Access, Field};
use crate::model::status::Status;
use crate::plan::routine::registers_read;
use crate::predict::Prediction;

/// Minimum width of a code with a full scale.
const NARROWEST: u32 = 8;
/// Words in names of columns that hold the highest code.
const FULL_SCALE: [&str; 5] = ["full", "max", "limit", "end", "top"];

/// Readings whose range depends on a setting, and that are never saturated.
pub(super) fn without_saturation(part: &Sheet, predictions: &List<ReadingId, Option<Prediction>>, found: &mut Vec<Diagnostic>) {
    let mut told = Vec::new();
    for (id, reading) in part.readings.entries().filter(|(_, reading)| !reading.is_shared()) {
        let ends = part.conditions(None, id).any(|(_, condition)| condition.status == Status::Saturated);
        if ends || is_limited(reading, predictions.get(id).and_then(Option::as_ref)) || told.contains(&reading.span) {
            continue;
        }
        let behind = part.inputs_behind(inputs(&reading.formula));
        let chosen = |input: &Input| matches!(input, Input::Column(field, _) if part.fields[*field].access.is_writable());
        let Some(Input::Column(field, _)) = behind.iter().find(|input| chosen(input)) else { continue };
        let measured = |code: &&CodeId| is_measured(part, &part.codes[**code]);
        let [code] = reading.codes.iter().filter(measured).collect::<Vec<_>>()[..] else { continue };
        told.push(reading.span);
        let (code, field) = (&part.codes[*code], &part.fields[*field]);
        let (low, high) = code.bounds();
        // Formulas name an array without the numbers of its elements.
        let is_array = part.codes.iter().filter(|other| other.span == code.span).count() > 1;
        let name = if is_array { code.name.rsplit_once('_').map_or(code.name.as_str(), |(name, _)| name) } else { code.name.as_str() };
        let condition = match full_scale(part, &behind, high as f64) {
            Some(column) => format!("{name} >= {column}"),
            None if low < 0 => format!("{name} == {high} || {name} == {low}"),
            None => format!("{name} == 0x{high:X}"),
        };
        let text = format!("`{}` has no condition for the end of its code `{name}`", reading.name);
        found.push(
            Diagnostic::warning("no-saturation", reading.span, text)
                .label(format!("its range depends on {}, and beyond it the value is still ok", field.name))
                .help(format!("such as status = [{{ when = \"{condition}\", is = \"saturated\" }}]")),
        );
    }
}

/// Column that holds the highest code for each setting.
fn full_scale(part: &Sheet, behind: &[Input], high: f64) -> Option<String> {
    let is_full = |name: &str| name.split('_').any(|word| FULL_SCALE.contains(&word.to_ascii_lowercase().as_str()));
    let settings = behind.iter().filter_map(|input| if let Input::Column(field, _) = input { Some(&part.fields[*field]) } else { None });
    let of = |field: &Field| {
        let (id, column) = field.columns.entries().find(|(_, column)| is_full(&column.name))?;
        let is_code = |number: f64| (high / 4.0..=high).contains(&number);
        let is_codes = field.values.iter().filter_map(|row| row.columns.get(id).copied().flatten()).any(is_code);
        is_codes.then(|| format!("{}.{}", field.name, column.name))
    };
    settings.filter_map(of).next()
}

/// True if a stated range reports the end of the code.
fn is_limited(reading: &Reading, prediction: Option<&Prediction>) -> bool {
    let Some(stated) = &reading.range else { return false };
    let extent = prediction.and_then(|prediction| prediction.extent);
    stated.fixed().zip(extent).is_none_or(|((low, high), extent)| extent.high > high || extent.low < low)
}

/// True for integer codes of the part's measurements that have no stated range.
fn is_measured(part: &Sheet, code: &Code) -> bool {
    let integer =
        matches!(code.layout.form, Form::Unsigned | Form::Signed | Form::OffsetBinary | Form::SignMagnitude | Form::OnesComplement);
    let by_part = code.field.is_none_or(|field| !part.fields[field].access.is_writable());
    integer && by_part && code.range.is_none() && code.layout.width() >= NARROWEST
}

/// Fields that only the part sets, that formulas use and that nothing reads.
pub(super) fn never_read(part: &Sheet, found: &mut Vec<Diagnostic>) {
    let in_frames: Vec<FieldId> = part.frames.iter().flat_map(|frame| &frame.fields).map(|(field, _)| *field).collect();
    let steps = part.routines.iter().flat_map(|routine| &routine.steps);
    let read: Vec<RegisterId> = steps.flat_map(|step| registers_read(part, &step.action)).collect();
    let frames: Vec<FrameId> = part.frames.ids().collect();
    let used: Vec<FieldId> = part.held_inputs(&frames).into_iter().filter_map(Input::field).collect();
    for (id, field) in part.fields.entries().filter(|(id, _)| used.contains(id)) {
        let homes: Vec<RegisterId> = part.homes(id).collect();
        let is_read = in_frames.contains(&id) || homes.iter().any(|home| read.contains(home));
        let by_part = matches!(field.access, Access::ReadOnly | Access::ClearOnRead) && !homes.is_empty();
        if !by_part || is_read {
            continue;
        }
        let (registers, first) = (part.names_of(&homes), homes.first().map(|home| &part.registers[*home]));
        let place = formulas(part).find(|formula| inputs(formula).any(|input| input.field() == Some(id)));
        let problem = Diagnostic::warning("never-read", field.span, format!("no frame and no routine reads {registers}"))
            .label("formulas have no value for it");
        let problem = match place {
            Some(formula) => problem.also(formula.span, "used here"),
            None => problem,
        };
        let name = first.map_or("", |register| register.name.as_str());
        found.push(problem.help(format!("such as [frame.{name}_READ] with registers = \"{name}\" and keep = true")));
    }
}
