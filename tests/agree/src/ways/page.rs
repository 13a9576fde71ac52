//! Compares the calculators of pages with the decoder. A browser runs them, many sheets at a time.

use std::path::Path;
use std::process::Command;

use serde_json::{Value, json};
use yemdo::{Decoder, Digits, FrameId, Part};

use super::decode::decoder;
use crate::choices::{Choices, bytes_of};
use crate::{CASE_BYTES, SHEET_BYTES, cases, sheet};

/// Frames of each sheet.
const FRAMES: usize = 40;

/// The text between two others.
fn between<'t>(text: &'t str, before: &str, after: &str) -> &'t str {
    text.split_once(before).and_then(|(_, rest)| rest.split_once(after)).map_or("", |(inside, _)| inside)
}

/// A frame, the values it depends on, and its readings by the decoder.
fn case(part: &Part, tables: &Value, start: &Decoder, c: &mut Choices<'_>) -> Option<Value> {
    let mut decoder = start.clone();
    let frame = cases::frame_at(c.below(part.frames().len()));
    let item = |id: FrameId| {
        let name = part.frames().get(id)?.name();
        tables.as_array()?.iter().find(|item| item["kind"] == "frame" && item["name"] == name)
    };
    let mut others = serde_json::Map::new();
    for id in part.frames().ids().filter(|id| *id != frame) {
        let bytes = cases::frame(c, part, id);
        let model = part.frames().get(id)?;
        // The page takes all bytes of a frame.
        let is_whole = decoder.frame_bytes(id, &bytes).is_ok_and(|(_, count)| count == model.length());
        if item(id).is_some() && bytes.len() == model.length() && is_whole && decoder.decode(id, &bytes).is_ok() {
            others.insert(model.name().to_owned(), json!(bytes));
        }
    }
    let settings = item(frame)?["settings"].as_array()?.iter();
    let settings: serde_json::Map<String, Value> = settings
        .filter_map(|setting| {
            let field = part.fields().iter().nth(setting["id"].as_u64()? as usize)?;
            let code = decoder.state().value_of(field)?;
            let text = field.real(code).map_or_else(|| code.to_string(), |real| format!("{real}"));
            Some((setting["id"].to_string(), json!(text)))
        })
        .collect();
    let bytes = cases::frame(c, part, frame);
    let length = part.frames().get(frame)?.length();
    if bytes.len() != length || decoder.frame_bytes(frame, &bytes).ok()?.1 != length {
        return None;
    }
    let decoded = decoder.decode(frame, &bytes).ok()?;
    let measured = decoded.readings.iter().filter(|reading| part.readings().get(reading.id).is_some_and(|model| model.is_measured()));
    let expected: Vec<Value> = measured
        .map(|one| {
            let digits = match one.digits {
                Digits::Decimals(decimals) => json!({"decimals": decimals}),
                Digits::Significant(least) => json!({"least": least}),
                _ => Value::Null,
            };
            let mut text = String::new();
            one.value.into_iter().for_each(|value| one.digits.write(&mut text, value).unwrap());
            json!([one.name, one.value, one.status.as_str(), digits, text])
        })
        .collect();
    Some(json!({"frame": part.frames().get(frame)?.name(), "bytes": bytes, "others": others, "settings": settings, "expected": expected}))
}

/// The page's tables and script, and the cases of a sheet. `None` if the sheet has no frames.
fn sheet_of(seed: u64) -> Option<(Value, String)> {
    let text = sheet::random(&mut Choices::new(&bytes_of(seed, SHEET_BYTES)));
    let part = Part::parse("sheet.toml", &text).ok().filter(|part| !part.frames().is_empty())?;
    let page = yemdo::emit::page(&part);
    let tables: Value = serde_json::from_str(between(&page, "type=\"application/json\">", "</script>")).ok()?;
    let compute = between(&page, "<script id=\"compute\">", "</script>").to_owned();
    let bytes = bytes_of(!seed, CASE_BYTES);
    let mut c = Choices::new(&bytes);
    // The page uses the default parameters.
    let mut start = decoder(&part, &mut c);
    for (id, parameter) in part.parameters().entries() {
        start.set_parameter(id, parameter.default).ok()?;
    }
    let found: Vec<Value> = (0..FRAMES).filter_map(|_| case(&part, &tables, &start, &mut c)).collect();
    Some((json!({"seed": seed, "tables": tables, "cases": found}), compute))
}

const COMPARE: &str = r#"
const bitsOf = bytes => bytes.flatMap(byte => [...byte.toString(2).padStart(8, "0")].map(Number));
let compared = 0;
const wrong = [];
for (const { seed, tables, cases } of all) for (const one of cases) {
  const item = tables.find(item => item.kind === "frame" && item.name === one.frame);
  const codeOf = id => one.settings[id] === undefined ? null : /^-?\d+$/.test(one.settings[id]) ? BigInt(one.settings[id]) : Number(one.settings[id]);
  const got = Compute.readings(item, bitsOf(one.bytes), name => name in one.others ? bitsOf(one.others[name]) : null, codeOf);
  const near = (x, y) => x === y || (x !== null && y !== null && Math.abs(x - y) <= 1e-9 * Math.max(Math.abs(x), Math.abs(y)));
  item.readings.forEach((reading, at) => {
    const known = one.expected.find(([name]) => name === reading.name);
    compared += 2;
    // With other settings other digits may be shown.
    const alike = known && known[1] !== null && got[at].value === known[1] && JSON.stringify(reading.digits) === JSON.stringify(known[3]);
    compared += alike ? 1 : 0;
    const text = alike ? Compute.shown(reading.digits, got[at].value) : "";
    if (alike && text !== known[4]) wrong.push([seed, one.frame, reading.name, text, known]);
    if (!known || !near(got[at].value, known[1]) || got[at].status !== known[2]) wrong.push([seed, one.frame, one.bytes.map(byte => byte.toString(16)).join(" "), reading.name, got[at], known]);
  });
}
document.body.textContent = JSON.stringify({ compared, wrong: wrong.slice(0, 20), count: wrong.length });
"#;

/// Runs the calculators of many sheets in a browser. Returns the number of comparisons and the first differences.
pub fn calculators(folder: &Path, from: u64, count: u64) -> Result<(u64, Vec<String>), String> {
    let sheets: Vec<(Value, String)> = (from..from + count).filter_map(sheet_of).collect();
    let compute = sheets.first().map_or("", |(_, compute)| compute.as_str());
    let all = Value::Array(sheets.iter().map(|(sheet, _)| sheet.clone()).collect()).to_string().replace('<', "\\u003c");
    std::fs::create_dir_all(folder).map_err(|error| error.to_string())?;
    let page = folder.join("calculators.html");
    let text = format!("<!DOCTYPE html><meta charset=\"utf-8\"><body><script>{compute}\nconst all = {all};\n{COMPARE}</script></body>");
    std::fs::write(&page, text).map_err(|error| error.to_string())?;
    let mut browser = Command::new("chromium");
    browser.args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-background-networking", "--no-first-run", "--dump-dom"]);
    let done = browser.arg(format!("file://{}", page.display())).output().map_err(|error| format!("no browser: {error}"))?;
    let dom = String::from_utf8_lossy(&done.stdout).into_owned();
    let told = between(&dom, "<body>", "</body>").replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
    let told: Value =
        serde_json::from_str(&told).map_err(|error| format!("the browser says: {error}: {}", &told[..told.len().min(200)]))?;
    let wrong = told["wrong"].as_array().into_iter().flatten().map(Value::to_string).collect();
    Ok((told["compared"].as_u64().unwrap_or(0), wrong))
}
