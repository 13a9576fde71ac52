//! Warnings for bits that are named like a status and that no condition uses.

use super::warnings::formulas;
use crate::ground::diagnostic::Diagnostic;
use crate::model::example::Subject;
use crate::model::frame::{Code, Frame};
use crate::model::ids::CodeId;
use crate::model::input::{Input, inputs};
use crate::model::part::Sheet;

/// Words in the names of status bits, with the condition (`!` for a bit that is 1 if all is well) and the status.
const WORDS: [(&[&str], &str, &str); 5] = [
    (&["ready", "rdy", "done", "drdy", "fresh"], "!", "not ready"),
    (&["busy", "pending", "stale"], "", "not ready"),
    (&["overflow", "ovf", "overrun", "overrange", "underrange", "saturated", "sat", "clipped", "clip"], "", "saturated"),
    (&["invalid", "absent", "open", "short"], "", "invalid"),
    (&["fault", "failed", "fail", "error", "err"], "", "fault"),
];

/// Widest code that is taken for a status bit.
const WIDEST: u32 = 2;

/// The code as a condition, and the status that its name suggests.
fn suggested(name: &str) -> Option<(String, &'static str)> {
    let lower = name.to_ascii_lowercase();
    let is_word = |words: &&[&str]| lower.split('_').any(|piece| words.contains(&piece));
    let (_, sign, status) = WORDS.iter().find(|(words, ..)| is_word(words))?;
    Some((format!("{sign}{name}"), status))
}

/// Status bits of frames with readings that no condition, formula, routine or example uses.
pub(super) fn status_bits(part: &Sheet) -> Vec<(CodeId, Diagnostic)> {
    let used: Vec<Input> = formulas(part).flat_map(inputs).collect();
    let expected = |id: CodeId| part.examples.iter().flat_map(|example| &example.gives).any(|(subject, ..)| *subject == Subject::Code(id));
    let is_used = |id: CodeId, code: &Code| {
        let of_field = |input: &Input| input.field().is_some_and(|field| code.field == Some(field));
        let same =
            |input: &Input| matches!(input, Input::Code(other) if part.codes[*other].field.is_some_and(|field| code.field == Some(field)));
        used.iter().any(|input| *input == Input::Code(id) || of_field(input) || same(input)) || expected(id)
    };
    let by_part = |code: &Code| code.field.is_none_or(|field| !part.fields[field].access.is_writable());
    let mut found: Vec<(CodeId, Diagnostic)> = Vec::new();
    for frame in part.frames.iter().filter(|frame: &&Frame| !frame.readings.is_empty()) {
        for id in frame.codes.iter().copied() {
            let code = &part.codes[id];
            let plain = code.layout.width() <= WIDEST && by_part(code) && !is_used(id, code);
            let Some((condition, status)) = suggested(&code.name).filter(|_| plain) else { continue };
            if found.iter().any(|(_, known)| known.span == code.span) {
                continue;
            }
            let text = format!("`{}` of `{}` is named like a status, and no condition uses it", code.name, frame.name);
            let problem = Diagnostic::warning("status-bit", code.span, text).label("readings are ok whatever it is");
            found.push((id, problem.help(format!("such as status = [{{ when = \"{condition}\", is = \"{status}\" }}]"))));
        }
    }
    found
}
