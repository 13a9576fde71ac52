//! Sheets from files.

use std::fs;
use std::path::Path;

use yemdo::configure::{Which, Wish, configure};
use yemdo::model::part::Input;
use yemdo::{Decoder, Part, Settings};

use crate::failure::Failure;

/// The text of a sheet.
pub(crate) fn read(path: &Path) -> Result<String, Failure> {
    let bytes = fs::read(path).map_err(|error| Failure::file("read the sheet", path, &error))?;
    String::from_utf8(bytes).map_err(|error| {
        let valid = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(valid).filter(|byte| **byte == b'\n').count() + 1;
        Failure::told(format!("cannot read the sheet {}: line {line} is not UTF-8", path.display())).help("save the file as UTF-8")
    })
}

/// Reads and resolves a sheet, or a variant of it.
pub(crate) fn load(path: &Path, variant: Option<&str>) -> Result<Part, Failure> {
    let (name, text) = (path.display().to_string(), read(path)?);
    let part = match variant {
        Some(variant) => Part::parse_variant(&name, &text, variant),
        None => Part::parse(&name, &text),
    };
    part.map_err(|error| Failure::Sheet(Box::new(error)))
}

/// The same at another of its addresses, where one is given.
pub(crate) fn load_at(path: &Path, variant: Option<&str>, address: Option<&str>) -> Result<Part, Failure> {
    let part = load(path, variant)?;
    let Some(typed) = address else { return Ok(part) };
    let name = part.name().to_owned();
    let no_address = || Failure::told(format!("`{typed}` is no 7-bit address")).help("write it as 0x4E");
    let address = number(typed).and_then(|address| u8::try_from(address).ok()).filter(|address| *address < 0x80).ok_or_else(no_address)?;
    part.at_address(address).map_err(|known| {
        let failure = Failure::told(format!("{name} is never at 0x{address:02X}"));
        let known: Vec<String> = known.iter().map(|known| format!("0x{known:02X}")).collect();
        if known.is_empty() {
            failure.help("it is not reached over I2C")
        } else {
            failure.help(format!("its addresses: {}", known.join(", ")))
        }
    })
}

/// Sets fields, parameters and quantities as `NAME=VALUE` says they are.
pub(crate) fn apply(decoder: &mut Decoder<'_>, typed: &[String]) -> Result<(), Failure> {
    let part = decoder.part();
    for typed in typed {
        let wish = Wish::present(part, typed).map_err(Failure::wish)?;
        match &wish {
            Wish::Field { field, code, .. } => {
                part.fields().get(*field).into_iter().for_each(|field| decoder.settings_mut().set_field(field, *code));
            }
            Wish::Parameter { index, value, .. } => {
                let outside = |(low, high)| Failure::told(format!("`{typed}` is outside {low} to {high}"));
                decoder.set_parameter(*index, *value).map_err(outside)?;
            }
            _ => {
                let done = configure(part, decoder.settings(), &[wish], Which::Changed);
                *decoder.settings_mut() = done.map_err(|error| Failure::refused(error.to_string()))?.settings;
            }
        }
    }
    Ok(())
}

/// The fields and parameters that readings of these frames take from settings, with their present values, and
/// whether those are as after a reset.
pub(crate) fn in_use(decoder: &Decoder<'_>, frames: &[usize]) -> Vec<(String, String, bool)> {
    let part = decoder.part();
    let reset = Settings::reset(part);
    let mut found: Vec<(String, String, bool)> = Vec::new();
    for index in part.held_inputs(frames) {
        let entry = match index {
            Input::Field(field) | Input::Column(field, _) => part.fields().get(field).map(|field| {
                let code = decoder.settings().field(field);
                let name = field.value_text(code);
                (field.name().to_owned(), name, code == reset.field(field))
            }),
            Input::Parameter(at) => part.parameters().get(at).zip(decoder.parameters().get(at)).map(|(parameter, value)| {
                let unit = parameter.unit.as_ref().map_or(String::new(), |unit| format!(" {unit}"));
                (parameter.name.clone(), format!("{value}{unit}"), *value == parameter.default)
            }),
            _ => None,
        };
        found.extend(entry.filter(|(name, ..)| !found.iter().any(|(known, ..)| known == name)));
    }
    found
}

/// A number as people type it, that is none below nought.
pub(crate) fn number(text: &str) -> Option<u64> {
    yemdo::bits::hex::parse_integer(text).and_then(|number| u64::try_from(number).ok())
}
