//! What each way to compute readings in firmware costs: a table to choose from.

use std::io::Write;

use anstyle::Style;
use yemdo::Part;
use yemdo::emit::{FirmwareOptions, Reals, forms};

use super::grid::{Align, Cell, Grid};
use crate::failure::Failure;

/// Prints a part's readings, each in doubles, in floats and in integers.
pub(crate) fn write(out: &mut dyn Write, part: &Part, step: f64) -> Result<(), Failure> {
    writeln!(out, "  firmware, estimated for a Cortex-M0 (library functions not counted in bytes):")?;
    let mut grid = Grid::new(4, &[Align::Left, Align::Left, Align::Right, Align::Right, Align::Left]);
    grid.titles(&["reading", "reals", "instructions", "bytes", "maximum error"]);
    let options = FirmwareOptions::default().step(step);
    for (id, forms) in forms(part, &options) {
        let Some(reading) = part.readings().get(id) else { continue };
        for (reals, form) in forms {
            let name = match reals {
                Reals::Double => "double",
                Reals::Single => "float",
                Reals::Integer => "none",
            };
            let cells: Vec<Cell> = match form {
                Ok(form) => {
                    let off = match (reals, form.error) {
                        (Reals::Double, _) => "as the sheet".to_owned(),
                        (_, Some(error)) if error < step * 1e-6 => "0".to_owned(),
                        (Reals::Single, Some(error)) => format!("{error:.2e} {}", reading.unit()),
                        (_, Some(error)) => format!("{error:.2e} {}, in steps of {step}", reading.unit()),
                        (_, None) => "not tried: several codes".to_owned(),
                    };
                    vec![
                        reading.name().into(),
                        name.into(),
                        form.instructions.to_string().into(),
                        form.bytes.to_string().into(),
                        off.into(),
                    ]
                }
                Err(why) => {
                    let why = Cell { text: why, style: Style::new().dimmed() };
                    vec![reading.name().into(), name.into(), "-".into(), "-".into(), why]
                }
            };
            grid.row(cells);
        }
    }
    Ok(grid.write(out)?)
}
