//! `decode --steps`: every step from the bytes of one frame to its readings.

use std::io::Write;

use anstyle::{AnsiColor, Style};
use yemdo::bus::modbus::{AddressRange, Envelope, read_request, read_response};
use yemdo::layout::Form;
use yemdo::part::Origin;
use yemdo::steps::{CheckStep, CodeStep, Steps};
use yemdo::view::StepsView;
use yemdo::{Decoded, Decoder, FrameId, Part, Status, to_hex};

use super::grid::{Align, Cell, Grid};
use super::status::status_cell;
use crate::failure::Failure;
use crate::output::json_line;
use yemdo::counted;

/// Bytes of a frame side by side.
const BYTES_A_LINE: usize = 8;

pub(crate) fn print(out: &mut dyn Write, decoder: &mut Decoder, frame: FrameId, bytes: &[u8]) -> Result<u8, Failure> {
    let (steps, decoded) = all(decoder, frame, bytes)?;
    let title = Style::new().bold();
    let part = decoder.part().clone();
    let model = part.frames().get(frame);
    let name = model.map_or("", |model| model.name());
    writeln!(out, "{title}{}{title:#}  frame {name} of {}", part.name(), counted(steps.bytes.len(), "byte"))?;
    if let Some(Origin::Modbus(range)) = model.map(|model| model.origin()) {
        let unit = part.buses().modbus.as_ref().map_or(1, |modbus| modbus.unit_or_first());
        modbus(out, range, unit, bytes)?;
    }
    diagram(out, &steps, &steps.bytes)?;
    codes(out, &part, &steps)?;
    let passed = checks(out, &steps)?;
    formulas(out, &steps, decoded.as_ref())?;
    Ok(u8::from(!passed))
}

/// Steps, with those of derived quantities last, and readings, unless the frame is refused.
fn all(decoder: &mut Decoder, frame: FrameId, bytes: &[u8]) -> Result<(Steps, Option<Decoded>), Failure> {
    let mut steps = decoder.steps(frame, bytes).map_err(|refusal| Failure::refused(refusal.to_string()))?;
    let decoded = decoder.decode(frame, bytes).ok();
    if decoded.is_some() {
        steps.readings.extend(decoder.derived_steps(frame));
    }
    Ok((steps, decoded))
}

/// The same as a line of JSON.
pub(crate) fn json(out: &mut dyn Write, decoder: &mut Decoder, frame: FrameId, bytes: &[u8]) -> Result<u8, Failure> {
    let (steps, decoded) = all(decoder, frame, bytes)?;
    let why = |name: &str| decoded.as_ref()?.reading(name).ok()?.why.clone();
    json_line(out, &StepsView::new(decoder.part(), &steps, decoded.as_ref(), &why))?;
    Ok(u8::from(steps.checks.iter().any(|check| check.expected != check.found)))
}

/// The request that a Modbus response answers, and the response itself, byte by byte.
fn modbus(out: &mut dyn Write, range: &AddressRange, unit: u8, bytes: &[u8]) -> Result<(), Failure> {
    let response = read_response(bytes, range, None).ok();
    let request = read_request(unit, range);
    let (request, line) = match response.map(|response| response.envelope) {
        Some(Envelope::Tcp { transaction }) => (request.over_tcp(transaction), "over TCP"),
        _ => (request, "as RTU"),
    };
    writeln!(out, "\n  the request, {line}")?;
    let mut grid = Grid::new(4, &[Align::Left, Align::Left]);
    let mut rest = request.bytes.as_slice();
    for (bytes, meaning) in &request.meaning {
        let (these, behind) = rest.split_at_checked(*bytes).unwrap_or((rest, &[]));
        grid.row(vec![to_hex(these).into(), meaning.as_str().into()]);
        rest = behind;
    }
    grid.write(out)?;
    let Some(response) = response else { return Ok(()) };
    writeln!(out, "\n  the response")?;
    let mut grid = Grid::new(4, &[Align::Left, Align::Left]);
    let head = response.at - 3;
    if let Envelope::Tcp { transaction } = response.envelope {
        grid.row(vec![
            to_hex(bytes.get(..head).unwrap_or(&[])).into(),
            format!("header: transaction {transaction}, protocol 0, length").into(),
        ]);
    }
    grid.row(vec![to_hex(bytes.get(head..head + 1).unwrap_or(&[])).into(), format!("unit {}", response.unit).into()]);
    grid.row(vec![to_hex(bytes.get(head + 1..head + 2).unwrap_or(&[])).into(), format!("function {}", range.table.read_function()).into()]);
    grid.row(vec![
        to_hex(bytes.get(head + 2..head + 3).unwrap_or(&[])).into(),
        format!("{} data bytes follow", response.data.len()).into(),
    ]);
    grid.row(vec![to_hex(response.data).into(), "data: the frame below".into()]);
    if response.envelope == Envelope::Rtu {
        grid.row(vec![
            to_hex(bytes.get(response.at + response.data.len()..).unwrap_or(&[])).into(),
            "CRC-16/MODBUS, low byte first: ok".into(),
        ]);
    }
    Ok(grid.write(out)?)
}

