//! The routines of a module in Python.

use yemdo::Part;

use super::{Replay, replays};

/// Code shared by all modules.
pub const TOOLS: &str = include_str!("script.py");

/// The line that runs the test of a module and its routines.
pub fn line(part: &Part, text: &str, module: &str, seed: u64) -> String {
    let runs: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("class ")?.strip_suffix("Run:")).collect();
    let one = |replay: Replay| {
        let hex: String = replay.script.iter().map(|byte| format!("{byte:02x}")).collect();
        format!("(\"{}Run\", {:?}, \"{hex}\")", runs[replay.routine], replay.which)
    };
    // Where a routine is left out of the module, the places of the others are not known.
    let whole = runs.len() == part.routines().len();
    let all: Vec<String> = if whole { replays(part).into_iter().map(one).collect() } else { Vec::new() };
    format!("run({seed}, {module:?}, [{}])\n", all.join(", "))
}