/// The bits of every byte, and below them, row by row, whose they are.
fn diagram(out: &mut dyn Write, steps: &Steps, bytes: &[u8]) -> Result<(), Failure> {
    let dim = Style::new().dimmed();
    let codes = steps.codes.iter().map(|code| code.value.name.len());
    let names = codes.chain(steps.checks.iter().map(|check| check.method.len())).max().unwrap_or(0).max(8);
    for (group, chunk) in bytes.chunks(BYTES_A_LINE).enumerate() {
        let from = group * BYTES_A_LINE;
        writeln!(out)?;
        let mut heads = String::new();
        let mut hexes = String::new();
        let mut ruler = String::new();
        let mut bits = String::new();
        for (at, byte) in chunk.iter().enumerate() {
            heads.push_str(&format!("{:10}", format!("b{}", from + at)));
            hexes.push_str(&format!("{:10}", format!("0x{byte:02X}")));
            ruler.push_str("76543210  ");
            bits.push_str(&format!("{byte:08b}  "));
        }
        writeln!(out, "  {:names$}  {}", "", heads.trim_end())?;
        writeln!(out, "  {:names$}  {}", "", hexes.trim_end())?;
        writeln!(out, "  {dim}{:names$}  {}{dim:#}", "bit", ruler.trim_end())?;
        writeln!(out, "  {:names$}  {}", "bits", bits.trim_end())?;
        for code in &steps.codes {
            mark(out, &code.value.name, names, &code.bits, chunk, from, AnsiColor::Cyan.on_default())?;
        }
        for check in &steps.checks {
            mark(out, &check.method, names, &check.place, chunk, from, AnsiColor::Magenta.on_default())?;
        }
    }
    Ok(())
}

/// One row of the diagram: the bits that are taken, dots for the others; nothing where none of this line is.
fn mark(out: &mut dyn Write, name: &str, width: usize, bits: &[[bool; 8]], chunk: &[u8], from: usize, style: Style) -> Result<(), Failure> {
    let dim = Style::new().dimmed();
    let mine: Vec<[bool; 8]> = (from..from + chunk.len()).map(|byte| bits.get(byte).copied().unwrap_or_default()).collect();
    if !mine.iter().flatten().any(|taken| *taken) {
        return Ok(());
    }
    let mut line = format!("  {name:width$}  ");
    for (byte, taken) in chunk.iter().zip(&mine) {
        for (at, taken) in taken.iter().enumerate() {
            let bit = (byte >> (7 - at)) & 1;
            if *taken {
                line.push_str(&format!("{style}{bit}{style:#}"));
            } else {
                line.push_str(&format!("{dim}·{dim:#}"));
            }
        }
        line.push_str("  ");
    }
    Ok(writeln!(out, "{}", line.trim_end())?)
}

fn codes(out: &mut dyn Write, part: &Part, steps: &Steps) -> Result<(), Failure> {
    writeln!(out)?;
    let mut grid = Grid::new(2, &[Align::Left, Align::Left, Align::Right, Align::Right, Align::Right, Align::Left]);
    grid.titles(&["code", "from", "joined", "hex", "decimal", "read as"]);
    for CodeStep { value, .. } in &steps.codes {
        let Some(layout) = part.codes().get(value.id).map(|code| code.layout()) else { continue };
        let width = layout.width();
        let (digits, bits) = (width.div_ceil(4) as usize, width as usize);
        if layout.form == Form::Text {
            let blank = || "".into();
            grid.row(vec![
                value.name.as_str().into(),
                layout.notation().into(),
                blank(),
                blank(),
                value.value.to_string().into(),
                "text".into(),
            ]);
            continue;
        }
        grid.row(vec![
            value.name.as_str().into(),
            layout.notation().into(),
            format!("{:0bits$b}", value.raw).into(),
            format!("0x{:0digits$X}", value.raw).into(),
            value.value.to_string().into(),
            format!("{}, {}", layout.form.name(), counted(width as usize, "bit")).into(),
        ]);
    }
    Ok(grid.write(out)?)
}

fn checks(out: &mut dyn Write, steps: &Steps) -> Result<bool, Failure> {
    let mut passed = true;
    for CheckStep { method, width, expected, found, over, place, outside } in &steps.checks {
        let digits = width.div_ceil(4) as usize;
        let ok = expected == found;
        passed &= ok;
        let (style, word) = if ok { (AnsiColor::Green.on_default(), "ok") } else { (AnsiColor::BrightRed.on_default().bold(), "FAILED") };
        writeln!(
            out,
            "\n  {method} over {}{}: computed 0x{expected:0digits$X}, received in {} 0x{found:0digits$X}: {style}{word}{style:#}",
            ranges(over),
            if outside.is_empty() { String::new() } else { format!(" with {}", outside.join(", ")) },
            ranges(place)
        )?;
    }
    Ok(passed)
}

/// The bytes in which some bit is taken, as runs.
fn ranges(bits: &[[bool; 8]]) -> String {
    let taken: Vec<usize> = bits.iter().enumerate().filter(|(_, bits)| bits.iter().any(|bit| *bit)).map(|(byte, _)| byte).collect();
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for byte in taken {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == byte => *last = byte,
            _ => runs.push((byte, byte)),
        }
    }
    let text = |(first, last): &(usize, usize)| if first == last { format!("b{first}") } else { format!("b{first}..b{last}") };
    runs.iter().map(text).collect::<Vec<_>>().join(" ")
}

/// The marks of compound assignment (C11 6.5.16).
const COMPOUND: [&str; 10] = ["+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=", "<<=", ">>="];

fn formulas(out: &mut dyn Write, steps: &Steps, decoded: Option<&Decoded>) -> Result<(), Failure> {
    let bold = Style::new().bold();
    for reading in &steps.readings {
        writeln!(out, "\n  {bold}{}{bold:#}", reading.name)?;
        for line in &reading.lines {
            // `p += x` names its variable itself; `p == x` and `p2 <= x` do not.
            let compound = |name: &&String| {
                let rest = line.typed.strip_prefix(name.as_str()).map_or("", str::trim_start);
                COMPOUND.iter().any(|mark| rest.starts_with(mark))
            };
            let name = line.variable.as_ref().filter(|name| !compound(name)).map_or(String::new(), |name| format!("{name} = "));
            let kind = line.value.map_or(String::new(), |value| match line.hex() {
                Some(hex) => format!("  ({}, {hex})", value.ty()),
                None => format!("  ({})", value.ty()),
            });
            writeln!(out, "    {name}{}", line.typed)?;
            let pad = " ".repeat(name.len());
            if line.numbers != line.typed {
                writeln!(out, "    {pad}{}", line.numbers)?;
            }
            writeln!(out, "    {pad}= {}{kind}", line.outcome())?;
        }
        let done = decoded.and_then(|decoded| decoded.reading(&reading.name).ok());
        let Some(done) = done else {
            // A value that readings share has no status of its own.
            reading.fault.iter().try_for_each(|fault| writeln!(out, "    {bold}no value{bold:#}  {fault}"))?;
            continue;
        };
        let text = done.value_text().unwrap_or_else(|| "no value".into());
        let mut cell = status_cell(done.status);
        if done.status == Status::Ok {
            cell = Cell { text: "ok".into(), style: AnsiColor::Green.on_default() };
        }
        let why = done.why.as_ref().map_or(String::new(), |why| format!(": {why}"));
        writeln!(out, "    {bold}{text}{bold:#}  {}{}{}{why}", cell.style.render(), cell.text, cell.style.render_reset())?;
    }
    // What could not be computed at all, and why.
    for reading in decoded.iter().flat_map(|decoded| &decoded.readings) {
        if !steps.readings.iter().any(|shown| shown.name == reading.name) {
            let why = reading.why.as_ref().map_or(String::new(), |why| format!(": {why}"));
            let text = reading.value_text().unwrap_or_else(|| "no value".into());
            writeln!(out, "\n  {bold}{}{bold:#}\n    {text}{why}", reading.name)?;
        }
    }
    Ok(())
}
